"""Which release of a system a repository is of, as far as its addresses tell."""

import re
from collections.abc import Iterable

_PARTS = re.compile(r"[/?&=]")
_NUMBER = re.compile(r"(?:[a-z][a-z0-9]*-)?(\d{1,4}(?:\.\d{1,4})?)", re.ASCII)


def other_release(addresses: Iterable[str], ours: str | None) -> str | None:
    """The release that addresses name, where it is another than `ours`; None where it is ours, or where
    none of them names any. A part of an address that is a number, or a word and a number, names one.

    >>> other_release(["https://packages.example/coast/41/x86_64/"], "42")
    '41'
    >>> other_release(["https://packages.example/coast/9/x86_64/"], "9.4") is None
    True
    """
    if not ours:
        return None
    # What stands before the first slash is a host, and what is in it names no release.
    paths = [re.sub(r"^[A-Za-z+]+:/*[^/]*", "", address) for address in addresses]
    told = [
        found[1]
        for path in paths
        for part in _PARTS.split(path)
        if (found := _NUMBER.fullmatch(part)) is not None
    ]
    if not told or any(one in (ours, ours.partition(".")[0]) for one in told):
        return None
    return told[0]
