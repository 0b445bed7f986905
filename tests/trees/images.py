"""Images made by hand, a member at a time: by a writer of their own, as the published rules say."""

import gzip
import hashlib
import io
import json
import os
import stat
import tarfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple

import zstandard


class Entry(NamedTuple):
    """One member of a layer. `content` is of a file, `target` of a link, `joined` of a hard link."""

    path: str
    mode: int = 0o644
    content: bytes | None = None
    target: str | None = None
    joined: str | None = None
    form: bytes = b""
    headers: dict[str, str] = {}  # noqa: RUF012 - never changed
    owner: int = 0
    modified: float = 10**9
    device: tuple[int, int] = (0, 0)

    @property
    def info(self) -> tarfile.TarInfo:
        """Its head."""
        info = tarfile.TarInfo(self.path)
        info.mode, info.uid, info.gid, info.mtime = self.mode, self.owner, self.owner, self.modified
        info.pax_headers = dict(self.headers)
        info.devmajor, info.devminor = self.device
        if self.form:
            info.type = self.form
        elif self.target is not None:
            info.type, info.linkname = tarfile.SYMTYPE, self.target
        elif self.joined is not None:
            info.type, info.linkname = tarfile.LNKTYPE, self.joined
        elif self.content is None:
            info.type = tarfile.DIRTYPE
        else:
            info.size = len(self.content)
        return info


def folder(path: str, mode: int = 0o755) -> Entry:
    """A directory."""
    return Entry(path, mode)


def file(path: str, content: bytes = b"", mode: int = 0o644) -> Entry:
    """A regular file."""
    return Entry(path, mode, content)


def link(path: str, target: str) -> Entry:
    """A symbolic link."""
    return Entry(path, 0o777, target=target)


def hidden(path: str) -> Entry:
    """What hides a path of the layers below."""
    parent, _, name = path.rpartition("/")
    return file(f"{parent}/.wh.{name}".lstrip("/"))


def opaque(path: str) -> Entry:
    """What hides all that the layers below have in a directory."""
    return file(f"{path}/.wh..wh..opq".lstrip("/"))


def layer_of(entries: Iterable[Entry], form: int = tarfile.PAX_FORMAT) -> bytes:
    """A layer: a tar of these members, in this order."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=form, errors="surrogateescape") as tar:
        for one in entries:
            tar.addfile(one.info, None if one.content is None else io.BytesIO(one.content))
    return out.getvalue()


def entries_of(root: Path, below: str = "") -> Iterator[Entry]:
    """Every path of a directory on the disk, as members."""
    for above, folders, files in os.walk(root / below):
        folders.sort()
        for name in sorted((*folders, *files)):
            place = os.path.join(above, name)
            seen = os.lstat(place)
            path = os.path.relpath(place, root)
            entry = Entry(
                path, stat.S_IMODE(seen.st_mode), owner=seen.st_uid, modified=seen.st_mtime
            )
            headers = {"mtime": f"{seen.st_mtime_ns // 10**9}.{seen.st_mtime_ns % 10**9:09d}"}
            if stat.S_ISLNK(seen.st_mode):
                entry = entry._replace(target=os.readlink(place))
            elif stat.S_ISREG(seen.st_mode):
                entry = entry._replace(content=Path(place).read_bytes())
                if "security.capability" in os.listxattr(place):
                    value = os.getxattr(place, "security.capability")
                    headers["SCHILY.xattr.security.capability"] = value.decode(
                        "utf-8", "surrogateescape"
                    )
            elif stat.S_ISFIFO(seen.st_mode):
                entry = entry._replace(form=tarfile.FIFOTYPE)
            yield entry._replace(headers=headers)


Packer = Callable[[bytes], bytes]


def in_two(pack: Packer) -> Packer:
    """What packs data in two parts, one behind the other."""
    return lambda data: pack(data[:700]) + pack(data[700:])


def zipped(data: bytes) -> bytes:
    return gzip.compress(data, mtime=0)


PACKERS: dict[str, Packer] = {
    "plain": bytes, "gzip": zipped, "gzip, two members": in_two(zipped), "zstd": zstandard.compress,
    "zstd, two frames": in_two(zstandard.compress),
}  # fmt: skip
_MEDIA = {"plain": "tar", "gzip": "tar+gzip", "zstd": "tar+zstd"}
MANIFEST = "application/vnd.oci.image.manifest.v1+json"
INDEX = "application/vnd.oci.image.index.v1+json"
CONFIG = "application/vnd.oci.image.config.v1+json"


def sha(data: bytes) -> str:
    return f"sha256:{hashlib.sha256(data).hexdigest()}"


class Layout:
    """An image layout in a folder, in the making."""

    def __init__(self, top: Path) -> None:
        self.top = top
        (top / "blobs/sha256").mkdir(parents=True)
        (top / "oci-layout").write_text('{"imageLayoutVersion": "1.0.0"}')

    @classmethod
    def at(cls, top: Path) -> "Layout":
        """One that lies there already."""
        found = cls.__new__(cls)
        found.top = top
        return found

    def blob(self, data: bytes) -> tuple[str, int]:
        digest = sha(data)
        (self.top / "blobs/sha256" / digest.partition(":")[2]).write_bytes(data)
        return digest, len(data)

    def add(self, told: Any, kind: str, **more: Any) -> dict[str, Any]:
        return {**self.described(json.dumps(told).encode(), kind), **more}

    def described(self, data: bytes, kind: str) -> dict[str, Any]:
        """A blob, and its descriptor."""
        digest, size = self.blob(data)
        return {"mediaType": kind, "digest": digest, "size": size}

    def layer(self, packed: bytes, kind: str) -> dict[str, Any]:
        """A blob that is a layer, and its descriptor."""
        return self.described(packed, f"application/vnd.oci.image.layer.v1.{kind}")

    def image(
        self, layers: Sequence[bytes], packing: str = "gzip", **config: Any
    ) -> dict[str, Any]:
        """The descriptor of an image of these layers, the lowest first."""
        packed = [PACKERS[packing](one) for one in layers]
        rows = [self.layer(one, _MEDIA[packing.partition(",")[0]]) for one in packed]
        told = {
            "os": "linux", "architecture": "amd64",
            "rootfs": {"type": "layers", "diff_ids": [sha(one) for one in layers]}, **config,
        }  # fmt: skip
        manifest = {"schemaVersion": 2, "config": self.add(told, CONFIG), "layers": rows}
        return self.add(manifest, MANIFEST)

    def finish(self, *manifests: dict[str, Any]) -> Path:
        told = {"schemaVersion": 2, "manifests": list(manifests)}
        (self.top / "index.json").write_text(json.dumps(told))
        return self.top


def layout(top: Path, layers: Sequence[bytes], packing: str = "gzip", **config: Any) -> Path:
    """A layout of one image."""
    made = Layout(top)
    return made.finish(made.image(layers, packing, **config))


def saved(path: Path, layers: Sequence[bytes], linked: bool = False) -> Path:
    """An image as engines save it: layers as files, or one of them as a link to another."""
    diff_ids = [sha(one) for one in layers]
    config = json.dumps(
        {"os": "linux", "architecture": "amd64", "rootfs": {"type": "layers", "diff_ids": diff_ids}}
    ).encode()
    name = f"{sha(config).partition(':')[2]}.json"
    members = [file(name, config)]
    names = []
    for number, one in enumerate(layers):
        names.append(f"layer{number}/layer.tar")
        members += [folder(f"layer{number}"), file(names[-1], one)]
    if linked:
        members.append(link("again/layer.tar", f"../{names[-1]}"))
        names[-1] = "again/layer.tar"
    told = [{"Config": name, "RepoTags": ["tides.example/gauge:2.1"], "Layers": names}]
    members.append(file("manifest.json", json.dumps(told).encode()))
    path.write_bytes(layer_of(members))
    return path
