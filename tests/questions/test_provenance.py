"""The chain from a file to a key, link by link; each link is broken once."""

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from filigree.demo.archives import BROKEN, CUT_OFF, MISNAMED, STRANGE, UNSIGNED
from filigree.demo.heron import DOCTORED
from filigree.demo.repository import STRANGER, public_key
from filigree.families.deb import places
from filigree.model.files import Evidence
from filigree.model.signatures import SignatureVerdict
from filigree.questions.commands.provenance import Holds, Provenance, provenance
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system

KEYS = "usr/share/keyrings/coast.asc"
WHOLE = "/usr/bin/ropewalk"


def chain(root: Path, subject: str, **options: object) -> Provenance:
    with open_system(str(root)) as system:
        (row,) = provenance(system, [subject], **options).records  # type: ignore[arg-type]
    return row


def verdicts(row: Provenance) -> dict[str, Holds]:
    return {one.link: one.verdict for one in row.links}


def test_a_whole_chain_of_the_first_family(heron: Path) -> None:
    row = chain(heron, WHOLE)
    assert [one.link for one in row.links] == [
        "file", "record", "archive", "signature of the archive", "index entry", "index",
        "signed index", "key",
        "keyring file",
    ]  # fmt: skip
    absent = {name for name, verdict in verdicts(row).items() if verdict is Holds.ABSENT}
    assert absent == {"record", "signature of the archive"}
    assert (row.whole, row.breaks_at, row.evidence) == (True, None, Evidence.SIGNED)


def test_a_whole_chain_of_the_second_family(curlew: Path) -> None:
    row = chain(curlew, "/usr/bin/siltmeter")
    assert verdicts(row)["record"] is Holds.YES
    assert row.whole
    assert row.evidence is Evidence.SIGNED


def archive_of(root: Path, name: str) -> Path:
    (path,) = (root / places.ARCHIVES.lstrip("/")).glob(f"{name}_*.deb")
    return path


def index_of(root: Path) -> Path:
    return next((root / "var/lib/apt/lists").glob("*saltmarsh_main_binary-amd64_Packages"))


def release_of(root: Path) -> Path:
    return next((root / "var/lib/apt/lists").glob("*saltmarsh_InRelease"))


def flip(path: Path, at: int) -> None:
    data = bytearray(path.read_bytes())
    data[at] ^= 1
    path.write_bytes(bytes(data))


def swap_digest(root: Path) -> None:
    record = root / f"{places.INFO.lstrip('/')}/ropewalk.md5sums"
    record.write_text(record.read_text().replace("  usr/bin/ropewalk", "x  usr/bin/ropewalk", 0))
    lines = record.read_text().split("\n")
    record.write_text(
        "\n".join("0" * 32 + one[32:] if one.endswith("/ropewalk") else one for one in lines)
    )


DEEDS: dict[str, tuple[Callable[[Path], object], str, Holds]] = {
    "file": (lambda root: flip(root / WHOLE[1:], 40), "file", Holds.BROKEN),
    "record": (swap_digest, "archive", Holds.BROKEN),
    "archive": (lambda root: flip(archive_of(root, "ropewalk"), -3), "archive", Holds.ABSENT),
    "no archive": (lambda root: archive_of(root, "ropewalk").unlink(), "archive", Holds.ABSENT),
    "index": (lambda root: flip(index_of(root), 30), "archive", Holds.YES),
    "signed index": (lambda root: flip(release_of(root), 120), "archive", Holds.YES),
    "no signed index": (lambda root: release_of(root).unlink(), "archive", Holds.YES),
    "keyring": (lambda root: (root / KEYS).unlink(), "signed index", Holds.ABSENT),
    "other keyring": (
        lambda root: (root / KEYS).write_bytes(public_key(STRANGER)), "signed index", Holds.ABSENT,
    ),
}  # fmt: skip


@pytest.mark.parametrize("deed", DEEDS)
def test_where_the_chain_breaks(own_heron: Path, deed: str) -> None:
    do, link, verdict = DEEDS[deed]
    do(own_heron)
    row = chain(own_heron, WHOLE)
    assert not row.whole
    assert verdicts(row)[link] is verdict
    assert (row.breaks_at is not None) == (Holds.BROKEN in verdicts(row).values())
    assert row.breaks_at is not None or row.evidence is not Evidence.SIGNED


def test_the_doctored_record_is_where_it_breaks(heron: Path) -> None:
    row = chain(heron, DOCTORED)
    assert verdicts(row)["file"] is Holds.YES
    assert verdicts(row)["archive"] is Holds.BROKEN
    assert row.breaks_at
    assert "the local record of /usr/bin/siltmeter was changed" in row.breaks_at
    # What is behind the break is told: it says what the file should have been.
    assert verdicts(row)["keyring file"] is Holds.YES


def test_the_forged_record_is_where_it_breaks(curlew: Path) -> None:
    row = chain(curlew, "lockgate")
    assert verdicts(row)["files"] is Holds.YES
    assert verdicts(row)["record"] is Holds.BROKEN
    assert not row.whole


@pytest.mark.parametrize(
    ("name", "signature", "link", "whole"),
    [
        ("tidegauge-2.2-1.x86_64.rpm", SignatureVerdict.GOOD, Holds.YES, True),
        (MISNAMED, SignatureVerdict.GOOD, Holds.YES, True),
        (STRANGE, SignatureVerdict.UNKNOWN_KEY, Holds.ABSENT, False),
        (BROKEN, SignatureVerdict.BAD, Holds.BROKEN, False),
        (CUT_OFF, SignatureVerdict.BAD, Holds.BROKEN, False),
        (UNSIGNED, SignatureVerdict.NONE, Holds.ABSENT, False),
    ],
)
def test_archives(
    curlew: Path,
    archives: dict[str, Path],
    name: str,
    signature: SignatureVerdict,
    link: Holds,
    whole: bool,
) -> None:
    row = chain(curlew, str(archives[name]))
    assert row.signature is signature
    assert verdicts(row)["signature of the archive"] is link
    assert row.whole is whole


def test_where_a_missing_key_would_be_put(curlew: Path, archives: dict[str, Path]) -> None:
    detail = {one.link: one.detail for one in chain(curlew, str(archives[STRANGE])).links}
    assert "/etc/pki/rpm-gpg" in detail["signature of the archive"]


def test_the_auditors_keys_find_what_the_root_lacks(
    curlew: Path, archives: dict[str, Path], tmp_path: Path
) -> None:
    mine = tmp_path / "mine.asc"
    mine.write_bytes(public_key(STRANGER))
    options = RepositoryOptions(keyring=(str(mine),))
    assert chain(curlew, str(archives[STRANGE]), options=options).whole
    row = chain(curlew, str(archives["tidegauge-2.2-1.x86_64.rpm"]), options=options)
    assert not row.whole
    assert any("only the root holds it" in one.detail for one in row.links)


def test_a_signature_beside_an_archive(
    heron: Path, archives: dict[str, Path], tmp_path: Path
) -> None:
    from filigree.demo.repository import detached

    archive = tmp_path / "lanternfish_0.3-1_amd64.deb"
    shutil.copyfile(archives[archive.name], archive)
    assert chain(heron, str(archive)).signature is SignatureVerdict.NONE
    archive.with_name(f"{archive.name}.asc").write_bytes(detached(archive.read_bytes()))
    assert chain(heron, str(archive)).whole
    archive.with_name(f"{archive.name}.asc").write_bytes(detached(b"another"))
    assert chain(heron, str(archive)).signature is SignatureVerdict.BAD


@pytest.mark.parametrize(("ending", "parts"), [(".sig", True), (".asc", False)])
def test_a_signature_beside_an_archive_at_an_address(
    heron: Path, archives: dict[str, Path], tmp_path: Path, ending: str, parts: bool
) -> None:
    from filigree.demo.repository import detached
    from filigree.demo.server import serving

    archive = tmp_path / "lanternfish_0.3-1_amd64.deb"
    shutil.copyfile(archives[archive.name], archive)
    beside = archive.with_name(archive.name + ending)
    with serving(tmp_path) as server:
        server.manners.ranges = parts
        address = f"{server.address}/{archive.name}"
        assert chain(heron, address).signature is SignatureVerdict.NONE
        beside.write_bytes(detached(archive.read_bytes()))
        assert chain(heron, f"{address}").whole
        beside.write_bytes(detached(b"another"))
        assert chain(heron, address).signature is SignatureVerdict.BAD
        beside.write_bytes(b"<html>no such thing</html>")
        assert chain(heron, address).signature not in (SignatureVerdict.GOOD, SignatureVerdict.NONE)
        beside.write_bytes(bytes(2 << 20))
        assert not chain(heron, address).whole


def test_what_is_of_nobody_has_no_chain(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = provenance(system, ["/usr/sbin/gullcheck", "nothing"])
    assert not answer.records
    assert len(answer.notes) == 2
    assert answer.exit_status == 1
