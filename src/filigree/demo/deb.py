"""Writes the database of a made-up `deb` system: our own writer of the format."""

import io
import tarfile
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import datetime

from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, Good
from filigree.demo.rpm_bytes import PACKERS
from filigree.demo.world import OFFICE, PEOPLE, Ware
from filigree.families.deb import places

_FIELDS = (
    ("Pre-Depends", "needs_first"),
    ("Depends", "needs"),
    ("Recommends", "recommends"),
    ("Suggests", "suggests"),
    ("Enhances", "enhances"),
    ("Breaks", "breaks"),
    ("Conflicts", "conflicts"),
    ("Replaces", "replaces"),
    ("Provides", "provides"),
)


@dataclass(frozen=True, slots=True)
class Installed:
    """A ware as it is installed on one station. `missing_list` leaves its list out."""

    ware: Ware
    goods: tuple[Good, ...]
    status: str = "install ok installed"
    architecture: str = "amd64"
    at: datetime = BUILT
    chosen: bool = False

    @property
    def stem(self) -> str:
        """The name of its files beside the database."""
        name = self.ware.name
        return f"{name}:{self.architecture}" if self.shared else name

    @property
    def machine(self) -> str:
        """The architecture under which it is marked: the station's own, where it runs on any."""
        return "amd64" if self.architecture == "all" else self.architecture

    @property
    def shared(self) -> bool:
        """Whether it may stand beside itself for another architecture."""
        return bool(self.ware.library)


def version_of(ware: Ware) -> str:
    """The version of a ware as this family writes it."""
    return f"{ware.epoch}:{ware.version}" if ware.epoch else ware.version


def stanza(one: Installed) -> str:
    """The status stanza of an installed ware."""
    ware = one.ware
    size = sum(len(good.content or b"") for good in one.goods)
    lines = [f"Package: {ware.name}"]
    if ware.essential:
        lines.append("Essential: yes")
    lines += [
        f"Status: {one.status}",
        f"Priority: {'required' if ware.essential else 'optional'}",
        f"Section: {ware.section}",
        f"Installed-Size: {-(-size // 1024) + 4 * len(one.goods) // 10}",
        f"Maintainer: {PEOPLE[len(ware.name) % len(PEOPLE)]}",
        f"Architecture: {one.architecture}",
    ]
    if one.shared or ware.foreign:
        lines.append(f"Multi-Arch: {'same' if one.shared else 'foreign'}")
    if ware.source:
        lines.append(f"Source: {ware.source}")
    lines.append(f"Version: {version_of(ware)}")
    for name, attribute in _FIELDS:
        text = getattr(ware, attribute)
        if text:
            lines.append(f"{name}: {text}")
    settings = [good for good in one.goods if good.config]
    if settings:
        lines.append("Conffiles:")
        lines += (f" {good.path} {good.md5}" for good in settings)
    lines += [
        f"Description: {ware.summary}",
        f" Part of the equipment of the stations of the {OFFICE}.",
        " .",
        f" This is {ware.name} as the office ships it to every gauge.",
        f"Homepage: https://tides.example/{ware.source or ware.name}",
    ]
    return "\n".join(lines) + "\n"


def write_database(disk: Disk, installed: Iterable[Installed]) -> None:
    """Status, lists, digests, scripts and marks of everything that is installed."""
    everything = list(installed)
    disk.file(places.STATUS, "\n".join(stanza(one) for one in everything) + "\n")
    disk.file(places.ARCHITECTURES, "amd64\narm64\n")
    disk.file(f"{places.INFO}/format", "1\n")
    for one in everything:
        _write_info(disk, one)
    disk.file(
        places.AUTOMATIC,
        "".join(
            f"Package: {one.ware.name}\nArchitecture: {one.machine}\nAuto-Installed: 1\n\n"
            for one in everything
            if not one.chosen
        ),
    )


def _write_info(disk: Disk, one: Installed) -> None:
    left = "config-files" in one.status
    goods = [good for good in one.goods if good.config or not left]
    stem = f"{places.INFO}/{one.stem}"
    paths = ["/."] + [good.path for good in goods]
    disk.file(f"{stem}.list", "".join(f"{path}\n" for path in paths), at=one.at)
    settings = [good.path for good in goods if good.config]
    if settings:
        disk.file(f"{stem}.conffiles", "".join(f"{path}\n" for path in settings), at=one.at)
    digests = [f"{g.md5}  {g.path[1:]}\n" for g in goods if g.content is not None and not g.config]
    if digests:
        disk.file(f"{stem}.md5sums", "".join(digests), at=one.at)
    for script in one.ware.scripts:
        text = f"#!/bin/dsh\nset -e\n# {script} of {one.ware.name}\nexit 0\n"
        if script == "triggers":
            text = "interest-noawait saltc-cache\n"
        disk.file(f"{stem}.{script}", text, 0o755, one.at)


def moved(one: Installed, diverted: Mapping[str, str]) -> Installed:
    """The same, with files put down where diversions send them. The record keeps the originals."""
    goods = tuple(replace(good, path=diverted.get(good.path, good.path)) for good in one.goods)
    return replace(one, goods=goods)


def archive(one: Installed, packer: str = "xz", extra: Iterable[Good] = ()) -> bytes:
    """The archive of a ware; `extra` goods are put in the payload as they are, and on no list."""
    control = stanza(one).splitlines(keepends=True)
    kept = (line for line in control if not line.startswith("Status:"))
    text = "".join(kept).replace("Conffiles:\n", "")
    lines = [line for line in text.splitlines(keepends=True) if not line.startswith(" /")]
    files = {"control": "".join(lines)}
    files["md5sums"] = "".join(
        f"{g.md5}  {g.path[1:]}\n" for g in one.goods if g.content is not None and not g.config
    )
    settings = [good.path for good in one.goods if good.config]
    if settings:
        files["conffiles"] = "".join(f"{path}\n" for path in settings)
    for script in one.ware.scripts:
        files[script] = f"#!/bin/dsh\nset -e\n# {script} of {one.ware.name}\nexit 0\n"
    described = [Good(name, 0o644, content.encode()) for name, content in files.items()]
    shipped = [replace(good, path=f".{good.path}") for good in one.goods]
    endings = {
        "none": "",
        "gzip": ".gz",
        "xz": ".xz",
        "zstd": ".zst",
        "bzip2": ".bz2",
        "lzma": ".lzma",
    }
    ending = endings[packer]
    parts = {
        "debian-binary": b"2.0\n",
        f"control.tar{ending}": PACKERS[packer](tar(described)),
        f"data.tar{ending}": PACKERS[packer](tar([*shipped, *extra])),
    }
    return ar(parts)


def tar(
    goods: Iterable[Good],
    form: int = tarfile.GNU_FORMAT,
    told: Callable[[Good], dict[str, str]] | None = None,
) -> bytes:
    """A payload of goods, their paths as they are; `told` is what else the head of each tells."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=form) as file:
        for good in goods:
            info = tarfile.TarInfo(good.path)
            info.mode, info.mtime = good.mode, int(BUILT.timestamp())
            info.uname = info.gname = "root"
            if good.target is not None:
                info.type, info.linkname, info.mode = tarfile.SYMTYPE, good.target, 0o777
            elif good.content is None:
                info.type = tarfile.DIRTYPE
            else:
                info.size = len(good.content)
            if told is not None:
                info.pax_headers = told(good)
            file.addfile(info, io.BytesIO(good.content or b""))
    return out.getvalue()


def ar(parts: Mapping[str, bytes]) -> bytes:
    """Members one behind the other."""
    out = b"!<arch>\n"
    for name, content in parts.items():
        at = int(BUILT.timestamp())
        out += f"{name:<16}{at:<12}{0:<6}{0:<6}{'100644':<8}{len(content):<10}`\n".encode()
        out += content + b"\n" * (len(content) % 2)
    return out
