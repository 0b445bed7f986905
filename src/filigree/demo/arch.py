"""Writes the database and the archives of a made-up `arch` system: our own writer of the formats."""

import base64
import gzip
import hashlib
import os
import re
import tarfile
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import lru_cache

from filigree.demo.deb import tar
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, Good
from filigree.demo.repository import detached
from filigree.demo.rpm_bytes import PACKERS
from filigree.demo.world import PEOPLE, WARES, Ware
from filigree.families.arch import places

_ITEM = re.compile(r"(?P<name>\S+)(?: \((?P<operator>\S+) (?P<version>\S+)\))?")
_OPERATORS = {"<<": "<", "<=": "<=", "=": "=", ">=": ">=", ">>": ">"}
_GROUPS = {"science": "gauge-station", "graphics": "charts"}
_PLAIN = re.compile(rb"[!-\"$-<>-\[\]-~]")
Fields = list[tuple[str, Sequence[str]]]


@dataclass(frozen=True, slots=True)
class InstalledGood:
    """A ware as this family keeps it."""

    ware: Ware
    goods: tuple[Good, ...]
    at: datetime = BUILT
    chosen: bool = False

    @property
    def version(self) -> str:
        """The full version: every one has a release here."""
        ware = self.ware
        version = ware.version if "-" in ware.version else f"{ware.version}-1"
        return f"{ware.epoch}:{version}" if ware.epoch else version

    @property
    def architecture(self) -> str:
        return "any" if self.ware.any_machine else "x86_64"

    @property
    def folder(self) -> str:
        """What its folder in the database is called."""
        return f"{places.LOCAL}/{self.ware.name}-{self.version}"

    @property
    def file_name(self) -> str:
        """What its archive is called."""
        return f"{self.ware.name}-{self.version}-{self.architecture}.pkg.tar.zst"


def merged(goods: Iterable[Good]) -> tuple[Good, ...]:
    """Goods as a system has them whose directories of programs are one."""
    found = {}
    for good in goods:
        path = re.sub(r"^/(bin|sbin|lib)(?=/|$)", r"/usr/\1", good.path)
        path = path.replace("/usr/sbin", "/usr/bin")
        found[path] = replace(good, path=path)
    return tuple(sorted(found.values(), key=lambda good: good.path))


# -- what is told of a package --------------------------------------------------------------


def _relations(text: str) -> list[str]:
    """Relations out of the world's notation; of alternatives the last."""
    found = []
    for group in filter(None, (part.strip() for part in text.split(","))):
        match = _ITEM.fullmatch(group.split("|")[-1].strip())
        assert match is not None, group
        operator = _OPERATORS[match["operator"]] if match["operator"] else ""
        found.append(f"{match['name']}{operator}{match['version'] or ''}")
    return found


def _wishes(ware: Ware) -> list[str]:
    """What it can do without, and what each is good for."""
    found = []
    for relation in _relations(f"{ware.recommends}, {ware.suggests}"):
        name = re.split(r"[<>=]", relation)[0]
        other = next((one.summary for one in WARES if one.name == name), None)
        found.append(f"{relation}: {other.lower()}" if other else relation)
    return found


def _fields(one: InstalledGood) -> Fields:
    ware = one.ware
    group = _GROUPS.get(ware.section)
    return [
        ("NAME", [ware.name]), ("VERSION", [one.version]), ("BASE", [ware.source or ware.name]),
        ("DESC", [ware.summary]), ("URL", [f"https://tides.example/{ware.source or ware.name}"]),
        ("ARCH", [one.architecture]), ("BUILDDATE", [str(int(BUILT.timestamp()))]),
        ("PACKAGER", [PEOPLE[len(ware.name) % len(PEOPLE)]]),
        ("SIZE", [str(sum(len(good.content or b"") for good in one.goods))]),
        ("GROUPS", [group] if group else []), ("LICENSE", ["custom:minds-the-tide"]),
        ("REPLACES", _relations(ware.replaces)),
        ("DEPENDS", _relations(f"{ware.needs_first}, {ware.needs}")), ("OPTDEPENDS", _wishes(ware)),
        ("CONFLICTS", _relations(f"{ware.breaks}, {ware.conflicts}")),
        ("PROVIDES", _relations(ware.provides)),
    ]  # fmt: skip


def _blocks(fields: Iterable[tuple[str, Sequence[str]]]) -> str:
    parts = (
        f"%{name}%\n" + "".join(f"{value}\n" for value in values)
        for name, values in fields
        if values
    )
    return "\n".join(parts) + "\n"


def _settings(one: InstalledGood) -> list[str]:
    return [f"{good.path[1:]}\t{good.md5}" for good in one.goods if good.config]


def _written(good: Good) -> str:
    return good.path[1:] + ("/" if good.is_directory else "")


def write_database(disk: Disk, kept: Iterable[InstalledGood]) -> None:
    """A folder for each package: what it is, its paths, its listing, its script."""
    disk.file(f"{places.LOCAL}/ALPM_DB_VERSION", "9\n")
    for one in kept:
        fields = _fields(one)
        fields.append(("INSTALLDATE", [str(int(one.at.timestamp()))]))
        if not one.chosen:
            fields.append(("REASON", ["1"]))
        fields.append(("VALIDATION", ["pgp"]))
        disk.file(f"{one.folder}/desc", _blocks(fields), at=one.at)
        paths = [("FILES", [_written(good) for good in one.goods]), ("BACKUP", _settings(one))]
        disk.file(f"{one.folder}/files", _blocks(paths), at=one.at)
        disk.file(f"{one.folder}/mtree", gzip.compress(listing(one), mtime=0), at=one.at)
        if one.ware.scripts:
            disk.file(f"{one.folder}/install", _script(one), at=one.at)


def _script(one: InstalledGood) -> str:
    return f"# what {one.ware.name} does when it comes\npost_install() {{\n  true\n}}\n"


def escaped(path: str) -> bytes:
    """A path as a listing writes it: what is no plain sign in three octal digits."""
    data = path.encode("utf-8", "surrogateescape")
    return b"".join(
        bytes([byte]) if _PLAIN.match(bytes([byte])) else b"\\%03o" % byte for byte in data
    )


def listing(one: InstalledGood) -> bytes:
    """What every file is to be, in the `mtree` form."""
    at = int(BUILT.timestamp())
    # The builder's own numbers play root's, as they do in the station's list of users.
    lines = [b"#mtree", b"/set type=file uid=%d gid=%d mode=644" % (os.getuid(), os.getgid())]
    lines += (
        b"./%s time=%d.0 size=%d md5digest=%s sha256digest=%s"
        % (name.encode(), at, len(data), *(Good("", content=data).md5.encode(), _sha256(data)))
        for name, data in _own(one)
        if name != ".MTREE"
    )
    for good in one.goods:
        line = b".%s time=%d.0" % (escaped(good.path), at)
        if good.target is not None:
            line += b" mode=777 type=link link=" + escaped(good.target)
        elif good.content is None:
            line += b" mode=%o type=dir" % good.mode
        else:
            line += b" mode=%o" % good.mode if good.mode != 0o644 else b""
            line += b" size=%d md5digest=%s" % (len(good.content), good.md5.encode())
            line += b" sha256digest=" + _sha256(good.content)
        lines.append(line)
    return b"\n".join(lines) + b"\n"


def _sha256(data: bytes) -> bytes:
    return hashlib.sha256(data).hexdigest().encode()


# -- archives -------------------------------------------------------------------------------

_KEYS = {
    "NAME": "pkgname", "BASE": "pkgbase", "VERSION": "pkgver", "DESC": "pkgdesc", "URL": "url",
    "BUILDDATE": "builddate", "PACKAGER": "packager", "SIZE": "size", "ARCH": "arch",
    "LICENSE": "license", "REPLACES": "replaces", "GROUPS": "group", "CONFLICTS": "conflict",
    "PROVIDES": "provides", "DEPENDS": "depend", "OPTDEPENDS": "optdepend",
}  # fmt: skip


def _own(one: InstalledGood) -> Iterator[tuple[str, bytes]]:
    """The members that describe the package, but for the listing."""
    lines = ["# Made by the office."]
    lines += (f"{_KEYS[name]} = {value}" for name, values in _fields(one) for value in values)
    lines += (f"backup = {good.path[1:]}" for good in one.goods if good.config)
    yield ".BUILDINFO", b"format = 2\n"
    yield ".PKGINFO", ("\n".join(lines) + "\n").encode()
    if one.ware.scripts:
        yield ".INSTALL", _script(one).encode()


def archive(one: InstalledGood, packer: str = "zstd") -> bytes:
    """The archive of a ware."""
    own = [*_own(one), (".MTREE", gzip.compress(listing(one), mtime=0))]
    goods = [Good(name, 0o644, data) for name, data in own]
    goods += (replace(good, path=good.path[1:]) for good in one.goods)
    return PACKERS[packer](_tar(goods))


def _tar(goods: Iterable[Good]) -> bytes:
    return tar(goods, tarfile.PAX_FORMAT)


# -- indexes --------------------------------------------------------------------------------


def index(offered: Iterable[InstalledGood], paths: bool = False) -> bytes:
    """The index of a repository, or that of its paths; each archive signed in it by the office."""
    goods = []
    for one in sorted(offered, key=lambda one: one.ware.name):
        folder = f"{one.ware.name}-{one.version}"
        goods.append(Good(f"{folder}/", 0o755))
        goods.append(Good(f"{folder}/desc", 0o644, _entry(one).encode()))
        if paths:
            text = _blocks([("FILES", [_written(good) for good in one.goods])])
            goods.append(Good(f"{folder}/files", 0o644, text.encode()))
    return PACKERS["gzip"](_tar(goods))


def _entry(one: InstalledGood) -> str:
    content = pooled(one)
    fields = [(name, values) for name, values in _fields(one) if name != "SIZE"]
    signature = base64.b64encode(detached(content, armoured=False)).decode("ascii")
    return _blocks([
        ("FILENAME", [one.file_name]), *fields, ("CSIZE", [str(len(content))]),
        ("ISIZE", [str(sum(len(good.content or b"") for good in one.goods))]),
        ("SHA256SUM", [_sha256(content).decode()]), ("PGPSIG", [signature]),
    ])  # fmt: skip


@lru_cache(maxsize=256)
def pooled(one: InstalledGood) -> bytes:
    """The archive of a ware, as the office offers it."""
    return archive(one)
