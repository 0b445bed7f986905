"""The stations as images of containers: a layer for each stage in which they came to be, and one more.

Two are layouts (OCI image specification 1.1), as a folder and packed, one is as an engine saves them.
"""

import gzip
import hashlib
import io
import json
import os
import shutil
import stat
import tarfile
import tempfile
from collections.abc import Callable, Iterator, Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any, NamedTuple

import zstandard

from filigree.demo.goods import BUILT, machine_code
from filigree.demo.stages import SMALL_STAGES, STAGES, Stage

FOLDER = "images"
FERRYMAN = "usr/bin/ferryman"
"""It came with the ground, runs with root's rights, and is hidden in the end."""
NAMES = {
    "heron": "images/heron", "curlew": "images/curlew", "plover": "images/plover.tar",
    "dunlin": "images/dunlin.tar", "sanderling": "images/sanderling.tar",
}  # fmt: skip
SMALL = {"sanderling": SMALL_STAGES}
"""Stations whose image is another one than what was sent: small, and of two layers."""
_INSTRUCTIONS = (
    "ADD ground.tar /",
    "RUN station-setup quayside siltmeter",
    "COPY night/ /",
    "RUN tidy-up --quiet",
)
_CAPABILITY = "security.capability"
_LAYOUT = b'{"imageLayoutVersion":"1.0.0"}'
_OCI = "application/vnd.oci.image"


class _Layer(NamedTuple):
    plain: bytes
    packed: bytes
    kind: str


def write_images(into: Path, builders: dict[str, Callable[[Path, Stage], Path]]) -> None:
    """Write the image of every station below a folder."""
    clear(into / FOLDER)
    for station, build in builders.items():
        with tempfile.TemporaryDirectory() as folder:
            stages = SMALL.get(station, STAGES)
            roots = [build(Path(folder) / str(n), stage) for n, stage in enumerate(stages)]
            write_image(into, station, roots)


def clear(folder: Path) -> None:
    """Make a folder that is empty."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()


def write_image(into: Path, station: str, stages: Sequence[Path]) -> None:
    """Write the image of one station below a folder, of what it was at each stage."""
    layers = _layers(stages)
    if station not in SMALL:
        layers.append(_last())
    path = into / NAMES[station]
    match station:
        case "heron":
            _write_layout(path, station, [_zipped(one) for one in layers])
        case "curlew":
            packed = [_Layer(one, zstandard.compress(one), "tar+zstd") for one in layers]
            _write_layout(path, station, packed)
        case "plover":
            path.write_bytes(_saved(station, layers))
        case _:
            with tempfile.TemporaryDirectory() as folder:
                _write_layout(Path(folder) / station, station, [_zipped(one) for one in layers])
                path.write_bytes(_packed(Path(folder) / station))


def _zipped(plain: bytes) -> _Layer:
    return _Layer(plain, gzip.compress(plain, 6, mtime=0), "tar+gzip")


def _layers(stages: Sequence[Path]) -> list[bytes]:
    found = []
    below: dict[str, Any] = {}
    for number, root in enumerate(stages):
        here = dict(_paths(root))
        found.append(_changeset(root, below, here, first=not number))
        below = here
    return found


def _last() -> bytes:
    """The layer that hides what was not to be seen."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as tar:
        _mark(tar, FERRYMAN)
    return out.getvalue()


def _paths(root: Path) -> Iterator[tuple[str, Any]]:
    """Every path of a stage, with what tells it apart from itself in another one."""
    for above, folders, files in os.walk(root):
        folders.sort()
        for name in sorted((*folders, *files)):
            place = Path(above) / name
            seen = place.lstat()
            form: tuple[Any, ...] = (seen.st_mode, seen.st_uid, seen.st_gid)
            if stat.S_ISLNK(seen.st_mode):
                form = (*form, os.readlink(place), seen.st_mtime_ns)
            elif stat.S_ISREG(seen.st_mode):
                content = hashlib.sha256(place.read_bytes()).digest()
                form = (*form, content, seen.st_mtime_ns, _capability(place))
            yield os.path.relpath(place, root), form


def _capability(place: Path) -> bytes | None:
    try:
        return os.getxattr(place, _CAPABILITY)
    except OSError:
        return None


def _changeset(root: Path, below: dict[str, Any], here: dict[str, Any], first: bool) -> bytes:
    """What one stage changes, as a layer."""
    out = io.BytesIO()
    joined: dict[int, str] = {}
    with tarfile.open(
        fileobj=out, mode="w", format=tarfile.PAX_FORMAT, errors="surrogateescape"
    ) as tar:
        gone = [path for path in below if path not in here]
        for path in gone:
            if os.path.dirname(path) not in gone:
                _mark(tar, path)
        for path, form in here.items():
            if below.get(path) != form:
                _member(tar, root, path, joined)
        if first:
            code = machine_code("takes people over", 20_011)
            info = _head(FERRYMAN, 0o4755, BUILT.timestamp())
            info.size = len(code)
            tar.addfile(info, io.BytesIO(code))
    return out.getvalue()


def _member(tar: tarfile.TarFile, root: Path, path: str, joined: dict[int, str]) -> None:
    place = root / path
    seen = place.lstat()
    # A directory's time is that of the building: it would be another one at every run.
    folder = stat.S_ISDIR(seen.st_mode)
    info = _head(path, stat.S_IMODE(seen.st_mode), BUILT.timestamp() if folder else seen.st_mtime)
    info.uid, info.gid = seen.st_uid, seen.st_gid
    if folder:
        info.type = tarfile.DIRTYPE
    elif stat.S_ISLNK(seen.st_mode):
        info.type, info.linkname = tarfile.SYMTYPE, os.readlink(place)
    elif seen.st_ino in joined:
        info.type, info.linkname = tarfile.LNKTYPE, joined[seen.st_ino]
    else:
        content = place.read_bytes()
        info.size = len(content)
        if seen.st_nlink > 1:
            joined[seen.st_ino] = path
        carried = _capability(place)
        if carried is not None:
            name = f"SCHILY.xattr.{_CAPABILITY}"
            info.pax_headers = {name: carried.decode("utf-8", "surrogateescape")}
        tar.addfile(info, io.BytesIO(content))
        return
    tar.addfile(info)


def _head(path: str, mode: int, at: float) -> tarfile.TarInfo:
    info = tarfile.TarInfo(path)
    info.mode, info.mtime = mode, int(at)
    return info


def _mark(tar: tarfile.TarFile, path: str) -> None:
    """What hides a path of the layers below."""
    above, _, name = path.rpartition("/")
    tar.addfile(_head(f"{above}/.wh.{name}".lstrip("/"), 0o644, BUILT.timestamp()))


# -- around the layers --------------------------------------------------------------------------


def _configuration(station: str, layers: list[bytes]) -> bytes:
    made = [BUILT + timedelta(days=30 * number) for number in range(len(layers))]
    told = {
        "created": made[-1].isoformat(), "architecture": "amd64", "os": "linux",
        "config": {
            "User": "tide", "ExposedPorts": {"8040/tcp": {}},
            "Env": ["PATH=/usr/sbin:/usr/bin", "GAUGE_TOKEN=not-shown-to-anybody"],
            "Entrypoint": ["/usr/bin/tidegauge"], "Cmd": ["--station", station],
        },
        "rootfs": {"type": "layers", "diff_ids": [_digest(one) for one in layers]},
        "history": [
            {"created": at.isoformat(), "created_by": how}
            for at, how in zip(made, _INSTRUCTIONS, strict=False)
        ],
    }  # fmt: skip
    return json.dumps(told, indent=1).encode()


def _digest(data: bytes) -> str:
    return f"sha256:{hashlib.sha256(data).hexdigest()}"


def _write_layout(path: Path, station: str, layers: list[_Layer]) -> None:
    blobs = path / "blobs" / "sha256"
    blobs.mkdir(parents=True)

    def kept(data: bytes, kind: str) -> dict[str, Any]:
        digest = _digest(data)
        (blobs / digest.partition(":")[2]).write_bytes(data)
        return {"mediaType": f"{_OCI}.{kind}", "digest": digest, "size": len(data)}

    config = kept(_configuration(station, [one.plain for one in layers]), "config.v1+json")
    rows = [kept(one.packed, f"layer.v1.{one.kind}") for one in layers]
    manifest = {"schemaVersion": 2, "config": config, "layers": rows}
    main = kept(json.dumps(manifest, indent=1).encode(), "manifest.v1+json")
    main["annotations"] = {"org.opencontainers.image.ref.name": f"tides.example/{station}:2026-03"}
    index = {"schemaVersion": 2, "manifests": [main]}
    (path / "index.json").write_text(json.dumps(index, indent=1))
    (path / "oci-layout").write_bytes(_LAYOUT)


def _packed(folder: Path) -> bytes:
    """A layout as one tar."""
    return _tar({str(one.relative_to(folder)): one.read_bytes() for one in sorted(folder.rglob("*"))
                 if one.is_file()})  # fmt: skip


def _saved(station: str, layers: list[bytes]) -> bytes:
    """An image as an engine saves it: layers by their digest, and a list of what is what."""
    config = _configuration(station, layers)
    name = f"{_digest(config).partition(':')[2]}.json"
    files = {f"{_digest(one).partition(':')[2]}/layer.tar": one for one in layers}
    told = [
        {"Config": name, "RepoTags": [f"tides.example/{station}:2026-03"], "Layers": list(files)}
    ]
    return _tar({name: config, **files, "manifest.json": json.dumps(told).encode()})


def _tar(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as tar:
        for path, content in files.items():
            info = _head(path, 0o644, BUILT.timestamp())
            info.size = len(content)
            tar.addfile(info, io.BytesIO(content))
    return out.getvalue()
