"""Writes the binary form of `apk`: values, signatures, contents. Our own, for tests alone."""

import hashlib
import struct
import zlib
from collections.abc import Sequence
from typing import Any

import zstandard

SCHEMAS = {"package": b"pckg", "index": b"indx", "installed": b"idb\0"}
ALGORITHMS = {"sha1": 2, "sha256": 3, "sha512": 4}


class Values:
    """A block of values in the making: what is added comes back as a value that tells its place."""

    def __init__(self) -> None:
        self.data = bytearray(8)

    def blob(self, data: bytes) -> int:
        at = self._at(1)
        if len(data) < 1 << 8:
            self.data += struct.pack("<B", len(data)) + data
            return 0x8 << 28 | at
        at = self._at(4)
        self.data += struct.pack("<I", len(data)) + data
        return 0xA << 28 | at

    def text(self, text: str) -> int:
        return self.blob(text.encode("utf-8", "surrogateescape")) if text else 0

    def number(self, number: int) -> int:
        if number < 1 << 28:
            return 0x1 << 28 | number
        at = self._at(8)
        self.data += struct.pack("<Q", number)
        return 0x3 << 28 | at

    def members(self, values: Sequence[int], sort: int = 0xE) -> int:
        """An object, or a list (0xD); what is nothing at its end is left out."""
        kept = list(values)
        while kept and not kept[-1]:
            kept.pop()
        if not kept:
            return 0
        at = self._at(4)
        self.data += struct.pack(f"<{len(kept) + 1}I", len(kept) + 1, *kept)
        return sort << 28 | at

    def listed(self, values: Sequence[int]) -> int:
        return self.members(values, 0xD)

    def done(self, root: int) -> bytes:
        struct.pack_into("<I", self.data, 4, root)
        return bytes(self.data)

    def _at(self, unit: int) -> int:
        self.data += bytes(-len(self.data) % unit)
        return len(self.data)

    # -- what packages are made of ---------------------------------------------------------

    def relation(self, name: str, match: int = 0, version: str = "") -> int:
        number = self.number(match) if match else 0
        return self.members([self.text(name), self.text(version), number])

    def rights(self, mode: int, owner: str = "root", group: str = "root") -> int:
        return self.members([self.number(mode), self.text(owner), self.text(group)])

    def info(self, told: dict[str, Any]) -> int:
        """What describes a package, by its letters."""
        values = []
        for letter in "PVCTALomUctISkDpri":
            one = told.get(letter)
            if one is None:
                values.append(0)
            elif letter in "Dpri":
                values.append(self.listed([self.relation(*each) for each in one]))
            elif isinstance(one, int):
                values.append(self.number(one))
            else:
                values.append(self.blob(one) if isinstance(one, bytes) else self.text(one))
        return self.members(values)

    def file(
        self, name: str, content: bytes = b"", mode: int = 0o644, target: bytes = b"",
        digest: bytes | None = None, size: int | None = None,
    ) -> int:  # fmt: skip
        told = hashlib.sha256(content).digest() if digest is None else digest
        return self.members([
            self.text(name), self.rights(mode), self.number(len(content) if size is None else size),
            self.number(1_768_206_600), 0 if target else self.blob(told),
            self.blob(target) if target else 0,
        ])  # fmt: skip

    def folder(self, name: str, files: Sequence[int], mode: int = 0o755) -> int:
        return self.members([self.text(name), self.rights(mode), self.listed(files)])


def block(kind: int, content: bytes, long: bool = False) -> bytes:
    """A block, filled up."""
    if long:
        data = struct.pack("<IIQ", 3 << 30 | kind, 0, len(content) + 16) + content
    else:
        data = struct.pack("<I", kind << 30 | len(content) + 4) + content
    return data + bytes(-len(data) % 8)


def whole(
    schema: str, values: bytes, contents: Sequence[tuple[int, int, bytes]] = (),
    keys: Sequence[Any] = (), algorithm: str = "sha512", long: bool = False,
) -> bytes:  # fmt: skip
    """A file: values, signatures by bare keys, contents by the numbers of their files."""
    out = b"ADB." + SCHEMAS[schema] + block(0, values, long)
    for key in keys:
        out += block(1, signature(schema, values, key, algorithm))
    for folder, file, data in contents:
        out += block(2, struct.pack("<II", folder, file) + data, long)
    return out


def signature(schema: str, values: bytes, key: Any, algorithm: str = "sha512") -> bytes:
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric.padding import PKCS1v15

    from filigree.families.apk.signing import key_number

    head = bytes([0, ALGORITHMS[algorithm]]) + bytes.fromhex(key_number(key.public_key()))
    signed = SCHEMAS[schema] + head + hashlib.new(algorithm, values).digest()
    found: bytes = key.sign(signed, PKCS1v15(), hashes.SHA512())
    return head + found


def deflated(data: bytes) -> bytes:
    packer = zlib.compressobj(6, wbits=-15)
    return b"ADBd" + packer.compress(data) + packer.flush()


def zstd(data: bytes) -> bytes:
    return b"ADBc\x02\x03" + zstandard.compress(data)
