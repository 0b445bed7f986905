"""Writes the records, archives and indexes of a made-up `apk` system: our own writer of the formats."""

import base64
import gzip
import hashlib
import os
import re
import tarfile
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from importlib.resources import files
from typing import Any

from filigree.demo.deb import tar as pax_tar
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, Good
from filigree.demo.world import PEOPLE, Ware
from filigree.families.apk import places

KEY = "test-key.pem"
KEY_NAME = "tides@packages.tides.example-65a0f1c8.rsa.pub"
MACHINE = "x86_64"
_ITEM = re.compile(r"(?P<name>\S+)(?: \((?P<operator>\S+) (?P<version>\S+)\))?")
_OPERATORS = {"<<": "<", "<=": "<=", "=": "=", ">=": ">=", ">>": ">"}
_SIGNS = {"sha1": ".SIGN.RSA.", "sha256": ".SIGN.RSA256.", "sha512": ".SIGN.RSA512."}
_SCRIPTS = {"preinst": "pre-install", "postinst": "post-install", "prerm": "pre-deinstall",
            "postrm": "post-deinstall", "triggers": "trigger", "config": "post-upgrade"}  # fmt: skip
_EPOCH = re.compile(r"^\d+:")
_FIX = re.compile(r"\+fix(\d+)$")


@dataclass(frozen=True, slots=True)
class KeptGood:
    """A ware as this family keeps it; `broken` are flags of what is, `comes_with` what brings it."""

    ware: Ware
    goods: tuple[Good, ...]
    at: datetime = BUILT
    broken: str = ""
    comes_with: str = ""
    priority: int = 0

    @property
    def version(self) -> str:
        """The full version: every one has a revision here."""
        return version_of(self.ware.version)

    @property
    def architecture(self) -> str:
        return "noarch" if self.ware.any_machine else MACHINE

    @property
    def file_name(self) -> str:
        """What its archive is called where it is offered."""
        return f"{self.ware.name}-{self.version}.apk"


def version_of(text: str) -> str:
    """A version of the world's notation in this family's.

    >>> version_of("0.99~beta4-1"), version_of("20260115"), version_of("1.1.0-2+fix1")
    ('0.99_beta4-r1', '20260115-r0', '1.1.0_p1-r2')
    """
    text = _EPOCH.sub("", text)
    fix = _FIX.search(text)
    front, _, release = _FIX.sub("", text).partition("+")[0].partition("-")
    front = front.replace("~trial", "_pre").replace("~", "_").removesuffix("_")
    return f"{front}{f'_p{fix[1]}' if fix else ''}-r{release or 0}"


# -- what is told of a package --------------------------------------------------------------


def _relations(text: str, away: bool = False) -> Iterator[str]:
    """Relations out of the world's notation; of alternatives the last."""
    for group in filter(None, (part.strip() for part in text.split(","))):
        match = _ITEM.fullmatch(group.split("|")[-1].strip())
        assert match is not None, group
        operator = _OPERATORS[match["operator"]] if match["operator"] else ""
        version = version_of(match["version"]) if match["version"] else ""
        if match["version"] and "-" not in match["version"]:
            version = version.removesuffix("-r0")
        yield f"{'!' if away else ''}{match['name']}{operator}{version}"


def _provided(one: KeptGood) -> Iterator[str]:
    yield from _relations(one.ware.provides)
    if one.ware.library:
        yield f"so:{one.ware.library}={one.version.partition('-')[0].partition('_')[0]}"
    for name in (*one.ware.programs, *one.ware.daemons):
        yield f"cmd:{name}={one.version}"


def fields_of(one: KeptGood) -> dict[str, str]:
    """The fields of a record, by their letters, but for its identity and its size."""
    ware = one.ware
    needs = [
        *_relations(f"{ware.needs_first}, {ware.needs}"),
        *_relations(f"{ware.breaks}, {ware.conflicts}", away=True),
    ]
    told = {
        "P": ware.name, "V": one.version, "A": one.architecture,
        "I": str(sum(len(good.content or b"") for good in one.goods)), "T": ware.summary,
        "U": f"https://tides.example/{ware.source or ware.name}", "L": "custom:minds-the-tide",
        "o": ware.source or ware.name, "m": PEOPLE[len(ware.name) % len(PEOPLE)],
        "t": str(int(BUILT.timestamp())), "c": hashlib.sha1(ware.name.encode()).hexdigest(),
        "D": " ".join(needs), "p": " ".join(_provided(one)), "i": one.comes_with,
        "r": " ".join(_relations(ware.replaces)),
        "k": str(one.priority) if one.priority else "",
    }  # fmt: skip
    return {letter: value for letter, value in told.items() if value}


def _lines(fields: dict[str, str]) -> str:
    return "".join(f"{letter}:{value}\n" for letter, value in fields.items())


def _digest(data: bytes) -> str:
    return "Q1" + base64.b64encode(hashlib.sha1(data).digest()).decode()


def _paths(goods: Iterable[Good]) -> Iterator[str]:
    """The paths of a record: each directory with what lies in it."""
    uid, gid = os.getuid(), os.getgid()
    below: dict[str, list[Good]] = {}
    modes: dict[str, int] = {}
    for good in goods:
        if good.is_directory:
            modes[good.path] = good.mode
            below.setdefault(good.path, [])
        else:
            below.setdefault(good.path.rpartition("/")[0], []).append(good)
    for folder in sorted(below):
        yield f"F:{folder[1:]}\n"
        mode = modes.get(folder, 0o755)
        # The builder's own numbers play root's, as they do in the station's list of users.
        if (uid, gid, mode) != (0, 0, 0o755):
            yield f"M:{uid}:{gid}:{mode:o}\n"
        for good in below[folder]:
            yield f"R:{good.path.rpartition('/')[2]}\n"
            mode = 0o777 if good.target is not None else good.mode
            if (uid, gid, mode) != (0, 0, 0o644):
                yield f"a:{uid}:{gid}:{mode:o}\n"
            yield f"Z:{_digest(_content(good))}\n"


def _content(good: Good) -> bytes:
    return good.target.encode() if good.target is not None else good.content or b""


def write_records(disk: Disk, kept: Iterable[KeptGood]) -> None:
    """What is installed, with all paths; and the scripts of all packages."""
    text, scripts = [], []
    for one in kept:
        identity = _identity(one)
        fields = {"C": identity, **fields_of(one)}
        if one.broken:
            fields["f"] = one.broken
        text.append(_lines(fields) + "".join(_paths(one.goods)))
        scripts += [
            Good(f"{one.ware.name}-{one.version}.{identity}.{name}", 0o755, data)
            for name, data in _scripts(one)
        ]
    folder = places.RECORDS[0]
    disk.file(f"{folder}/{places.INSTALLED}", "\n".join([*text, ""]))
    disk.file(f"{folder}/{places.SCRIPTS[0]}", tar(scripts))
    disk.file(f"{folder}/{places.TRIGGERS}", "")
    disk.file(f"{folder}/lock", "")


def _scripts(one: KeptGood) -> list[tuple[str, bytes]]:
    return [
        (_SCRIPTS[name], f"#!/bin/dsh\n# {name} of {one.ware.name}\nexit 0\n".encode())
        for name in one.ware.scripts
    ]


# -- archives -------------------------------------------------------------------------------


def tar(goods: Iterable[Good], ended: bool = True, digests: bool = False) -> bytes:
    """A tar of goods, their paths as they are; without the mark of its end unless it is `ended`.

    With `digests` each has the digest of its content in its head.
    """
    data = pax_tar(goods, tarfile.PAX_FORMAT, _told_digest if digests else None)
    return data if ended else data.rstrip(b"\0") + bytes(-len(data.rstrip(b"\0")) % 512)


def _told_digest(good: Good) -> dict[str, str]:
    if good.is_directory:
        return {}
    return {"APK-TOOLS.checksum.SHA1": hashlib.sha1(_content(good)).hexdigest()}


def _packed(data: bytes) -> bytes:
    return gzip.compress(data, 6, mtime=0)


@lru_cache(maxsize=1)
def secret_key() -> Any:
    """The office's bare key, its secret part included: nobody may ever trust it."""
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    return load_pem_private_key(files("filigree.demo").joinpath(KEY).read_bytes(), None)


def public_key() -> bytes:
    """The public part, as a file of PEM."""
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    form = PublicFormat.SubjectPublicKeyInfo
    found: bytes = secret_key().public_key().public_bytes(Encoding.PEM, form)
    return found


def signed(data: bytes, algorithm: str = "sha256", name: str = KEY_NAME, key: Any = None) -> bytes:
    """The member that goes before what is signed."""
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric.padding import PKCS1v15

    form = getattr(hashes, algorithm.upper())()
    signature = (key or secret_key()).sign(data, PKCS1v15(), form)
    return _packed(tar([Good(f"{_SIGNS[algorithm]}{name}", 0o644, signature)], ended=False))


def _members(one: KeptGood) -> tuple[bytes, bytes]:
    """What describes the package, and what it holds: the second and the third member."""
    data = _packed(tar(_payload(one), digests=True))
    names = {"P": "pkgname", "V": "pkgver", "T": "pkgdesc", "U": "url", "t": "builddate",
             "m": "packager", "I": "size", "A": "arch", "o": "origin", "c": "commit",
             "L": "license", "k": "provider_priority"}  # fmt: skip
    several = {"D": "depend", "p": "provides", "i": "install_if", "r": "replaces"}
    fields = fields_of(one)
    lines = ["# Made by the office."]
    lines += (f"{names[letter]} = {value}" for letter, value in fields.items() if letter in names)
    if "m" in fields:
        lines.append(f"maintainer = {fields['m']}")
    for letter, name in several.items():
        lines += (f"{name} = {word}" for word in fields.get(letter, "").split())
    lines.append(f"datahash = {hashlib.sha256(data).hexdigest()}")
    own = [Good(".PKGINFO", 0o644, ("\n".join(lines) + "\n").encode())]
    own += (Good(f".{name}", 0o755, text) for name, text in _scripts(one))
    return _packed(tar(own, ended=False)), data


def _payload(one: KeptGood) -> Iterator[Good]:
    for good in one.goods:
        path = good.path[1:] + ("/" if good.is_directory else "")
        yield Good(path, good.mode, good.content, good.target)


@lru_cache(maxsize=512)
def archive(one: KeptGood, algorithm: str | None = "sha256") -> bytes:
    """The archive of a ware, signed by the office, or by nobody."""
    control, data = _members(one)
    return (signed(control, algorithm) if algorithm else b"") + control + data


@lru_cache(maxsize=512)
def _identity(one: KeptGood) -> str:
    return _digest(_members(one)[0])


def cached_name(one: KeptGood) -> str:
    """What an archive is called in a system's cache: with a part of its identity."""
    part = base64.b64decode(_identity(one)[2:])[:4].hex()
    return f"{one.ware.name}-{one.version}.{part}.apk"


def index(offered: Iterable[KeptGood], algorithm: str | None = "sha256") -> bytes:
    """The index of a repository, signed by the office, or by nobody."""
    text = "\n".join(
        _lines({"C": _identity(one), **fields_of(one), "S": str(len(archive(one)))})
        for one in sorted(offered, key=lambda one: one.ware.name)
    )
    own = [
        Good("DESCRIPTION", 0o644, b"The office's packages\n"),
        Good("APKINDEX", 0o644, f"{text}\n".encode()),
    ]
    packed = _packed(tar(own))
    return (signed(packed, algorithm) if algorithm else b"") + packed
