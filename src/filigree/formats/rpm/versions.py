"""Versions of `rpm` packages, `[epoch:]version[-release]`, and their order.

Follows the versioning chapter of the format's manual. A part is compared run by run: digits by value,
letters by sign, digits above letters; every other sign only divides. `~` sorts before the end, `^`
after it and before anything that goes on. A missing epoch is 0; where one side has no release, the
releases are not compared.
"""

import re
from functools import lru_cache

from filigree.formats.version_parts import number_text, split_version

_RUNS = re.compile(r"[0-9]+|[A-Za-z]+|[~^]")

# The order of what may come next: "~", the end, "^", letters, digits.
_TILDE, _END, _CARET, _LETTERS, _DIGITS = range(5)

Key = tuple[tuple[int, int, str], ...]


def compare_versions(one: str, other: str) -> int:
    """-1, 0 or 1 as `one` is older than, the same as or newer than `other`; releases as above."""
    a, b = split_version(one), split_version(other)
    pairs = [(part_key(a.epoch or "0"), part_key(b.epoch or "0"))]
    pairs.append((part_key(a.version), part_key(b.version)))
    if a.release is not None and b.release is not None:
        pairs.append((part_key(a.release), part_key(b.release)))
    for mine, theirs in pairs:
        if mine != theirs:
            return 1 if mine > theirs else -1
    return 0


def sort_key(version: str) -> str:
    """A text whose bytes sort as the version does, where it has a release as whatever it is held against
    has, or has not."""
    parts = split_version(version)
    return "".join(map(_part_text, (parts.epoch or "0", parts.version, parts.release or "")))


def _part_text(part: str) -> str:
    return "".join(
        f"{rank}{number_text(length, text) if rank == _DIGITS else f'{text}!' if text else ''}"
        for rank, length, text in part_key(part)
    )


@lru_cache(maxsize=65536)
def part_key(part: str) -> Key:
    """A value that sorts as a version or a release does. Any text has one."""
    return (*(_rank(run) for run in _RUNS.findall(part)), (_END, 0, ""))


def _rank(run: str) -> tuple[int, int, str]:
    if run == "~":
        return (_TILDE, 0, "")
    if run == "^":
        return (_CARET, 0, "")
    if run[0].isdigit():
        digits = run.lstrip("0")
        return (_DIGITS, len(digits), digits)
    return (_LETTERS, 0, run)
