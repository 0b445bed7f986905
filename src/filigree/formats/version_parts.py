"""Versions written `[epoch:]version[-release]`, taken apart; their order is each family's own.

The epoch is a number, and ends at the first colon; the release starts behind the last hyphen. What stands
before a colon and is no number is a part of the version.
"""

from filigree.model.package import VersionParts


def split_version(version: str) -> VersionParts:
    """The parts of a full version.

    >>> split_version("2:1.4-3")
    VersionParts(epoch='2', version='1.4', release='3')
    """
    epoch, colon, rest = version.partition(":")
    if not colon or not _is_number(epoch):
        epoch, rest = "", version
    number, hyphen, release = rest.rpartition("-")
    if not hyphen:
        number, release = rest, ""
    return VersionParts(epoch or None, number, release or None)


def _is_number(text: str) -> bool:
    return not text or (text.isascii() and text.isdigit())
