"""Builds small roots for tests, real bytes in the real formats."""

import hashlib
import os
import stat
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from filigree.demo.rpm_bytes import Row, hash_file, header, slot_file, sqlite_file
from filigree.formats.rpm.header import Type

STATUS = "var/lib/dpkg/status"
INFO = "var/lib/dpkg/info"


def md5(content: bytes) -> str:
    return hashlib.md5(content, usedforsecurity=False).hexdigest()


class Root:
    """A folder that is somebody's root."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    @property
    def path(self) -> str:
        return str(self.folder)

    def write(self, path: str, content: bytes | str, mode: int = 0o644) -> Path:
        real = self.folder / path.lstrip("/")
        real.parent.mkdir(parents=True, exist_ok=True)
        real.write_bytes(content.encode() if isinstance(content, str) else content)
        real.chmod(mode)
        return real

    def link(self, path: str, target: str) -> None:
        real = self.folder / path.lstrip("/")
        real.parent.mkdir(parents=True, exist_ok=True)
        real.symlink_to(target)


class DebRoot(Root):
    """A root that grows package by package."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.write(STATUS, b"")

    def append(self, path: str, content: bytes | str) -> None:
        real = self.folder / path
        before = real.read_bytes() if real.exists() else b""
        self.write(path, before + (content.encode() if isinstance(content, str) else content))

    def package(
        self,
        name: str,
        version: str = "1.0-1",
        files: dict[str, bytes] | None = None,
        config: dict[str, bytes] | None = None,
        listed: list[str] | None = None,
        status: str = "install ok installed",
        architecture: str = "amd64",
        stem: str | None = None,
        **fields: str,
    ) -> None:
        """One package: its stanza, its list, its digests, its files. `listed` adds bare paths."""
        files, config = files or {}, config or {}
        stanza = {
            "Package": name, "Status": status, "Architecture": architecture, "Version": version,
            "Description": f"The package {name}",
        }  # fmt: skip
        stanza |= {key.replace("_", "-"): value for key, value in fields.items()}
        if config:
            lines = [f" {path} {md5(content)}" for path, content in config.items()]
            stanza["Conffiles"] = "\n" + "\n".join(lines)
        text = "".join(f"{key}: {value}\n" for key, value in stanza.items())
        self.append(STATUS, text + "\n")
        stem = stem or name
        every = sorted({*files, *config, *(listed or ()), *self._above([*files, *config])})
        self.write(f"{INFO}/{stem}.list", "/.\n" + "".join(f"{path}\n" for path in every))
        if files:
            sums = [f"{md5(content)}  {path[1:]}\n" for path, content in files.items()]
            self.write(f"{INFO}/{stem}.md5sums", "".join(sums))
        for path, content in {**files, **config}.items():
            self.write(path, content)

    @staticmethod
    def _above(paths: list[str]) -> set[str]:
        found = set()
        for path in paths:
            while path := path.rpartition("/")[0]:
                found.add(path)
        return found


@dataclass
class F:
    """One file of a record, as its record has it; it is put down so, unless `down` is off."""

    path: str
    content: bytes = b"as shipped\n"
    mode: int = stat.S_IFREG | 0o644
    target: str = ""
    owner: str = "root"
    group: str = "root"
    flags: int = 0
    checks: int = 0xFFFFFFFF
    state: int = 0
    device: int = 0
    modified: int = 1_700_000_000
    capabilities: str = ""
    colour: int = 0
    inode: int = 0
    down: bool = True
    digest: str | None = None

    def digest_by(self, algorithm: str) -> str:
        if self.digest is not None:
            return self.digest
        if not stat.S_ISREG(self.mode):
            return ""
        return hashlib.new(algorithm, self.content, usedforsecurity=False).hexdigest()


ALGORITHMS = {1: "md5", 2: "sha1", 8: "sha256", 9: "sha384", 10: "sha512", 11: "sha224"}
Relation = tuple[str, int, str]


def relation_rows(numbers: tuple[int, int, int], relations: Iterable[Relation]) -> list[Row]:
    names, flags, versions = zip(*relations, strict=True)
    return [
        (numbers[0], Type.STRINGS, list(names)),
        (numbers[1], Type.INT32, list(flags)),
        (numbers[2], Type.STRINGS, list(versions)),
    ]


class RpmRoot(Root):
    """A root whose database is written anew, in a container of choice, with every package."""

    def __init__(
        self, folder: Path, container: str = "rpmdb.sqlite", place: str = "var/lib/rpm"
    ) -> None:
        super().__init__(folder)
        self.place = f"{place}/{container}"
        self.blobs: list[bytes] = []
        uid, gid = os.getuid(), os.getgid()
        self.write("etc/passwd", f"root:x:{uid}:{gid}::/:/bin/dsh\ntide:x:950:950::/:\n")
        self.write("etc/group", f"root:x:{gid}:\ntide:x:950:\n")
        self.save()

    def save(self) -> None:
        path = self.folder / self.place
        path.parent.mkdir(parents=True, exist_ok=True)
        path.unlink(missing_ok=True)
        if path.name == "rpmdb.sqlite":
            sqlite_file(path, self.blobs)
        elif path.name == "Packages.db":
            path.write_bytes(slot_file(self.blobs))
        else:
            pairs = [(n.to_bytes(4, "little"), blob) for n, blob in enumerate(self.blobs, 1)]
            path.write_bytes(hash_file([(bytes(4), bytes(4)), *pairs]))

    def package(
        self,
        name: str,
        version: str = "1.0",
        release: str = "1",
        *files: F,
        algorithm: int = 8,
        architecture: str = "x86_64",
        rows: Iterable[Row] = (),
        old_names: bool = False,
        **relations: list[Relation],
    ) -> None:
        """One package. `relations` by the tags' names: `provides`, `requires` …"""
        main = package_rows(name, version, release, files, algorithm, old_names, relations)
        main += [(1022, Type.STRING, architecture), *rows]
        after: list[Row] = [(1008, Type.INT32, 1_700_000_100)]
        if files:
            after.append((1029, Type.CHAR, [f.state for f in files]))
        self.blobs.append(header(sorted(main, key=lambda row: row[0]), after=after))
        self.save()
        for f in files:
            if f.down:
                self.put_down(f)

    def put_down(self, f: F) -> None:
        if stat.S_ISLNK(f.mode):
            self.link(f.path, f.target)
        elif stat.S_ISDIR(f.mode):
            (self.folder / f.path.lstrip("/")).mkdir(parents=True, exist_ok=True)
        elif stat.S_ISREG(f.mode):
            real = self.write(f.path, f.content, f.mode & 0o7777)
            os.utime(real, (f.modified, f.modified))


def package_rows(
    name: str,
    version: str,
    release: str,
    files: tuple[F, ...] = (),
    algorithm: int = 8,
    old_names: bool = False,
    relations: dict[str, list[Relation]] | None = None,
) -> list[Row]:
    """The rows of a header, unsorted."""
    from filigree.formats.rpm.tags import RELATIONS

    rows: list[Row] = [
        (1000, Type.STRING, name),
        (1001, Type.STRING, version),
        (1002, Type.STRING, release),
    ]
    if files:
        rows += file_rows(files, algorithm, old_names)
    for which, found in (relations or {}).items():
        rows += relation_rows(RELATIONS[which], found)
    return rows


def file_rows(files: tuple[F, ...], algorithm: int, old_names: bool) -> list[Row]:
    folders = sorted({f"{f.path.rpartition('/')[0]}/" for f in files})
    named: list[Row] = [
        (1116, Type.INT32, [folders.index(f"{f.path.rpartition('/')[0]}/") for f in files]),
        (1117, Type.STRINGS, [f.path.rpartition("/")[2] for f in files]),
        (1118, Type.STRINGS, folders),
    ]
    if old_names:
        named = [(1027, Type.STRINGS, [f.path for f in files])]
    if algorithm != 1:
        named.append((5011, Type.INT32, algorithm))
    return [
        *named,
        (1028, Type.INT32, [len(f.target or f.content) for f in files]),
        (1030, Type.INT16, [f.mode for f in files]),
        (1033, Type.INT16, [f.device for f in files]),
        (1034, Type.INT32, [f.modified for f in files]),
        (1035, Type.STRINGS, [f.digest_by(ALGORITHMS[algorithm]) for f in files]),
        (1036, Type.STRINGS, [f.target for f in files]),
        (1037, Type.INT32, [f.flags for f in files]),
        (1039, Type.STRINGS, [f.owner for f in files]),
        (1040, Type.STRINGS, [f.group for f in files]),
        (1045, Type.INT32, [f.checks for f in files]),
        (1095, Type.INT32, [1] * len(files)),
        (1096, Type.INT32, [f.inode or n for n, f in enumerate(files, 100)]),
        (1140, Type.INT32, [f.colour for f in files]),
        (5010, Type.STRINGS, [f.capabilities for f in files]),
    ]
