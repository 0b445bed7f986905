"""Which keys a root trusts, for what, and which it lacks."""

from pathlib import Path

import pytest

from filigree.demo.heron import ADDED_KEY, KEYRING
from filigree.demo.repository import STRANGER, public_key
from filigree.families.deb import places
from filigree.formats.openpgp_keys import read_keys
from filigree.model.errors import BadQuestion
from filigree.questions.commands.keys import KeyRow, keys
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system
from tests.making import DebRoot

OFFICE = read_keys(public_key(), "")[0].fingerprint
STRANGERS = read_keys(public_key(STRANGER), "")[0].fingerprint


def held(root: Path | str, **options: object) -> list[KeyRow]:
    with open_system(str(root)) as system:
        return keys(system, **options).records  # type: ignore[arg-type]


def test_what_heron_trusts(heron: Path) -> None:
    rows = {row.file: row for row in held(heron)}
    assert set(rows) == {KEYRING, ADDED_KEY}
    office, added = rows[KEYRING], rows[ADDED_KEY]
    assert office.fingerprint == OFFICE
    assert not office.everything
    assert {name.rpartition("/")[2] for name in office.scope} == {
        "coast saltmarsh main", "coast saltmarsh-urgent main", "coast saltmarsh-trials main",
    }  # fmt: skip
    # Every entry names its key: what is trusted for everything else has nothing to sign, and
    # is told.
    assert (added.fingerprint, added.everything, added.scope) == (STRANGERS, True, [])


def test_what_was_imported_at_curlew(curlew: Path) -> None:
    imported, named = held(curlew)
    assert imported.everything
    assert imported.file
    assert imported.file.startswith("gpg-pubkey-")
    assert named.file == "/etc/pki/rpm-gpg/coast.asc"
    assert named.scope == ["coast-base"]


def test_a_keyring_of_ones_own_shows_what_only_the_root_holds(heron: Path, tmp_path: Path) -> None:
    mine = tmp_path / "office.asc"
    mine.write_bytes(public_key())
    rows = held(heron, options=RepositoryOptions(keyring=(str(mine),)))
    assert {(row.fingerprint, row.held_by) for row in rows} == {
        (OFFICE, "both"),
        (STRANGERS, "root"),
    }


def test_an_empty_keyring_is_no_question(heron: Path, tmp_path: Path) -> None:
    with pytest.raises(BadQuestion):
        held(heron, options=RepositoryOptions(keyring=(str(tmp_path),)))


def test_keys_that_are_needed(heron: Path, curlew: Path, tmp_path: Path) -> None:
    assert held(heron, needed=True) == []
    (row,) = held(curlew, needed=True)
    assert row.fingerprint in read_keys(public_key(STRANGER), "")[0].fingerprints
    assert row.held_by is None
    assert [name.rpartition("/")[2] for name in row.needed_by] == ["harbourlog-1.14-1.x86_64.rpm"]
    mine = tmp_path / "mine.asc"
    mine.write_bytes(public_key(STRANGER))
    rows = held(curlew, needed=True, options=RepositoryOptions(keyring=(str(mine),)))
    assert {row.held_by for row in rows} == {"root"}
    assert any("the record of" in name for name in rows[0].needed_by)


ENTRY = "Types: deb\nURIs: https://a.example/x\nSuites: first\nComponents: main\n"


def test_every_place_of_the_first_family(deb_root: DebRoot) -> None:
    inline = "".join(f" {line or '.'}\n" for line in public_key().decode().split("\n"))
    deb_root.package("a")
    deb_root.write(f"{places.SOURCES_PARTS}/a.sources", f"{ENTRY}Signed-By:\n{inline}")
    deb_root.write(f"{places.SOURCES_PARTS}/b.sources", ENTRY.replace("first", "two"))
    deb_root.write(
        f"{places.SOURCES_PARTS}/c.sources",
        ENTRY.replace("first", "three") + f"Signed-By: {STRANGERS}\n",
    )
    deb_root.write(places.TRUSTED, public_key(STRANGER))
    deb_root.write("/etc/apt/keyrings/unused.asc", public_key())
    deb_root.write("/usr/share/keyrings/broken.gpg", b"\x99\x01what?")
    deb_root.write(f"{places.ARCHIVE_KEYS}/507F/k.gpg", public_key())
    with open_system(deb_root.path) as system:
        answer = keys(system)
    rows = {row.file: row for row in answer.records}
    assert rows["the entry itself"].scope == ["a.example/x first main"]
    assert rows[places.TRUSTED].everything
    assert rows[places.TRUSTED].scope == ["a.example/x two main", "a.example/x three main"]
    assert not rows["/etc/apt/keyrings/unused.asc"].scope
    assert rows[f"{places.ARCHIVE_KEYS}/507F/k.gpg"].how == "for archives that are signed inside"
    assert [gap.what for gap in answer.gaps] == ["/usr/share/keyrings/broken.gpg"]
    assert answer.summary.without_use == 0  # each of the two keys is good for something
