"""Versions of `deb` packages: `[epoch:]upstream[-revision]`, and their order.

Follows the Debian Policy Manual, section 5.6.12. Runs of other signs and runs of digits alternate;
`~` sorts before everything, even the end; letters before other signs; digit runs by value.
"""

import re
from functools import lru_cache

from filigree.formats.version_parts import number_text, split_version

_RUNS = re.compile(r"([^0-9]*)([0-9]*)", re.DOTALL)

_END: tuple[tuple[int, ...], tuple[int, str]] = ((0,), (0, ""))

Key = tuple[object, ...]


@lru_cache(maxsize=65536)
def version_key(version: str) -> Key:
    """A value that sorts as the version does. Any text has one: the order is total."""
    parts = split_version(version)
    return (_number(parts.epoch or ""), _part_key(parts.version), _part_key(parts.release or ""))


def compare_versions(one: str, other: str) -> int:
    """-1, 0 or 1 as `one` sorts before, with or after `other`."""
    a, b = version_key(one), version_key(other)
    return (a > b) - (a < b)


def sort_key(version: str) -> str:
    """A text whose bytes sort as the version does."""
    parts = split_version(version)
    upstream, revision = _part_key(parts.version), _part_key(parts.release or "")
    return number_text(*_number(parts.epoch or "")) + _part_text(upstream) + _part_text(revision)


def _part_text(part: Key) -> str:
    # Signs and numbers alternate; each sign's text is no beginning of another's, and "#" ends them.
    return "".join(
        number_text(*item) if at % 2 else "".join(map(_sign_text, item))  # type: ignore[call-overload, misc]
        for at, item in enumerate(part)
    )


def _sign_text(sign: int) -> str:
    if sign <= 0:
        return "!" if sign < 0 else "#"
    if sign < 256:
        return chr(sign)
    # Signs that are no letters sort behind letters: those of ASCII first.
    return f"~{sign - 256:02x}" if sign < 384 else f"~~{sign - 256:06x}"


def _number(digits: str) -> tuple[int, str]:
    """A run of digits by value, without the cost of converting a run of any length."""
    digits = digits.lstrip("0")
    return (len(digits), digits)


def _part_key(part: str) -> Key:
    pairs = [((*map(_sign, other), 0), _number(digits)) for other, digits in _RUNS.findall(part)]
    # The first pair stays, whatever it is: only there can what stands for the end be followed by more, as
    # in "0~". Behind it each pair of a part that goes on has a sign before its digits.
    while len(pairs) > 1 and pairs[-1] == _END:
        pairs.pop()
    # What stands for the end sorts after "~" and before all else.
    return tuple(item for pair in (*pairs, _END) for item in pair)


def _sign(sign: str) -> int:
    if sign == "~":
        return -1
    return ord(sign) if sign.isascii() and sign.isalpha() else ord(sign) + 256
