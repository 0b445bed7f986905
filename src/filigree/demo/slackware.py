"""Writes records, archives and lists of a made-up `slackware` system: our own writer of the formats."""

import hashlib
import re
import stat
import tarfile
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import lru_cache

from filigree.demo.deb import tar
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, Good, words
from filigree.demo.repository import detached, public_key
from filigree.demo.rpm_bytes import PACKERS
from filigree.demo.world import Ware
from filigree.families.slackware import places

MAIN = "slackware64"
LIBRARIES = "/usr/lib64"
_SERIES = {
    "base": "a", "admin": "a", "shells": "a", "libs": "l", "libdevel": "d", "net": "n", "mail": "n",
    "web": "n", "graphics": "x", "fonts": "x", "doc": "f", "misc": "a",
}  # fmt: skip
_ITEM = re.compile(r"(?P<name>\S+)(?: \((?P<operator>\S+) (?P<version>\S+)\))?")
_OPERATORS = {"<<": "<", "<=": "<=", "=": "=", ">=": ">=", ">>": ">"}
_RULER = "      |-----handy-ruler------------------------------------------------------|"
_BAR = "+--------------------------+"


@dataclass(frozen=True, slots=True)
class InstalledWare:
    """A ware as this family keeps it. `part` is where in the repository its archive lies."""

    ware: Ware
    goods: tuple[Good, ...]
    at: datetime = BUILT
    tag: str = ""
    part: str = MAIN

    @property
    def parts(self) -> tuple[str, str]:
        version, _, build = self.ware.version.partition("-")
        number, _, fix = build.partition("+fix")
        # What mends a hole is the next build of the same version.
        return version, f"{int(number) + 1 if fix else build or '1'}{self.tag}"

    @property
    def label(self) -> str:
        version, build = self.parts
        machine = "noarch" if self.ware.any_machine else "x86_64"
        return f"{self.ware.name}-{version}-{machine}-{build}"

    @property
    def file_name(self) -> str:
        """What its archive is called."""
        return f"{self.label}.txz"

    @property
    def series(self) -> str:
        """The series of archives that it is of."""
        return _SERIES.get(self.ware.section, "ap")

    @property
    def folder(self) -> str:
        """The folder of a repository that its archive lies in."""
        return f"./{self.part}/{'packages' if self.part == 'patches' else self.series}"

    @property
    def place(self) -> str:
        return f"{self.folder}/{self.file_name}"

    @property
    def size(self) -> int:
        return sum(len(good.content or b"") for good in self.goods)


# -- what is told of a package --------------------------------------------------------------


def description(one: InstalledWare) -> list[str]:
    """Eleven lines, each with the name in front."""
    name = one.ware.name
    lines = [f"{name} ({one.ware.summary})", "", *words(f"{name}/words", 44).splitlines()[:4], ""]
    lines.append(f"Homepage: https://tides.example/{one.ware.source or name}")
    lines += [""] * (11 - len(lines))
    return [f"{name}: {line}".rstrip() for line in lines]


def _kilobytes(size: int) -> str:
    return f"{-(-size // 1024)}K" if size < 10 << 20 else f"{size / (1 << 20):.1f}M"


def _written(good: Good) -> str:
    """A path as it is shipped: configuration under another name, so that nothing is lost."""
    path = good.path[1:] + (".new" if good.config else "")
    return path + "/" if good.is_directory else path


def _shipped(one: InstalledWare) -> list[Good]:
    """What the archive holds: no links, which its script makes."""
    return [good for good in one.goods if good.target is None]


def script(one: InstalledWare) -> str:
    """What puts settings in place, and makes links."""
    settings = [good.path[1:] for good in one.goods if good.config]
    links = [good for good in one.goods if good.target is not None]
    text = ""
    if settings:
        text += 'config() {\n  NEW="$1"\n  OLD="$(dirname $NEW)/$(basename $NEW .new)"\n'
        text += "  if [ ! -r $OLD ]; then\n    mv $NEW $OLD\n  fi\n}\n"
        text += "".join(f"config {path}.new\n" for path in settings)
    for good in links:
        folder, _, name = good.path[1:].rpartition("/")
        text += f"( cd {folder} ; rm -rf {name} )\n( cd {folder} ; ln -sf {good.target} {name} )\n"
    return text


def record(one: InstalledWare, archive_size: int) -> str:
    """The record of an installed package."""
    paths = "".join(f"{_written(good)}\n" for good in _shipped(one))
    own = "install/\ninstall/slack-desc\n" + ("install/doinst.sh\n" if script(one) else "")
    return (
        f"PACKAGE NAME:     {one.label}\n"
        f"COMPRESSED PACKAGE SIZE:     {_kilobytes(archive_size)}\n"
        f"UNCOMPRESSED PACKAGE SIZE:     {_kilobytes(one.size)}\n"
        f"PACKAGE LOCATION: {one.place}\n"
        "PACKAGE DESCRIPTION:\n" + "\n".join(description(one)) + f"\nFILE LIST:\n./\n{own}{paths}"
    )


def write_database(disk: Disk, kept: Iterable[InstalledWare]) -> None:
    """A text for each package, and its script; the older place is a link to the newer."""
    for one in kept:
        text = record(one, len(pooled(one)))
        disk.file(f"{places.RECORDS[0]}/{one.label}", text, at=one.at)
        if script(one):
            disk.file(f"{places.SCRIPTS[0]}/{one.label}", script(one), 0o755, at=one.at)
    disk.link(places.RECORDS[1], "../lib/pkgtools/packages")
    disk.link(places.SCRIPTS[1], "../lib/pkgtools/scripts")


# -- archives -------------------------------------------------------------------------------


def archive(one: InstalledWare, packer: str = "xz", needs: bool = True) -> bytes:
    """The archive of a ware."""
    text = "# How it is described.\n" + " " * len(one.ware.name) + _RULER.lstrip() + "\n"
    own = [("install/slack-desc", text + "\n".join(description(one)) + "\n", 0o644)]
    if script(one):
        own.append(("install/doinst.sh", script(one), 0o644))
    if needs:
        told = "".join(f"{need}\n" for need in needs_of(one.ware))
        own.append(("install/slack-required", told, 0o644))
    goods = [Good("./", 0o755), Good("install/", 0o755)]
    goods += (Good(name, mode, content.encode()) for name, content, mode in own)
    goods += (replace(good, path=_written(good), config=False) for good in _shipped(one))
    return PACKERS[packer](tar(goods, tarfile.USTAR_FORMAT))


@lru_cache(maxsize=256)
def pooled(one: InstalledWare) -> bytes:
    """The archive of a ware, as the office offers it."""
    return archive(one)


def needs_of(ware: Ware) -> list[str]:
    """The needs of a ware as a list writes them; alternatives beside each other."""
    return _relations(f"{ware.needs_first}, {ware.needs}")


def _relations(text: str) -> list[str]:
    found = []
    for group in filter(None, (part.strip() for part in text.split(","))):
        choices = []
        for item in group.split("|"):
            match = _ITEM.fullmatch(item.strip())
            assert match is not None, item
            # What provides a name has that name here: there are no others.
            name = _PROVIDERS.get(match["name"], match["name"])
            version = (match["version"] or "").partition("~")[0].rpartition(":")[2]
            operator = f" {_OPERATORS[match['operator']]} {version}" if version else ""
            choices.append(f"{name}{operator}")
        found.append("|".join(dict.fromkeys(choices)))
    return list(dict.fromkeys(found))


_PROVIDERS = {"station-shell": "dulse", "buoy-data": "buoy-data-small", "mail-courier": "gullpost"}


# -- lists ----------------------------------------------------------------------------------


def packages_text(offered: Sequence[InstalledWare]) -> str:
    """The list of what is offered, needs included."""
    total = sum(len(pooled(one)) for one in offered)
    text = f"PACKAGES.TXT;  {BUILT:%a %b %d %H:%M:%S UTC %Y}\n\n"
    text += f"Total size of all packages (compressed):  {total >> 10} KB\n\n"
    return text + "\n".join(_stanza(one) for one in offered)


def _stanza(one: InstalledWare) -> str:
    ware = one.ware
    wishes = _relations(f"{ware.recommends}, {ware.suggests}")
    names = [re.split(r"[ |]", wish)[0] for wish in wishes]
    conflicts = _relations(f"{ware.breaks}, {ware.conflicts}")
    return (
        f"PACKAGE NAME:  {one.file_name}\nPACKAGE LOCATION:  {one.folder}\n"
        f"PACKAGE SIZE (compressed):  {_kilobytes(len(pooled(one)))[:-1]} K\n"
        f"PACKAGE SIZE (uncompressed):  {_kilobytes(one.size)[:-1]} K\n"
        f"PACKAGE REQUIRED:  {','.join(needs_of(ware))}\n"
        f"PACKAGE CONFLICTS:  {','.join(conflicts)}\nPACKAGE SUGGESTS:  {','.join(names)}\n"
        "PACKAGE DESCRIPTION:\n" + "\n".join(description(one)) + "\n"
    )


def manifest(offered: Iterable[InstalledWare]) -> bytes:
    """What every archive holds, in a long listing."""
    at = f"{BUILT:%Y-%m-%d %H:%M}"
    lines: list[str] = []
    for one in offered:
        lines += ["++========================================", "||"]
        lines += [f"||   Package:  {one.place}", "||", "++========================================"]
        lines.append(f"drwxr-xr-x root/root         0 {at} ./")
        for good in _shipped(one):
            sign = "d" if good.is_directory else "-"
            size = len(good.content or b"")
            mode = stat.filemode(good.mode)[1:]
            lines.append(f"{sign}{mode} root/root {size:>9} {at} {_written(good)}")
        lines.append("")
    return PACKERS["bzip2"](("\n".join(lines) + "\n").encode())


@dataclass(frozen=True, slots=True)
class ChangeEntry:
    """One change that the office tells of: when, which builds, what was done, and in how many words."""

    at: datetime
    builds: tuple[InstalledWare, ...]
    action: str
    words: str = ""
    security: bool = False


def changes_text(changes: Iterable[ChangeEntry]) -> str:
    """The list of changes, the newest first."""
    days = []
    for one in sorted(changes, key=lambda one: one.at, reverse=True):
        lines = [f"{one.at:%a %b} {one.at.day:>2} {one.at:%H:%M:%S} UTC {one.at:%Y}"]
        lines += (f"{build.place.removeprefix('./')}:  {one.action}." for build in one.builds)
        lines += (f"  {line}" for line in one.words.splitlines())
        lines += ["  (* Security fix *)"] if one.security else []
        days.append("\n".join(lines))
    return f"\n{_BAR}\n".join(days) + "\n"


def repository(
    offered: Sequence[InstalledWare], changes: Iterable[ChangeEntry]
) -> dict[str, bytes]:
    """The whole tree of a repository by its paths, signed by the office."""
    tree = {one.place.removeprefix("./"): pooled(one) for one in offered}
    tree["PACKAGES.TXT"] = packages_text(offered).encode()
    tree["ChangeLog.txt"] = changes_text(changes).encode()
    tree["GPG-KEY"] = public_key()
    for part in dict.fromkeys(one.part for one in offered):
        mine = [one for one in offered if one.part == part]
        tree[f"{part}/MANIFEST.bz2"] = manifest(mine)
    at = f"{BUILT:%Y-%m-%d %H:%M}"
    listing = [f"{BUILT:%a %b %d %H:%M:%S UTC %Y}", "", "Here is the file list of the office.", ""]
    listing += (
        f"-rw-r--r--  1 root root {len(data):>9} {at} ./{path}"
        for path, data in sorted(tree.items())
    )
    tree["FILELIST.TXT"] = ("\n".join(listing) + "\n").encode()
    sums = ["These are the MD5 message digests for the files in this directory.", ""]
    sums += (
        f"{hashlib.md5(data, usedforsecurity=False).hexdigest()}  ./{path}"
        for path, data in sorted(tree.items())
    )
    tree["CHECKSUMS.md5"] = ("\n".join(sums) + "\n").encode()
    tree["CHECKSUMS.md5.asc"] = detached(tree["CHECKSUMS.md5"])
    return tree


# -- build scripts --------------------------------------------------------------------------


def info_text(ware: Ware) -> str:
    """What the script of a ware tells of it."""
    version = ware.version.partition("-")[0]
    names = [re.split(r"[ |]", need)[0] for need in needs_of(ware)]
    return (
        f'PRGNAM="{ware.name}"\nVERSION="{version}"\n'
        f'HOMEPAGE="https://tides.example/{ware.name}"\n'
        f'DOWNLOAD="https://tides.example/{ware.name}/{ware.name}-{version}.tar.xz \\\n'
        f'          https://tides.example/{ware.name}/words.tar.xz"\n'
        f'MD5SUM="{hashlib.md5(ware.name.encode(), usedforsecurity=False).hexdigest()}"\n'
        f'REQUIRES="{" ".join(names)} %README%"\n'
        'MAINTAINER="Ottoline Marsh"\nEMAIL="ottoline@tides.example"\n'
    )


def script_list(wares: Iterable[Ware], group: str = "shore") -> str:
    """All scripts in one list."""
    blocks = []
    for ware in wares:
        names = [re.split(r"[ |]", need)[0] for need in needs_of(ware)]
        blocks.append(
            f"SLACKBUILD NAME: {ware.name}\nSLACKBUILD LOCATION: ./{group}/{ware.name}\n"
            f"SLACKBUILD VERSION: {ware.version.partition('-')[0]}\n"
            f"SLACKBUILD REQUIRES: {' '.join(names)}\n"
            f"SLACKBUILD SHORT DESCRIPTION:  {ware.name} ({ware.summary})\n"
        )
    return "\n".join(blocks)
