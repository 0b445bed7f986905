"""The formats of `apk`: versions against a plain loop, relations, records, protected paths, the log."""

import random
import re
from datetime import UTC, datetime
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.formats.apk.log import read_log, read_runs
from filigree.formats.apk.protection import (
    USUAL,
    ProtectedPath,
    Protection,
    protection_of,
    read_protected,
)
from filigree.formats.apk.records import (
    LetteredRecord,
    parse_digest,
    parse_rights,
    read_record,
    read_records,
    written_digest,
)
from filigree.formats.apk.relations import PackageRelation, parse_relation, relations_in
from filigree.formats.apk.versions import (
    begins,
    compare_versions,
    is_version,
    order,
    sort_key,
    split_version,
)
from filigree.formats.damage import Damage
from filigree.formats.relation_error import RelationError
from filigree.model.events import Action, Outcome
from filigree.model.needs import Comparison, Term

# -- versions, by a plain loop ---------------------------------------------------------------

EARLY, LATE = ["alpha", "beta", "pre", "rc"], ["cvs", "svn", "git", "hg", "p"]


def pieces(version: str) -> list[tuple[str, str]]:
    """A version cut into parts, a sign at a time: sort and text of each."""
    found: list[tuple[str, str]] = []
    at = 0

    def run(allowed: str) -> str:
        nonlocal at
        start = at
        while at < len(version) and version[at] in allowed:
            at += 1
        return version[start:at]

    found.append(("first", run("0123456789")))
    while version[at : at + 1] == ".":
        at += 1
        found.append(("number", run("0123456789")))
    if version[at : at + 1].isalpha():
        found.append(("letter", version[at]))
        at += 1
    while version[at : at + 1] == "_":
        at += 1
        found.append(("suffix", run("abcdefghijklmnopqrstuvwxyz")))
        if digits := run("0123456789"):
            found.append(("suffix number", digits))
    if version[at : at + 1] == "~":
        at += 1
        found.append(("commit", run("0123456789abcdef")))
    if version[at : at + 2] == "-r":
        at += 2
        found.append(("revision", run("0123456789")))
    assert at == len(version), version
    return [*found, ("end", "")]


SORTS = ["first", "number", "letter", "suffix", "suffix number", "commit", "revision", "end"]


def plainly(one: str, other: str) -> int:
    """The published rule, part by part."""
    for (sort, text), (other_sort, other_text) in zip(pieces(one), pieces(other), strict=False):
        if sort != other_sort:
            if sort == "suffix" and text in EARLY:
                return -1
            if other_sort == "suffix" and other_text in EARLY:
                return 1
            return -1 if SORTS.index(sort) > SORTS.index(other_sort) else 1
        if sort == "end":
            return 0
        if sort == "suffix":
            a: int | str = [*EARLY, *LATE].index(text)
            b: int | str = [*EARLY, *LATE].index(other_text)
        elif sort in ("letter", "commit") or (sort == "number" and "0" in (text[0], other_text[0])):
            a, b = text, other_text
        else:
            a, b = int(text), int(other_text)
        if a != b:
            return -1 if a < b else 1  # type: ignore[operator]
    raise AssertionError("two versions without an end")


def some_version(dice: random.Random) -> str:
    def digits() -> str:
        return dice.choice(["0", "1", "2", "9", "10", "01", "00", "010", "123", "20260112"])

    text = digits() + "".join(f".{digits()}" for _ in range(dice.randrange(4)))
    text += dice.choice(["", "", "", "a", "b", "z"])
    for _ in range(dice.choice([0, 0, 0, 1, 1, 2])):
        text += f"_{dice.choice(EARLY + LATE)}{dice.choice(['', digits()])}"
    text += dice.choice(["", "", "", "~1a", "~1ab", "~2"])
    return text + dice.choice(["", "-r0", "-r1", "-r10", "-r2"])


def test_a_hundred_thousand_pairs_of_versions() -> None:
    dice = random.Random("sallow coast")
    seen = {-1: 0, 0: 0, 1: 0}
    for _ in range(100_000):
        one = some_version(dice)
        # Most pairs that are drawn apart differ at once: every other one is alike up to its end.
        other = some_version(dice)
        if dice.random() < 0.03:
            other = one
        elif dice.random() < 0.6:
            cut = dice.randrange(1, len(one) + 1)
            mended = one[:cut] + other[min(cut, len(other) - 1) :]
            other = mended if is_version(mended) else other
        expected = plainly(one, other)
        seen[expected] += 1
        assert compare_versions(one, other) == expected, (one, other)
        keys = sort_key(one).encode(), sort_key(other).encode()
        assert (keys[0] > keys[1]) - (keys[0] < keys[1]) == expected, (one, other)
        assert order(one, other) == expected
    assert min(seen.values()) > 1000, seen


RISING = [
    "1.0_alpha", "1.0_alpha1", "1.0_alpha1_p2", "1.0_beta", "1.0_pre3", "1.0_rc", "1.0_rc1", "1.0",
    "1.0-r0", "1.0-r2", "1.0-r10", "1.0~1a", "1.0_cvs", "1.0_git20260112", "1.0_p", "1.0_p-r1", "1.0_p0",
    "1.0_p1", "1.0_p1-r1", "1.0_p10", "1.0a", "1.0b", "1.0.0", "1.0.00", "1.0.01", "1.0.010", "1.0.1",
    "1.0.1.0", "1.0.9", "1.0.10", "1.01", "1.1", "1.9", "1.10", "2", "10",
]  # fmt: skip


def test_an_order_written_by_hand() -> None:
    assert sorted(RISING, key=sort_key) == RISING
    assert all(plainly(a, b) == -1 for a, b in pairwise(RISING))


@pytest.mark.parametrize(
    "text",
    ["", "1.", "v1", "1.0_foo", "1.0-1", "1.0-r", "1..0", "1.0A", "1.0~G", "1.0-r1-r2", "1 "],
)
def test_what_is_no_version_is_said_to_be_none(text: str) -> None:
    assert not is_version(text)
    assert order(text, "1.0") is None
    assert order(text, text) == 0
    assert compare_versions(text, "0_alpha") == -1


@given(st.text("0123456789.abc_lphr~-", max_size=12), st.text("0123456789.abc_lphr~-", max_size=12))
def test_the_order_of_whatever_text_is_one(one: str, other: str) -> None:
    assert compare_versions(one, other) == -compare_versions(other, one)
    assert (compare_versions(one, other) == 0) <= (sort_key(one) == sort_key(other))


def test_what_a_version_begins_with_is_what_its_first_parts_are() -> None:
    dice = random.Random("begins")
    told = {True: 0, False: 0}
    for _ in range(20_000):
        version, beginning = some_version(dice), some_version(dice)
        if dice.random() < 0.5:
            cut = dice.randrange(1, len(version) + 1)
            beginning = version[:cut] if is_version(version[:cut]) else beginning
        wanted, there = pieces(beginning)[:-1], pieces(version)
        expected = len(there) > len(wanted) and all(
            plainly_same(a, b) for a, b in zip(wanted, there, strict=False)
        )
        told[expected] += 1
        assert begins(version, beginning) is expected, (version, beginning)
    assert min(told.values()) > 1000


def plainly_same(one: tuple[str, str], other: tuple[str, str]) -> bool:
    if one[0] != other[0]:
        return False
    by_value = one[0] in ("first", "suffix number", "revision") or (
        one[0] == "number" and "0" not in (one[1][0], other[1][0])
    )
    return int(one[1]) == int(other[1]) if by_value else one[1] == other[1]


def test_the_parts_of_a_version() -> None:
    assert split_version("2.1_p3-r12") == (None, "2.1_p3", "r12")
    assert split_version("20260112") == (None, "20260112", None)
    assert split_version("1.0-rc") == (None, "1.0-rc", None)


# -- relations -------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("brine", PackageRelation(Term("brine"))),
        ("brine>=2.1-r0", PackageRelation(Term("brine", Comparison.AT_LEAST, "2.1-r0"))),
        ("brine<2", PackageRelation(Term("brine", Comparison.LESS, "2"))),
        ("brine=2.1", PackageRelation(Term("brine", Comparison.EQUAL, "2.1"))),
        ("brine~2.1", PackageRelation(Term("brine", Comparison.PREFIX, "2.1"))),
        ("brine=~2.1", PackageRelation(Term("brine", Comparison.PREFIX, "2.1"))),
        ("brine~=2.1", PackageRelation(Term("brine", Comparison.PREFIX, "2.1"))),
        ("!brine", PackageRelation(Term("brine"), away=True)),
        ("!brine<2", PackageRelation(Term("brine", Comparison.LESS, "2"), away=True)),
        ("brine@shoal", PackageRelation(Term("brine"), tag="shoal")),
        ("brine@shoal>2", PackageRelation(Term("brine", Comparison.GREATER, "2"), tag="shoal")),
        ("brine>2@shoal", PackageRelation(Term("brine", Comparison.GREATER, "2"), tag="shoal")),
        ("brine><Q1abc=", PackageRelation(Term("brine"), identity="Q1abc=")),
        (
            "so:libbrine.so.2=2.1",
            PackageRelation(Term("so:libbrine.so.2", Comparison.EQUAL, "2.1")),
        ),
        (".station-tools=2", PackageRelation(Term(".station-tools", Comparison.EQUAL, "2"))),
    ],
)
def test_a_relation(text: str, expected: PackageRelation) -> None:
    assert parse_relation(text) == expected


@pytest.mark.parametrize(
    "text", ["", "!", "=1", "a=", "a>=", "a b", "a@", "a!b", "a=1=2@", "x" * 5000]
)
def test_no_relation(text: str) -> None:
    with pytest.raises(RelationError):
        parse_relation(text)
    if " " not in text:
        assert all(isinstance(one, RelationError) for one in relations_in(text))


# -- records ---------------------------------------------------------------------------------

INSTALLED = b"""C:Q1L9ThxnotKPzthJ7hu3bnORuT6xI=
P:tidegauge
V:2.1-r3
A:x86_64
D:libbrine2>=2.1 so:libsaltc.so.6
F:
F:usr
F:usr/bin
M:0:0:1777
R:tidegauge
a:0:950:4755
Z:Q1L9ThxnotKPzthJ7hu3bnORuT6xI=
R:tg
a:0:0:777
Z:Q2n4bQgYhMfWWaL+qgxVrQFaO/TxsrC4Is0V1sFbDwCgg=
F:etc
R:plain
"""


def test_a_record_with_its_paths() -> None:
    (record,) = read_records([INSTALLED[:40], INSTALLED[40:], b"\n"])
    assert isinstance(record, LetteredRecord)
    assert record.damages == ()
    assert record.fields["D"] == "libbrine2>=2.1 so:libsaltc.so.6"
    told = {one.path: one for one in record.paths}
    assert list(told) == [
        "",
        "usr",
        "usr/bin",
        "usr/bin/tidegauge",
        "usr/bin/tg",
        "etc",
        "etc/plain",
    ]
    assert (told["usr/bin"].mode, told["usr/bin"].is_directory) == (0o1777, True)
    gauge = told["usr/bin/tidegauge"]
    assert (gauge.mode, gauge.owner, gauge.group) == (0o4755, "#0", "#950")
    assert gauge.digest == "sha1:2fd4e1c67a2d28fced849ee1bb76e7391b93eb12"
    assert (told["usr/bin/tg"].digest or "").startswith("sha256:9f86d081884c7d65")
    assert (told["etc/plain"].mode, told["etc/plain"].digest) == (None, None)


@pytest.mark.parametrize(
    ("line", "why"),
    [
        (b"R:lost", "without a directory"), (b"F:usr\nR:../up", "no name"), (b"F:usr\nR:", "no name"),
        (b"F:usr\nR:a\nZ:Q1short", "no digest"), (b"F:usr\nR:a\na:0:0", "no rights"),
        (b"F:usr\nZ:Q1L9ThxnotKPzthJ7hu3bnORuT6xI=", "without what it is of"), (b"nonsense", "letter"),
        (b"F:usr\nR:a\nM:0:0:755", "without what it is of"), (b"F:usr\nR:..", "no name"),
        (b"F:usr\nM:0:0:755\nM:0:0:777", "M twice"),
    ],
)  # fmt: skip
def test_a_line_that_makes_no_sense_costs_itself(line: bytes, why: str) -> None:
    first = read_record("P:a\nV:1")
    (record,) = read_records([b"P:a\nV:1\n" + line + b"\n"])
    assert isinstance(record, LetteredRecord)
    assert record.fields == first.fields
    (damage,) = record.damages
    assert why in damage.why
    assert damage.line == 3 + line.count(b"\n")


def test_a_record_that_is_too_long_is_damage(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("filigree.formats.apk.records.RECORD_LIMIT", 100)
    found = list(read_records([b"P:a\nV:1\n\n", b"P:b\n" + b"T:x\n" * 60, b"\nP:c\nV:1\n"]))
    assert [type(one) for one in found] == [LetteredRecord, Damage, LetteredRecord]


@pytest.mark.parametrize(
    "text",
    [
        "",
        "Q1",
        "Q3L9ThxnotKPzthJ7hu3bnORuT6xI=",
        "Q1L9Thx",
        "L9Th",
        "Q1L9ThxnotKPzthJ7hu3bnORuT6xI",
    ],
)
def test_no_digest(text: str) -> None:
    with pytest.raises(ValueError, match="no digest"):
        parse_digest(text)


@given(st.binary(min_size=20, max_size=20))
def test_a_digest_as_records_write_it(data: bytes) -> None:
    told = f"sha1:{data.hex()}"
    assert parse_digest(written_digest(told)) == told
    with pytest.raises(ValueError, match="no form"):
        written_digest(f"md5:{data.hex()}")


@pytest.mark.parametrize("text", ["", "0:0", "0:0:8", "-1:0:755", "0:0:755:Q1x", "0:0:7777777"])
def test_no_rights(text: str) -> None:
    with pytest.raises(ValueError, match=r"no rights|no digest"):
        parse_rights(text)


# -- what is protected -----------------------------------------------------------------------


def test_the_last_line_that_fits_counts() -> None:
    lines = read_protected(
        b"# said by the keeper\n+srv/tides\n-etc/tidegauge\n@etc/links\n!etc/tidegauge/log*\n"
        b"nonsense\n+\n"
    )
    told = [one for one in lines if isinstance(one, ProtectedPath)]
    assert [one.line for one in lines if isinstance(one, Damage)] == [6, 7]
    of = {
        path: protection_of(path, [*USUAL, *told])
        for path in ("etc/a", "etc/init.d/a", "etc/apk/world", "srv/tides/x", "srv/tidesx",
                     "etc/tidegauge/gauge.conf", "etc/tidegauge/log.1", "etc/links/a", "usr/bin/a")
    }  # fmt: skip
    assert list(of.values()) == [
        Protection.KEPT, Protection.REPLACED, Protection.REPLACED, Protection.KEPT, Protection.REPLACED,
        Protection.REPLACED, Protection.IGNORED, Protection.LINKS_KEPT, Protection.REPLACED,
    ]  # fmt: skip


def test_a_wild_sign_stops_at_a_slash() -> None:
    (line,) = read_protected(b"+srv/*/keep\n")
    assert isinstance(line, ProtectedPath)
    assert protection_of("srv/a/keep/x", [line]) is Protection.KEPT
    assert protection_of("srv/a/b/keep", [line]) is Protection.REPLACED


def test_an_expression_of_many_stars_takes_no_time() -> None:
    (line,) = read_protected(b"+" + b"*a" * 400 + b"\n")
    assert isinstance(line, ProtectedPath)
    assert protection_of("a" * 4000 + "b", [line]) is Protection.REPLACED


# -- the log ---------------------------------------------------------------------------------

LOG = b"""Running `station-keep add tidegauge` at 2026-01-12 08:30:00
(1/2) Installing libbrine2 (2.1.4-r3)
(2/2) Installing tidegauge (2.1-r2)
OK: 2 packages

Running `station-keep upgrade` at 2026-02-01 09:00:00
(1/3) Upgrading tidegauge (2.1-r2 -> 2.1-r3)
(2/3) Purging oldgauge (1.9-r8)
(3/3) Downgrading foghorn (3.3-r0 -> 3.2.0-r1)
1 error; 3 packages

Running `station-keep fix` at never
(1/1) Reinstalling siltmeter (0.3.9-r1)
"""


def test_what_a_log_tells() -> None:
    steps = [(one.action, one.name, one.version, one.at and one.at.day) for one in read_log(LOG)]
    assert steps == [
        (Action.INSTALLED, "libbrine2", "2.1.4-r3", 12), (Action.INSTALLED, "tidegauge", "2.1-r2", 12),
        (Action.REPLACED, "tidegauge", "2.1-r2", 1), (Action.INSTALLED, "tidegauge", "2.1-r3", 1),
        (Action.REMOVED, "oldgauge", "1.9-r8", 1), (Action.REPLACED, "foghorn", "3.3-r0", 1),
        (Action.INSTALLED, "foghorn", "3.2.0-r1", 1), (Action.REPLACED, "siltmeter", "0.3.9-r1", 1),
        (Action.INSTALLED, "siltmeter", "0.3.9-r1", 1),
    ]  # fmt: skip
    assert {one.name for one in read_log(LOG, {"foghorn"})} == {"foghorn"}
    runs = list(read_runs(LOG))
    assert [(run.command, run.outcome) for run in runs] == [
        ("station-keep add tidegauge", Outcome.COMPLETED), ("station-keep upgrade", Outcome.FAILED),
    ]  # fmt: skip
    assert runs[0].began == datetime(2026, 1, 12, 8, 30, tzinfo=UTC)
    assert list(read_runs(b"")) == []
    offsets = [one.offset for one in read_log(LOG)]
    assert all(re.match(rb"\(\d", LOG[at:]) for at in offsets)
