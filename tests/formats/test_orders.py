"""The orders of versions against the plain loop of each published rule, sign by sign, on near pairs."""

import random
from collections.abc import Callable
from itertools import pairwise

import pytest

from filigree.formats.arch import versions as arch_versions
from filigree.formats.deb import versions as deb_versions
from filigree.formats.rpm import versions as rpm_versions
from filigree.formats.slackware import versions as slackware_versions

PAIRS = 100_000


def _digit(sign: str) -> bool:
    return "0" <= sign <= "9"


def _letter(sign: str) -> bool:
    return "a" <= sign <= "z" or "A" <= sign <= "Z"


def _sides(version: str, no_release: str | None) -> tuple[str, str, str | None]:
    """Epoch, version and release: digits and a colon in front, what follows the last hyphen behind."""
    at = 0
    while at < len(version) and _digit(version[at]):
        at += 1
    epoch, rest = "0", version
    if version[at : at + 1] == ":":
        epoch, rest = version[:at] or "0", version[at + 1 :]
    hyphen = rest.rfind("-")
    if hyphen < 0:
        return epoch, rest, no_release
    return epoch, rest[:hyphen], rest[hyphen + 1 :] or no_release


def _sign(number: int) -> int:
    return (number > 0) - (number < 0)


def deb_part(a: str, b: str) -> int:
    """Signs that are no digits one by one, the end as 0 and `~` below it; then digits by value."""

    def weight(text: str, at: int) -> int:
        sign = text[at : at + 1]
        if not sign or _digit(sign):
            return 0
        if sign == "~":
            return -1
        return ord(sign) if _letter(sign) else ord(sign) + 256

    i = j = 0
    while i < len(a) or j < len(b):
        while (i < len(a) and not _digit(a[i])) or (j < len(b) and not _digit(b[j])):
            if weight(a, i) != weight(b, j):
                return weight(a, i) - weight(b, j)
            i, j = i + 1, j + 1
        mine = theirs = ""
        while i < len(a) and _digit(a[i]):
            mine, i = mine + a[i], i + 1
        while j < len(b) and _digit(b[j]):
            theirs, j = theirs + b[j], j + 1
        if int(mine or "0") != int(theirs or "0"):
            return int(mine or "0") - int(theirs or "0")
    return 0


def deb_rule(one: str, other: str) -> int:
    (e, v, r), (f, w, s) = _sides(one, ""), _sides(other, "")
    return _sign(int(e) - int(f) or deb_part(v, w) or deb_part(r or "", s or ""))


def _run(text: str, at: int) -> str:
    """The run of digits, or of letters, that starts at a place."""
    kind = _digit if _digit(text[at]) else _letter
    end = at
    while end < len(text) and kind(text[end]):
        end += 1
    return text[at:end]


def _runs(mine: str, theirs: str) -> int:
    if _digit(mine[0]) != _digit(theirs[0]):
        return 1 if _digit(mine[0]) else -1
    if _digit(mine[0]):
        return int(mine) - int(theirs)
    return (mine > theirs) - (mine < theirs)


def rpm_part(a: str, b: str) -> int:
    i = j = 0
    while True:
        while i < len(a) and not (_digit(a[i]) or _letter(a[i]) or a[i] in "~^"):
            i += 1
        while j < len(b) and not (_digit(b[j]) or _letter(b[j]) or b[j] in "~^"):
            j += 1
        mine, theirs = a[i : i + 1], b[j : j + 1]
        if not mine and not theirs:
            return 0
        if "~" in (mine, theirs):
            if mine != theirs:
                return -1 if mine == "~" else 1
            i, j = i + 1, j + 1
        elif "^" in (mine, theirs):
            if mine != theirs:  # above the end, and below all that goes on
                return (1 if not theirs else -1) if mine == "^" else (-1 if not mine else 1)
            i, j = i + 1, j + 1
        elif not mine or not theirs:
            return 1 if mine else -1
        else:
            mine, theirs = _run(a, i), _run(b, j)
            if order := _runs(mine, theirs):
                return order
            i, j = i + len(mine), j + len(theirs)


def rpm_rule(one: str, other: str) -> int:
    (e, v, r), (f, w, s) = _sides(one, None), _sides(other, None)
    order = int(e) - int(f) or rpm_part(v, w)
    return _sign(order or (0 if r is None or s is None else rpm_part(r, s)))


def arch_part(a: str, b: str) -> int:
    if a == b:
        return 0
    i = j = 0
    while i < len(a) and j < len(b):
        start, begin = i, j
        while i < len(a) and not (_digit(a[i]) or _letter(a[i])):
            i += 1
        while j < len(b) and not (_digit(b[j]) or _letter(b[j])):
            j += 1
        if i == len(a) or j == len(b):
            break
        if i - start != j - begin:  # more dividing signs are newer
            return (i - start) - (j - begin)
        mine, theirs = _run(a, i), _run(b, j)
        if order := _runs(mine, theirs):
            return order
        i, j = i + len(mine), j + len(theirs)
    if i == len(a) and j == len(b):
        return 0
    if (i == len(a) and not _letter(b[j])) or (i < len(a) and _letter(a[i])):
        return -1
    return 1


def arch_rule(one: str, other: str) -> int:
    (e, v, r), (f, w, s) = _sides(one, None), _sides(other, None)
    order = int(e) - int(f) or arch_part(v, w)
    return _sign(order or (0 if r is None or s is None else arch_part(r, s)))


def slackware_part(a: str, b: str) -> int:
    """Run by run; a word for what comes before a release is below the end, all else above it."""
    if a == b:
        return 0

    def rank(run: str) -> int:
        if not run:
            return 1
        if _digit(run[0]):
            return 3
        early = any(run.lower().startswith(w) for w in ("alpha", "beta", "pre", "rc", "dev"))
        return 0 if early else 2

    i = j = 0
    while True:
        while i < len(a) and not (_digit(a[i]) or _letter(a[i])):
            i += 1
        while j < len(b) and not (_digit(b[j]) or _letter(b[j])):
            j += 1
        mine = _run(a, i) if i < len(a) else ""
        theirs = _run(b, j) if j < len(b) else ""
        if rank(mine) != rank(theirs):
            return rank(mine) - rank(theirs)
        if not mine:  # nothing but signs differ: any order, but always the same
            return (a > b) - (a < b)
        if order := _runs(mine, theirs):
            return order
        i, j = i + len(mine), j + len(theirs)


def slackware_rule(one: str, other: str) -> int:
    (_, v, r), (_, w, s) = _sides(one, None), _sides(other, None)
    order = slackware_part(v, w)
    return _sign(order or (0 if r is None or s is None else slackware_part(r, s)))


def near(draw: random.Random, signs: str) -> tuple[str, str]:
    """Two versions with a common beginning, of signs that matter, and ends of a few signs."""

    def some(most: int) -> str:
        return "".join(draw.choice(signs) for _ in range(draw.randrange(most + 1)))

    start = draw.choice(("", "1", "0", "1.0", "1-0", "0:1", "2:1.0-1", "1:0", ":1", "a:1")) + some(
        3
    )
    one = start + some(4)
    other = start + some(4)
    if draw.random() < 0.3:  # one is the other, with one sign more, less or another
        at = draw.randrange(len(one) + 1)
        other = one[:at] + some(1) + one[at + draw.randrange(2) :]
    if draw.random() < 0.2:
        other += draw.choice(("-0", "-", "-1", "~", "0", "+", "^", "-0~1", "~rc1", ".0"))
    return one, other


FAMILIES: dict[str, tuple[Callable[[str, str], int], Callable[[str, str], int], str]] = {
    "deb": (deb_versions.compare_versions, deb_rule, "001129a.~~+-:Z"),
    "rpm": (rpm_versions.compare_versions, rpm_rule, "001129a.~^+-:Z_"),
    "arch": (arch_versions.compare_versions, arch_rule, "001129a..+-:Z_"),
    "slackware": (slackware_versions.compare_versions, slackware_rule, "00112rc9a..+-Z_"),
}


@pytest.mark.parametrize("family", FAMILIES)
def test_the_order_is_what_the_plain_rule_says(family: str) -> None:
    compare, rule, signs = FAMILIES[family]
    draw = random.Random(f"orders of {family}")
    orders = []
    for _ in range(PAIRS):
        one, other = near(draw, signs)
        orders.append(compare(one, other))
        assert orders[-1] == rule(one, other), (one, other)
    assert min(orders.count(order) for order in (-1, 0, 1)) > PAIRS // 50, (
        "near pairs are of all sorts"
    )


@pytest.mark.parametrize(
    ("older", "newer"),
    [("1-0~1", "1-0"), ("0~rc1-1", "0-1"), ("1:0~1", "1:0"), ("00~", "0"), ("0~~", "0~"), ("~", ""),
     ("0~", "0a"), ("1-00~", "1"), ("0:0~a", "0")],
)  # fmt: skip
def test_a_tilde_behind_nothing_is_older_than_nothing(older: str, newer: str) -> None:
    assert deb_versions.compare_versions(older, newer) == -1
    assert deb_versions.compare_versions(newer, older) == 1


@pytest.mark.parametrize(
    ("one", "other", "sure"),
    [
        ("5.4.2-1", "5.4.2rc1-1", None), ("5.4.2-1", "5.4.3-1", None), ("5.4.2-1", "5.4.2-2", -1),
        ("5.4.2-1", "5.4.2-1", 0), ("5.4.2-1_tide", "5.4.2-2", None), ("5.4.2", "5.4.2-9", 0),
        ("2026.01-x86-1", "2026.1-x86-1", None),
    ],
)  # fmt: skip
def test_where_versions_have_no_order_of_their_own_a_guess_is_none(
    one: str, other: str, sure: int | None
) -> None:
    assert slackware_versions.sure_order(one, other) == sure


SORT_KEYS: dict[str, Callable[[str], str]] = {
    "deb": deb_versions.sort_key, "rpm": rpm_versions.sort_key, "arch": arch_versions.sort_key,
    "slackware": slackware_versions.sort_key,
}  # fmt: skip


def _released(version: str) -> bool:
    return _sides(version, None)[2] is not None


def _ends_divided(version: str) -> bool:
    """Whether a part ends in signs that only divide: among such the order of `arch` is none."""
    return any(
        part and not (_digit(part[-1]) or _letter(part[-1]))
        for part in _sides(version, "")
        if part is not None
    )


@pytest.mark.parametrize("family", FAMILIES)
def test_the_bytes_of_a_sort_key_sort_as_versions_do(family: str) -> None:
    compare, _, signs = FAMILIES[family]
    key = SORT_KEYS[family]
    draw = random.Random(f"keys of {family}")
    held = 0
    while held < PAIRS:
        one, other = near(draw, f"{signs}é" if family == "deb" else signs)
        if family != "deb" and _released(one) != _released(other):
            continue
        if family == "arch" and (_ends_divided(one) or _ends_divided(other)):
            continue
        held += 1
        a, b = key(one).encode(), key(other).encode()
        assert (a > b) - (a < b) == compare(one, other), (one, other)


@pytest.mark.parametrize("family", FAMILIES)
def test_a_sort_key_takes_numbers_of_any_length(family: str) -> None:
    compare, _, _ = FAMILIES[family]
    key = SORT_KEYS[family]
    rising = [f"1.{'9' * length}-1" for length in (1, 2, 59, 60, 61, 62, 99, 100, 5000)]
    assert sorted(rising, key=lambda one: key(one).encode()) == rising
    assert all(compare(a, b) == -1 for a, b in pairwise(rising))


def test_an_order_of_arch_that_is_none() -> None:
    """Why signs at the end are left out of its keys: each is older than the next, and the last than the
    first."""
    round_ = ["1a+1-1", "1a++b-1", "1a+-1", "1a+1-1"]
    assert [arch_versions.compare_versions(a, b) for a, b in pairwise(round_)] == [
        -1, -1, -1,
    ]  # fmt: skip
