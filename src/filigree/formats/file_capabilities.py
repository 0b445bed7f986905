"""Capabilities of a file: the text that people write, and the attribute that the kernel reads.

    text   = clause *(" " clause)
    clause = [name *("," name)] 1*(operator *flag)      operator "=", "+" or "-"; flag e, i or p

Follows cap_from_text(3) and capabilities(7), "File capability extended attribute versioning". The
attribute `security.capability` is little-endian: a word of version and effective bit, then pairs of
permitted and inheritable words; the third version ends in the user who is root where it counts.
"""

import re
import struct
from typing import NamedTuple

ATTRIBUTE = "security.capability"
NAMES = (
    "chown dac_override dac_read_search fowner fsetid kill setgid setuid setpcap linux_immutable "
    "net_bind_service net_broadcast net_admin net_raw ipc_lock ipc_owner sys_module sys_rawio "
    "sys_chroot sys_ptrace sys_pacct sys_admin sys_boot sys_nice sys_resource sys_time "
    "sys_tty_config mknod lease audit_write audit_control setfcap mac_override mac_admin syslog "
    "wake_alarm block_suspend audit_read perfmon bpf checkpoint_restore"
).split()
_NUMBERS = {f"cap_{name}": number for number, name in enumerate(NAMES)}
_ALL = (1 << len(NAMES)) - 1
_CLAUSE = re.compile(r"(?P<names>[a-z0-9_,]*)(?P<actions>(?:[=+-][eip]*)+)")
_ACTION = re.compile(r"([=+-])([eip]*)")
_WORDS = {0x01000000: 1, 0x02000000: 2, 0x03000000: 2}
_THIRD = 0x03000000


class FileCapabilities(NamedTuple):
    """Sets of capabilities as bits; those of `effective` are on as soon as the file is run."""

    permitted: int = 0
    inheritable: int = 0
    effective: int = 0
    root: int = 0


class CapabilityError(ValueError):
    """A text, or an attribute, that says no capabilities."""


def parse_capabilities(text: str) -> FileCapabilities:
    """The capabilities that a text says."""
    sets = {"e": 0, "i": 0, "p": 0}
    for clause in text.split():
        match = _CLAUSE.fullmatch(clause.lower())
        if match is None:
            raise CapabilityError(f"no capabilities: {text[:80]!r}")
        named = _bits(match["names"])
        for operator, flags in _ACTION.findall(match["actions"]):
            for flag, bits in sets.items():
                if operator == "=":
                    sets[flag] = bits & ~named | (named if flag in flags else 0)
                elif flag in flags:
                    sets[flag] = bits | named if operator == "+" else bits & ~named
    return FileCapabilities(sets["p"], sets["i"], sets["e"])


def _bits(names: str) -> int:
    if names in ("", "all"):
        return _ALL
    bits = 0
    for name in names.split(","):
        if name not in _NUMBERS:
            raise CapabilityError(f"no capability is called {name[:80]!r}")
        bits |= 1 << _NUMBERS[name]
    return bits


def read_attribute(data: bytes) -> FileCapabilities:
    """The capabilities of the attribute."""
    if len(data) < 4:
        raise CapabilityError("an attribute that is cut off")
    (word,) = struct.unpack_from("<I", data)
    version, effective = word & 0xFF000000, word & 1
    pairs = _WORDS.get(version)
    if pairs is None or len(data) < 4 + 8 * pairs + (4 if version == _THIRD else 0):
        raise CapabilityError("an attribute of an unknown version")
    words = struct.unpack_from(f"<{2 * pairs}I", data, 4)
    permitted = sum(words[2 * at] << 32 * at for at in range(pairs))
    inheritable = sum(words[2 * at + 1] << 32 * at for at in range(pairs))
    (root,) = struct.unpack_from("<I", data, 4 + 8 * pairs) if version == _THIRD else (0,)
    on = permitted | inheritable if effective else 0
    return FileCapabilities(permitted, inheritable, on, root)


def write_attribute(capabilities: FileCapabilities) -> bytes:
    """The attribute, in its second version."""
    words = [0x02000000 | bool(capabilities.effective)]
    for at in range(2):
        words += (
            capabilities.permitted >> 32 * at & 0xFFFFFFFF,
            capabilities.inheritable >> 32 * at & 0xFFFFFFFF,
        )
    return struct.pack("<5I", *words)


def write_capabilities(capabilities: FileCapabilities) -> str:
    """The text of capabilities, always the same for the same; empty where there are none."""
    by_flags: dict[str, list[str]] = {}
    permitted, inheritable, effective, root = capabilities
    for number in range(max(64, len(NAMES))):
        bit = 1 << number
        flags = "".join(
            flag
            for flag, bits in (("e", effective), ("i", inheritable), ("p", permitted))
            if bits & bit
        )
        if flags:
            name = NAMES[number] if number < len(NAMES) else str(number)
            by_flags.setdefault(flags, []).append(f"cap_{name}")
    clauses = [f"{','.join(names)}={flags}" for flags, names in sorted(by_flags.items())]
    return " ".join(clauses) + (f" (root is {root})" if root else "")


def canonical(text: str) -> str:
    """A text in the one way that `write_capabilities` has; as it is where it says nothing."""
    try:
        return write_capabilities(parse_capabilities(text))
    except CapabilityError:
        return text
