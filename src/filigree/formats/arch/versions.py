"""Versions of `arch` packages, `[epoch:]version[-release]`, and their order.

Follows the manual page on that order. A part is compared run by run: digits by value, letters by sign,
digits above letters; every other sign only divides, but more of them divide later. What goes on with
letters is older than what ends there, what goes on otherwise is newer. A missing epoch is 0; where one
side has no release, the releases are not compared.
"""

import re
from functools import lru_cache

from filigree.formats.version_parts import number_text, split_version

_RUN = re.compile(r"([^0-9A-Za-z]*)([0-9]+|[A-Za-z]+|)")


def compare_versions(one: str, other: str) -> int:
    """-1, 0 or 1 as `one` is older than, the same as or newer than `other`; releases as above."""
    if one == other:
        return 0
    a, b = split_version(one), split_version(other)
    order = _compare(a.epoch or "0", b.epoch or "0") or _compare(a.version, b.version)
    if not order and a.release is not None and b.release is not None:
        return _compare(a.release, b.release)
    return order


def sort_key(version: str) -> str:
    """A text whose bytes sort as the version does, where it has a release as whatever it is held against
    has, or has not. Signs that only divide and that nothing follows are left out: with them the order is
    none, as one may be older than a second, that than a third, and that than the first."""
    parts = split_version(version)
    return "".join(map(_part_text, (parts.epoch or "0", parts.version, parts.release or "")))


_LETTERS_NEXT, _END, _DIGITS_NEXT, _DIVIDED = "1234"
"""What may come next, in the order in which that sorts."""


def _part_text(part: str) -> str:
    found = []
    for between, run in _RUN.findall(part):
        if not run:
            break
        text = (
            f"{run}!" if not run.isdigit() else number_text(len(run.lstrip("0")), run.lstrip("0"))
        )
        kind = _DIGITS_NEXT if run.isdigit() else _LETTERS_NEXT
        divided = (
            f"{_DIVIDED}{number_text(len(str(len(between))), str(len(between)))}" if between else ""
        )
        found.append(f"{divided}{kind}{text}")
    return "".join([*found, _END])


@lru_cache(maxsize=65536)
def _compare(one: str, other: str) -> int:
    if one == other:
        return 0
    at = place = 0
    while at < len(one) and place < len(other):
        mine, theirs = _RUN.match(one, at), _RUN.match(other, place)
        assert mine is not None
        assert theirs is not None
        if not mine[2] or not theirs[2]:
            # One of them ends in signs that only divide.
            at, place = mine.end(1), theirs.end(1)
            break
        if len(mine[1]) != len(theirs[1]):
            return -1 if len(mine[1]) < len(theirs[1]) else 1
        order = _run_order(mine[2], theirs[2])
        if order:
            return order
        at, place = mine.end(), theirs.end()
    return _rest_order(one[at:], other[place:])


def _run_order(one: str, other: str) -> int:
    if one.isdigit() != other.isdigit():
        return 1 if one.isdigit() else -1
    if one.isdigit():
        one, other = one.lstrip("0"), other.lstrip("0")
        if len(one) != len(other):
            return -1 if len(one) < len(other) else 1
    return (one > other) - (one < other)


def _rest_order(one: str, other: str) -> int:
    """The order where at least one side has come to its end."""
    if not one and not other:
        return 0
    if (not one and not _is_letter(other)) or _is_letter(one):
        return -1
    return 1


def _is_letter(text: str) -> bool:
    return text[:1].isascii() and text[:1].isalpha()
