"""Versions of `slackware` packages, `version-build`. They have no order of their own.

    sure     the same, or builds of the same version by the same hand, by their numbers
    a guess  everything else: run by run, digits by value, letters by sign, digits above letters. What
             goes on is newer, unless it goes on with a word for what comes before a release.

Where one side has no build (what is still to be built) builds are not compared.
"""

import re
from functools import lru_cache

from filigree.formats.slackware.names import split_build
from filigree.formats.version_parts import number_text, split_version

_RUNS = re.compile(r"[0-9]+|[A-Za-z]+")
_BEFORE = ("alpha", "beta", "pre", "rc", "dev")
_Run = tuple[int, int, str]
_END: _Run = (1, 0, "")
_DIGITS = 3


def is_sure(one: str, other: str) -> bool:
    """Whether the order of two versions is certain."""
    a, b = split_version(one), split_version(other)
    if a.version != b.version:
        return False
    if a.release is None or b.release is None or a.release == b.release:
        return True
    (mine, tag), (theirs, other_tag) = split_build(a.release), split_build(b.release)
    return mine is not None and theirs is not None and tag == other_tag


def sure_order(one: str, other: str) -> int | None:
    """As `compare_versions`, but None where that would be a guess."""
    return compare_versions(one, other) if is_sure(one, other) else None


def compare_versions(one: str, other: str) -> int:
    """-1, 0 or 1 as `one` is, or seems to be, older than, the same as or newer than `other`."""
    if one == other:
        return 0
    a, b = split_version(one), split_version(other)
    order = _guess(a.version, b.version)
    if not order and a.release is not None and b.release is not None:
        return _guess(a.release, b.release)
    return order


def sort_key(version: str) -> str:
    """A text whose bytes sort as `compare_versions` has it, where both have a build, or none has."""
    parts = split_version(version)
    return "".join(map(_part_text, (parts.version, parts.release or "")))


def _part_text(part: str) -> str:
    runs = "".join(
        f"{rank}{number_text(length, text) if rank == _DIGITS else f'{text}!' if text else ''}"
        for rank, length, text in _key(part)
    )
    return f"{runs}{part.encode('utf-8', 'surrogatepass').hex()}!"


def _guess(one: str, other: str) -> int:
    if one == other:
        return 0
    # Where nothing but other signs differ any order will do, but it is always the same.
    mine, theirs = (_key(one), one), (_key(other), other)
    return (mine > theirs) - (mine < theirs)


@lru_cache(maxsize=65536)
def _key(version: str) -> tuple[_Run, ...]:
    return (*map(_run, _RUNS.findall(version)), _END)


def _run(text: str) -> _Run:
    if text.isdigit():
        bare = text.lstrip("0")
        return 3, len(bare), bare
    return (0 if text.lower().startswith(_BEFORE) else 2), 0, text
