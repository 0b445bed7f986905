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


_SHORT = 60


def number_text(length: int, digits: str = "") -> str:
    """Digits without leading zeros, of a given length, as text that sorts as their value does: no such
    text
    is the beginning of another one."""
    lead = chr(0x21 + length) if length <= _SHORT else f"~{length:08d}"
    return lead + digits


def _is_number(text: str) -> bool:
    return not text or (text.isascii() and text.isdigit())
