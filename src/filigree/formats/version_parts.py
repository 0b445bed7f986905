"""Versions written `[epoch:]version[-release]`, taken apart; their order is each family's own.

The epoch ends at the first colon, the release starts behind the last hyphen.
"""

from filigree.model.package import VersionParts


def split_version(version: str) -> VersionParts:
    """The parts of a full version.

    >>> split_version("2:1.4-3")
    VersionParts(epoch='2', version='1.4', release='3')
    """
    epoch, colon, rest = version.partition(":")
    if not colon:
        epoch, rest = "", version
    number, hyphen, release = rest.rpartition("-")
    if not hyphen:
        number, release = rest, ""
    return VersionParts(epoch or None, number, release or None)
