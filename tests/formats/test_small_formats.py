"""The small formats: digest lists, diversions, overrides, rules, link groups, accounts, labels."""

import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.formats.accounts import read_accounts
from filigree.formats.damage import Damage
from filigree.formats.deb.layout import (
    Override,
    PathRule,
    read_diversions,
    read_overrides,
    read_path_rules,
)
from filigree.formats.digest_list import read_digest_list
from filigree.formats.link_groups import LinkGroup, read_link_group
from filigree.formats.os_release import read_os_release
from filigree.model.files import Relocation

ZEROS = "0" * 32
ONES = "1" * 32


def test_digests_by_path() -> None:
    found = read_digest_list(f"{ZEROS}  usr/bin/a\n{ONES}  usr/share/b c\n".encode())
    assert found.digests == {"usr/bin/a": f"md5:{ZEROS}", "usr/share/b c": f"md5:{ONES}"}
    assert found.damages == ()


@pytest.mark.parametrize(
    ("line", "why"),
    [
        ("not a digest at all", "a line that is no digest"),
        (f"{ZEROS} one-space", "a line that is no digest"),
        (f"{ZEROS[:-1]}  short", "a line that is no digest"),
        (f"{ZEROS}  ", "a line that is no digest"),
        (f"{ONES}  usr/bin/a", "a second digest for the same path"),
    ],
)
def test_a_line_that_is_no_digest_costs_itself(line: str, why: str) -> None:
    found = read_digest_list(f"{ZEROS}  usr/bin/a\n{line}\n{ONES}  usr/bin/z\n".encode())
    assert found.damages == (Damage(2, why),)
    assert found.digests == {"usr/bin/a": f"md5:{ZEROS}", "usr/bin/z": f"md5:{ONES}"}


def test_longer_digests_and_capitals_are_read() -> None:
    found = read_digest_list(f"{'A' * 32}  a\n{'b' * 64} *b\n".encode())
    assert found.digests == {"a": "md5:" + "a" * 32, "b": "sha256:" + "b" * 64}


def test_what_coreutils_writes_is_read(tmp_path: Path) -> None:
    if shutil.which("md5sum") is None:
        pytest.skip("md5sum is not here to write a list")
    for name in ("plain", "with space", "back\\slash", "line\nend"):
        (tmp_path / name).write_text(name)
    names = sorted(path.name for path in tmp_path.iterdir())
    made = subprocess.run(["md5sum", *names], cwd=tmp_path, capture_output=True, check=True)
    found = read_digest_list(made.stdout)
    assert sorted(found.digests) == names
    assert found.damages == ()


@given(st.binary(max_size=300))
def test_any_bytes_are_digests_or_damage(data: bytes) -> None:
    found = read_digest_list(data)
    assert len(found.digests) + len(found.damages) <= data.count(b"\n") + 1


def test_diversions() -> None:
    found, damages = read_diversions(b"/a\n/a.real\nkeeper\n/b\n/b.local\n:\n")
    assert found == [Relocation("/a", "/a.real", "keeper"), Relocation("/b", "/b.local", None)]
    assert damages == []
    found, damages = read_diversions(b"/a\n/a.real\nkeeper\n/cut\n")
    assert len(found) == 1
    assert damages == [Damage(4, "a diversion that is not three lines")]


def test_overrides() -> None:
    found, damages = read_overrides(b"root tide 4750 /usr/sbin/a b\nroot root 9 /x\nhalf\n")
    assert found == [Override("root", "tide", 0o4750, "/usr/sbin/a b")]
    assert [damage.line for damage in damages] == [2, 3]


def test_path_rules_keep_their_order() -> None:
    text = (
        b"# path-exclude=/no\npath-exclude=/usr/share/doc/*\n path-include = '/usr/share/doc/*/c'\n"
    )
    assert read_path_rules(text) == [
        PathRule(False, "/usr/share/doc/*"),
        PathRule(True, "/usr/share/doc/*/c"),
    ]


def test_a_link_group_ends_at_the_blank_line() -> None:
    text = b"auto\n/usr/bin/viewer\nviewer.1\n/usr/share/man/viewer.1\n\n/usr/bin/chart\n50\n\n"
    assert read_link_group("viewer", text) == LinkGroup(
        "viewer", {"viewer": "/usr/bin/viewer", "viewer.1": "/usr/share/man/viewer.1"}
    )


@given(st.binary(max_size=200))
def test_no_small_reader_fails(data: bytes) -> None:
    read_diversions(data)
    read_overrides(data)
    read_path_rules(data)
    read_link_group("x", data)
    read_accounts(data)
    read_os_release(data)


def test_accounts_and_labels() -> None:
    assert read_accounts(b"root:x:0:0::/:\nno\ntide:x:950:\nother:x:950:\n").names == {
        0: "root",
        950: "tide",
    }
    label = read_os_release(b"# no\nNAME=Coast\nPRETTY_NAME=\"Sallow 'Coast' 12\"\nBAD='\n")
    assert label == {"NAME": "Coast", "PRETTY_NAME": "Sallow 'Coast' 12"}
