"""Versions of `apk` packages, and their order.

    version = digits *("." digits) [letter] *("_" suffix [digits]) ["~" commit] ["-r" digits]
    suffix  = "alpha" | "beta" | "pre" | "rc" | "cvs" | "svn" | "git" | "hg" | "p"

Two versions are held against each other part by part, up to the first part that differs. Numbers count
by their value; but a number behind a dot is text where either of the two begins with a zero: like the
digits of a decimal fraction. Where the parts are of two sorts, a suffix of what came before a release is
the oldest, then a version that ends there, then a revision, a commit's mark, the number of a suffix, a
suffix of what came afterwards, a letter, and a further number. What is no version is older than any.
"""

import re
from collections.abc import Iterator
from functools import lru_cache

from filigree.formats.version_parts import number_text
from filigree.model.package import VersionParts

_EARLIER = ("alpha", "beta", "pre", "rc")
_LATER = ("cvs", "svn", "git", "hg", "p")
_VERSION = re.compile(
    r"(?P<first>[0-9]+)(?P<more>(?:\.[0-9]+)*)(?P<letter>[a-z]?)"
    rf"(?P<suffixes>(?:_(?:{'|'.join((*_EARLIER, *_LATER))})[0-9]*)*)"
    r"(?:~(?P<commit>[0-9a-f]+))?(?:-r(?P<revision>[0-9]+))?"
)
_SUFFIX = re.compile(r"_([a-z]+)([0-9]*)")
_BEFORE, _END, _REVISION, _COMMIT, _NUMBER_OF_SUFFIX, _AFTER, _LETTER, _NUMBER = "12345678"
"""The sorts of parts, in the order in which that sorts which stands in the same place."""
_NO_VERSION = " "
"""It goes before whatever a first number begins with."""


def is_version(text: str) -> bool:
    """Whether a text is a version."""
    return _VERSION.fullmatch(text) is not None


def split_version(version: str) -> VersionParts:
    """The parts of a full version; the release is the revision as it is written, without the hyphen.

    >>> split_version("1.4_rc2-r3")
    VersionParts(epoch=None, version='1.4_rc2', release='r3')
    """
    front, hyphen, revision = version.rpartition("-")
    if hyphen and revision[:1] == "r" and revision[1:].isdigit():
        return VersionParts(None, front, revision)
    return VersionParts(None, version, None)


def compare_versions(one: str, other: str) -> int:
    """-1, 0 or 1 as `one` is older than, the same as or newer than `other`."""
    a, b = sort_key(one), sort_key(other)
    return (a > b) - (a < b)


def order(one: str, other: str) -> int | None:
    """As `compare_versions`; None where one of them is no version: that would be a guess."""
    if one == other:
        return 0
    return compare_versions(one, other) if is_version(one) and is_version(other) else None


def begins(version: str, beginning: str) -> bool:
    """Whether a version begins with another: all parts of that are its first ones.

    >>> begins("1.2.3-r4", "1.2"), begins("1.20", "1.2"), begins("1.2_p1", "1.2_p")
    (True, False, True)
    """
    if not is_version(version) or not is_version(beginning):
        return version == beginning
    return sort_key(version).startswith(sort_key(beginning).removesuffix(_END))


@lru_cache(maxsize=65536)
def sort_key(version: str) -> str:
    """A text whose bytes sort as the version does. No text of a part is the beginning of another's."""
    match = _VERSION.fullmatch(version)
    return f"{_NO_VERSION}{version}" if match is None else "".join(_parts(match))


def _parts(match: re.Match[str]) -> Iterator[str]:
    yield _value(match["first"])
    for digits in match["more"].split(".")[1:]:
        yield _NUMBER + (f"!{digits} " if digits.startswith("0") else _value(digits))
    if match["letter"]:
        yield _LETTER + match["letter"]
    for name, digits in _SUFFIX.findall(match["suffixes"]):
        if name in _EARLIER:
            yield f"{_BEFORE}{_EARLIER.index(name)}"
        else:
            yield f"{_AFTER}{_LATER.index(name)}"
        if digits:
            yield _NUMBER_OF_SUFFIX + _value(digits)
    if match["commit"]:
        yield f"{_COMMIT}{match['commit']} "
    if match["revision"]:
        yield _REVISION + _value(match["revision"])
    yield _END


def _value(digits: str) -> str:
    plain = digits.lstrip("0")
    return number_text(len(plain), plain)
