"""A small root of each family with two packages, their signed archives outside of it, and what somebody
with all rights there may do: to a program, to the records, to the system's own policy."""

import gzip
import hashlib
import os
import re
import shutil
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

from filigree.demo import apk, arch, deb, dunlin, plover, rpm, rpm_wares, sanderling, slackware
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, goods_of
from filigree.demo.ground import lay_ground
from filigree.demo.repository import detached, public_key
from filigree.demo.rpm_bytes import Row, header, signature_rows, sqlite_file
from filigree.demo.world import WARES
from filigree.families.apk import places as apk_places
from filigree.families.arch import places as arch_places
from filigree.families.deb import places as deb_places
from filigree.families.rpm import places as rpm_places
from filigree.families.slackware import places as slackware_places
from filigree.formats.apk.records import written_digest
from filigree.formats.ar import read_members
from filigree.formats.random_access import MemoryBytes
from filigree.formats.rpm.header import Type
from filigree.model.answer import Answer
from filigree.model.files import Evidence, Verdict
from filigree.questions.commands.verify import verify
from filigree.questions.evidence.references import NOTHING, Against
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.verifying.verdicts import FileVerdict, Manner
from filigree.system import open_system

PROGRAM = "/usr/bin/tidegauge"
WARES_HERE = tuple(ware for ware in WARES if ware.name in ("tidegauge", "siltmeter"))
FAMILIES = ("deb", "rpm", "arch", "slackware", "apk")
GAUGE = next(ware for ware in WARES_HERE if ware.name == "tidegauge")


@dataclass(frozen=True)
class Stand:
    """A root, the archives of what is installed there, and the auditor's own keyring."""

    family: str
    disk: Disk
    archives: tuple[str, ...]
    keyring: str

    def ask(
        self, least: Evidence = Evidence.SIGNED, subjects: Sequence[str] | None = None
    ) -> Answer[FileVerdict, Any]:
        """Everything verified, on the least evidence that counts; by the record alone no archive does."""
        against = Against(paths=self.archives) if least is not Evidence.RECORD else NOTHING
        with open_system(str(self.disk.folder)) as system:
            return verify(
                system, subjects, frozenset(Verdict), workers=1, manner=Manner(against, least),
                options=RepositoryOptions(keyring=(self.keyring,)),
            )  # fmt: skip

    def row(self, path: str = PROGRAM, least: Evidence = Evidence.SIGNED) -> FileVerdict:
        """The worst that is said of a path."""
        rows = [row for row in self.ask(least).records if row.path == path]
        return min(rows, key=lambda row: list(Verdict).index(row.verdict))

    @property
    def shipped(self) -> bytes:
        """What the program is to be."""
        return next(good.content or b"" for good in goods_of(GAUGE) if good.path == PROGRAM)

    def swap(self) -> bytes:
        """Put another program of the same size in the place of the gauge's."""
        other = bytes(reversed(self.shipped))
        self.disk.file(PROGRAM, other, 0o755)
        return other

    def text(self, path: str) -> str:
        return self.disk.real(path).read_text()

    def change(self, path: str, old: str, new: str) -> None:
        text = self.text(path)
        assert old in text, (path, old)
        self.disk.file(path, text.replace(old, new))


def md5(content: bytes) -> str:
    return hashlib.md5(content, usedforsecurity=False).hexdigest()


@lru_cache(maxsize=4)
def _template(family: str) -> tempfile.TemporaryDirectory[str]:
    """A stand that is built once, to be copied."""
    made = tempfile.TemporaryDirectory(prefix="stand-")
    folder = Path(made.name) / family
    disk = Disk(folder / "root")
    lay_ground(disk, "stand")
    (folder / "archives").mkdir()
    for name, content in _BUILDERS[family](disk):
        (folder / "archives" / name).write_bytes(content)
    (folder / _keyring(family)).write_bytes(public_key() if family != "apk" else apk.public_key())
    return made


def _keyring(family: str) -> str:
    """What the auditor's keyring is called: a bare key by the name that signatures tell."""
    return apk.KEY_NAME if family == "apk" else "office.asc"


def build(family: str, folder: Path) -> Stand:
    """A stand of one's own, below a folder."""
    own = folder / family
    shutil.copytree(Path(_template(family).name) / family, own, symlinks=True)
    disk = Disk.__new__(Disk)
    disk.folder = own / "root"
    return Stand(family, disk, (str(own / "archives"),), str(own / _keyring(family)))


def _deb(disk: Disk) -> list[tuple[str, bytes]]:
    ones = [deb.Installed(ware, goods_of(ware), chosen=True) for ware in WARES_HERE]
    for one in ones:
        disk.ship(one.goods)
    deb.write_database(disk, ones)
    found = []
    for one in ones:
        plain = deb.archive(one, "gzip")
        content = b"".join(
            plain[m.start : m.start + m.size] for m in read_members(MemoryBytes(plain))
        )
        signature = deb.ar({"_gpgorigin": detached(content, armoured=False)})[8:]
        name = f"{one.ware.name}_{one.ware.version}_{one.architecture}.deb"
        found.append((name, plain + signature))
    return found


def shipped_rpms() -> list[rpm.Shipped]:
    """As the office ships them, with nothing given away or waived."""
    return [replace(rpm_wares.shipped(ware), owners=(), claimed=()) for ware in WARES_HERE]


def rpm_record(
    one: rpm.Shipped, states: dict[str, int] | None = None, signed: bool = True,
    forge: Callable[[Row], Row] = lambda row: row,
) -> bytes:  # fmt: skip
    """A header as the database keeps it, with the states of some of its files, or changed."""
    rows = rpm.rows_of(one)
    covered = header(rows, magic=True)
    after: list[Row] = [
        (1008, Type.INT32, int(BUILT.timestamp())),
        (1029, Type.CHAR, [(states or {}).get(good.path, 0) & 0xFF for good in one.goods]),
    ]
    signatures = signature_rows(covered, rpm.signed) if signed else []
    return header([forge(row) for row in rows], after=[*signatures, *after])


def rpm_database(disk: Disk, blobs: Sequence[bytes]) -> None:
    path = disk.real(f"{rpm_places.DATABASES[0]}/{rpm_places.SQLITE}")
    path.parent.mkdir(parents=True, exist_ok=True)
    path.unlink(missing_ok=True)
    sqlite_file(path, list(blobs))


def _rpm(disk: Disk) -> list[tuple[str, bytes]]:
    ones = shipped_rpms()
    for one in ones:
        disk.ship(one.goods)
    rpm_database(disk, [rpm_record(one) for one in ones])
    return [(one.file_name, rpm.archive(one)) for one in ones]


def _arch(disk: Disk) -> list[tuple[str, bytes]]:
    ones = [plover.kept(ware) for ware in WARES_HERE]
    for one in ones:
        disk.ship(one.goods)
    arch.write_database(disk, ones)
    disk.file(arch_places.SETTINGS, "[options]\nArchitecture = auto\n")
    return _beside([(one.file_name, arch.archive(one)) for one in ones], ".sig")


def _slackware(disk: Disk) -> list[tuple[str, bytes]]:
    ones = [dunlin.kept(ware) for ware in WARES_HERE]
    for one in ones:
        disk.ship(one.goods)
    slackware.write_database(disk, ones)
    return _beside([(one.file_name, slackware.archive(one)) for one in ones], ".asc")


def _apk(disk: Disk) -> list[tuple[str, bytes]]:
    ones = [sanderling.kept(ware) for ware in WARES_HERE]
    for one in ones:
        disk.ship(one.goods)
    apk.write_records(disk, ones)
    disk.file(apk_places.WORLD, "tidegauge\nsiltmeter\n")
    disk.file(apk_places.MACHINE, f"{apk.MACHINE}\n")
    return [(one.file_name, apk.archive(one)) for one in ones]


def _beside(archives: list[tuple[str, bytes]], ending: str) -> list[tuple[str, bytes]]:
    return [*archives, *((name + ending, detached(data)) for name, data in archives)]


_BUILDERS: dict[str, Callable[[Disk], list[tuple[str, bytes]]]] = {
    "deb": _deb, "rpm": _rpm, "arch": _arch, "slackware": _slackware,
    "apk": _apk,
}  # fmt: skip

Deed = Callable[[Stand], object]


# -- deb ------------------------------------------------------------------------------------

STATUS, LIST, SUMS = (
    deb_places.STATUS, f"{deb_places.INFO}/tidegauge.list", f"{deb_places.INFO}/tidegauge.md5sums",
)  # fmt: skip
_STANZA = re.compile(r"Package: tidegauge\n(?:.+\n)*\n?")


def _there(stand: Stand) -> str:
    """The digest of what is at the program's place now."""
    return (
        md5(stand.disk.real(PROGRAM).read_bytes())
        if stand.disk.real(PROGRAM).exists()
        else "0" * 32
    )


def _conffile(line: str) -> Deed:
    def do(stand: Stand) -> None:
        told = line.format(there=_there(stand), shipped=md5(stand.shipped))
        stand.change(STATUS, "Conffiles:\n", f"Conffiles:\n {PROGRAM} {told}\n")

    return do


def _digest(text: str) -> Deed:
    def do(stand: Stand) -> None:
        line = f"{md5(stand.shipped)}  {PROGRAM[1:]}\n"
        stand.change(SUMS, line, text.format(there=_there(stand), line=line, path=PROGRAM[1:]))

    return do


def _deb_state(words: str) -> Deed:
    def do(stand: Stand) -> None:
        stand.change(STATUS, stand_status(stand), f"Status: {words}")

    def stand_status(stand: Stand) -> str:
        stanza = _STANZA.search(stand.text(STATUS))
        assert stanza is not None
        return next(line for line in stanza[0].split("\n") if line.startswith("Status:"))

    return do


def _divert(keeper: str) -> Deed:
    def do(stand: Stand) -> None:
        stand.disk.file(f"{PROGRAM}.real", stand.shipped, 0o755)
        stand.disk.file(deb_places.DIVERSIONS, f"{PROGRAM}\n{PROGRAM}.real\n{keeper}\n")

    return do


def _override(stand: Stand) -> None:
    stand.disk.real(PROGRAM).chmod(0o4755)
    stand.disk.file(deb_places.OVERRIDES, f"root root 4755 {PROGRAM}\n")


def _exclude(pattern: str, name: str = "small") -> Deed:
    def do(stand: Stand) -> None:
        stand.disk.real(PROGRAM).unlink(missing_ok=True)
        path = f"{deb_places.CONFIGURATION_PARTS}/{name}"
        stand.disk.file(path, f"path-exclude={pattern}\n")

    return do


def _emptied(path: str) -> Deed:
    return lambda stand: stand.disk.file(path, "")


def _removed(*paths: str) -> Deed:
    def do(stand: Stand) -> None:
        for path in paths:
            real = stand.disk.real(path)
            if real.is_dir():
                shutil.rmtree(real)
            else:
                real.unlink(missing_ok=True)

    return do


def _deb_gone(stand: Stand) -> None:
    """Take the package out of the records, all of it."""
    stand.disk.file(STATUS, _STANZA.sub("", stand.text(STATUS)))
    for path in stand.disk.real(deb_places.INFO).glob("tidegauge.*"):
        path.unlink()


DEB: dict[str, Deed] = {
    "configuration, with what is there": _conffile("{there}"),
    "configuration, with what was shipped": _conffile("{shipped}"),
    "configuration, new": _conffile("newconffile"),
    "configuration, obsolete": _conffile("{there} obsolete"),
    "configuration, to go": _conffile("{there} remove-on-upgrade"),
    "diverted by the administrator": _divert(":"),
    "diverted by another": _divert("siltmeter"),
    "diverted by nobody known": _divert("gullfeather"),
    "overridden": _override,
    "left out by its name": _exclude(PROGRAM),
    "left out with all": _exclude("/usr/*"),
    "left out by a class": _exclude("/usr/bin/[s-u]*"),
    "half-installed": _deb_state("install reinstreq half-installed"),
    "removed but for its configuration": _deb_state("deinstall ok config-files"),
    "unpacked": _deb_state("install ok unpacked"),
    "not installed": _deb_state("purge ok not-installed"),
    "in a state of its own": _deb_state("install ok gullish"),
    "no list": _removed(LIST),
    "an empty list": _emptied(LIST),
    "not on its list": lambda stand: stand.change(LIST, f"{PROGRAM}\n", ""),
    "as a directory on its list": lambda s: s.change(LIST, f"{PROGRAM}\n", f"{PROGRAM}\n{PROGRAM}/x\n"),
    "no digests": _removed(SUMS),
    "empty digests": _emptied(SUMS),
    "no digest of it": _digest(""),
    "a digest of what is there": _digest("{there}  {path}\n"),
    "two digests": _digest("{line}{there}  {path}\n"),
    "two digests, the other first": _digest("{there}  {path}\n{line}"),
    "out of the records": _deb_gone,
    "another version": lambda stand: stand.change(STATUS, "Version: 1:2.1-3", "Version: 1:2.1-4"),
    "another machine": lambda stand: stand.change(STATUS, "amd64", "arm64"),
}  # fmt: skip


# -- rpm ------------------------------------------------------------------------------------


def _states(state: int) -> Deed:
    def do(stand: Stand) -> None:
        blobs = [rpm_record(one, {PROGRAM: state}) for one in shipped_rpms()]
        rpm_database(stand.disk, blobs)

    return do


def _forged(tag: int, change: Callable[[Stand, list[object]], list[object]], signed: bool) -> Deed:
    def do(stand: Stand) -> None:
        def forge(row: Row) -> Row:
            number, kind, given = row
            if number != tag or not isinstance(given, list):
                return row
            return number, kind, change(stand, given)  # type: ignore[return-value]

        gauge, *rest = sorted(shipped_rpms(), key=lambda one: one.name != "tidegauge")
        blobs = [rpm_record(gauge, signed=signed, forge=forge), *map(rpm_record, rest)]
        rpm_database(stand.disk, blobs)

    return do


def _other_digest(stand: Stand, given: list[object]) -> list[object]:
    old = hashlib.sha256(stand.shipped).hexdigest()
    new = hashlib.sha256(stand.disk.real(PROGRAM).read_bytes()).hexdigest()
    return [new if one == old else one for one in given]


def _rpm_without(stand: Stand) -> None:
    rpm_database(stand.disk, [rpm_record(one) for one in shipped_rpms() if one.name != "tidegauge"])


RPM: dict[str, Deed] = {
    **{f"in state {state}": _states(state) for state in (1, 2, 3, 4, 9, 200, 255)},
    "a digest of what is there": _forged(1035, _other_digest, True),
    "a digest of what is there, unsigned": _forged(1035, _other_digest, False),
    "all of it configuration": _forged(1037, lambda _, given: [1] * len(given), True),
    "all of it claimed, unsigned": _forged(1037, lambda _, given: [64] * len(given), False),
    "nothing checked, unsigned": _forged(1045, lambda _, given: [0] * len(given), False),
    "no digests, unsigned": _forged(1035, lambda _, given: [""] * len(given), False),
    "out of the records": _rpm_without,
}


# -- arch -----------------------------------------------------------------------------------

_FOLDER = plover.kept(GAUGE).folder


def _arch_text(name: str, old: str, new: str) -> Deed:
    return lambda stand: stand.change(f"{_FOLDER}/{name}", old, new)


def _backup(text: str) -> Deed:
    def do(stand: Stand) -> None:
        told = text.format(there=_there(stand), shipped=md5(stand.shipped))
        stand.change(f"{_FOLDER}/files", "%BACKUP%\n", f"%BACKUP%\n{PROGRAM[1:]}\t{told}\n")

    return do


def _listing(change: Callable[[Stand, bytes], bytes]) -> Deed:
    def do(stand: Stand) -> None:
        path = f"{_FOLDER}/mtree"
        data = gzip.decompress(stand.disk.real(path).read_bytes())
        stand.disk.file(path, gzip.compress(change(stand, data), mtime=0))

    return do


def _names_only(_: Stand, data: bytes) -> bytes:
    return b"#mtree\n" + b"".join(
        line.split(b" ")[0] + b"\n" for line in data.split(b"\n") if line.startswith(b".")
    )


def _doctored(stand: Stand, data: bytes) -> bytes:
    there = stand.disk.real(PROGRAM).read_bytes() if stand.disk.real(PROGRAM).exists() else b""
    pairs = (
        (hashlib.sha256(stand.shipped).hexdigest(), hashlib.sha256(there).hexdigest()),
        (md5(stand.shipped), md5(there)),
    )
    for old, new in pairs:
        data = data.replace(old.encode(), new.encode())
    return data


def _without_line(_: Stand, data: bytes) -> bytes:
    lines = data.split(b"\n")
    return b"\n".join(line for line in lines if not line.startswith(f".{PROGRAM} ".encode()))


def _not_extracted(pattern: str) -> Deed:
    def do(stand: Stand) -> None:
        stand.disk.real(PROGRAM).unlink(missing_ok=True)
        stand.disk.file(arch_places.SETTINGS, f"[options]\nNoExtract = {pattern}\n")

    return do


ARCH: dict[str, Deed] = {
    "configuration, with what is there": _backup("{there}"),
    "configuration, with what was shipped": _backup("{shipped}"),
    "configuration, with nothing": _backup("(null)"),
    "left out by its name": _not_extracted(PROGRAM[1:]),
    "left out with all": _not_extracted("usr/*"),
    "left out, but for others": _not_extracted("usr/bin/* !usr/bin/s*"),
    "no listing": _removed(f"{_FOLDER}/mtree"),
    "an empty listing": _emptied(f"{_FOLDER}/mtree"),
    "a listing of names": _listing(_names_only),
    "a listing of what is there": _listing(_doctored),
    "not in the listing": _listing(_without_line),
    "no paths": _removed(f"{_FOLDER}/files"),
    "empty paths": _emptied(f"{_FOLDER}/files"),
    "not among the paths": _arch_text("files", f"{PROGRAM[1:]}\n", ""),
    "neither paths nor listing": _removed(f"{_FOLDER}/files", f"{_FOLDER}/mtree"),
    "another version": _arch_text("desc", "2.1-3", "2.1-4"),
    "another name": _arch_text("desc", "%NAME%\ntidegauge\n", "%NAME%\ntidegauges\n"),
    "no description": _removed(f"{_FOLDER}/desc"),
    "out of the records": _removed(_FOLDER),
}


# -- slackware ------------------------------------------------------------------------------

_LABEL = dunlin.kept(GAUGE).label
RECORD = f"{slackware_places.RECORDS[0]}/{_LABEL}"
SCRIPT = f"{slackware_places.SCRIPTS[0]}/{_LABEL}"


def _script(text: str) -> Deed:
    def do(stand: Stand) -> None:
        real = stand.disk.real(SCRIPT)
        stand.disk.file(SCRIPT, (real.read_text() if real.exists() else "") + text, 0o755)

    return do


def _as_setting(stand: Stand) -> None:
    stand.change(RECORD, f"\n{PROGRAM[1:]}\n", f"\n{PROGRAM[1:]}.new\n")
    _script(f"config {PROGRAM[1:]}.new\n")(stand)


SLACKWARE: dict[str, Deed] = {
    "configuration, by its script": _script(f"config {PROGRAM[1:]}.new\n"),
    "configuration, by script and record": _as_setting,
    "a link, by its script": _script("( cd usr/bin ; ln -sf gullgauge tidegauge )\n"),
    "not in its record": lambda stand: stand.change(RECORD, f"\n{PROGRAM[1:]}\n", "\n"),
    "as a directory in its record": lambda s: s.change(RECORD, f"{PROGRAM[1:]}\n", f"{PROGRAM[1:]}/\n"),
    "a record without paths": lambda s: s.disk.file(RECORD, s.text(RECORD).partition("FILE LIST")[0]),
    "a record that lists nothing": lambda s: s.disk.file(
        RECORD, s.text(RECORD).partition("FILE LIST:\n")[0] + "FILE LIST:\n./\n"
    ),
    "an empty record": _emptied(RECORD),
    "no script": _removed(SCRIPT),
    "another build": lambda s: s.disk.real(RECORD).rename(f"{s.disk.real(RECORD)}0"),
    "out of the records": _removed(RECORD, SCRIPT),
}  # fmt: skip

# -- apk ------------------------------------------------------------------------------------

INSTALLED = f"{apk_places.RECORDS[0]}/{apk_places.INSTALLED}"
_LINES = re.compile(r"R:tidegauge\n(?:a:(?P<rights>\S+)\n)?Z:(?P<digest>\S+)\n")
_APK_RECORD = re.compile(r"C:\S+\nP:tidegauge\n(?:.+\n)*\n?")


def _of_program(change: Callable[[Stand, re.Match[str]], str]) -> Deed:
    """Change the lines of the program."""

    def do(stand: Stand) -> None:
        text = stand.text(INSTALLED)
        found = _LINES.search(text)
        assert found is not None
        there = stand.disk.real(PROGRAM)
        assert there.exists()
        stand.disk.file(INSTALLED, text.replace(found[0], change(stand, found)))

    return do


def _written_anew(stand: Stand, found: re.Match[str]) -> str:
    there = hashlib.sha1(stand.disk.real(PROGRAM).read_bytes()).hexdigest()
    return found[0].replace(found["digest"], written_digest(f"sha1:{there}"))


def _as_link(stand: Stand, _: re.Match[str]) -> str:
    """The record of a link; and a link that leads to what was put there."""
    real = stand.disk.real(PROGRAM)
    real.rename(real.with_name("gullgauge"))
    stand.disk.link(PROGRAM, "gullgauge")
    told = written_digest(f"sha1:{hashlib.sha1(b'gullgauge').hexdigest()}")
    return f"R:tidegauge\na:{os.getuid()}:{os.getgid()}:777\nZ:{told}\n"


def _declared(line: str) -> Deed:
    return lambda stand: stand.disk.file(f"{apk_places.PROTECTED}/gull.list", f"{line}\n")


def _of_package(old: str, new: str) -> Deed:
    def do(stand: Stand) -> None:
        text = stand.text(INSTALLED)
        found = _APK_RECORD.search(text)
        assert found is not None
        assert old in found[0]
        stand.disk.file(INSTALLED, text.replace(found[0], found[0].replace(old, new, 1)))

    return do


def _taken_over(stand: Stand) -> None:
    """Another package has the program, too, and says that it takes the place."""
    text = stand.text(INSTALLED)
    told = _LINES.search(text)
    assert told is not None
    front, mark, rest = text.partition("P:siltmeter\n")
    assert mark
    record, _, others = rest.partition("\n\n")
    lines = _written_anew(stand, told)
    record = f"r:tidegauge\n{record}\nF:usr/bin\n{lines}"
    stand.disk.file(INSTALLED, f"{front}{mark}{record}\n{others}")


APK: dict[str, Deed] = {
    "a digest of what is there": _of_program(_written_anew),
    "no digest of it": _of_program(lambda _, found: found[0].partition("Z:")[0]),
    "a digest that is none": _of_program(lambda _, found: f"{found[0].partition('Z:')[0]}Z:Q1gull\n"),
    "two digests": _of_program(
        lambda s, found: f"{found[0]}Z:{_written_anew(s, found).partition('Z:')[2]}"
    ),
    "two digests, the other first": _of_program(
        lambda s, found: f"{_written_anew(s, found)}Z:{found['digest']}\n"
    ),
    "rights that are none": _of_program(lambda _, found: f"R:tidegauge\na:x\nZ:{found['digest']}\n"),
    "as a link": _of_program(_as_link),
    "not on its list": _of_program(lambda *_: ""),
    "configuration, by a list": _declared(f"+{PROGRAM[1:]}"),
    "configuration with all": _declared("+usr"),
    "left alone by a list": _declared(f"!{PROGRAM[1:]}"),
    "of links alone by a list": _declared(f"@{PROGRAM[1:]}"),
    "its files are broken": _of_package("\nF:", "\nf:f\nF:"),
    "its script is broken": _of_package("\nF:", "\nf:s\nF:"),
    "its digest is broken": _of_package("\nF:", "\nf:xS\nF:"),
    "another takes its place": _taken_over,
    "another version": _of_package("V:2.1-r3", "V:2.1-r4"),
    "another machine": _of_package("A:x86_64", "A:armhf"),
    "another name": _of_package("P:tidegauge\n", "P:tidegauges\n"),
    "a name alone": _of_package("V:2.1-r3\n", ""),
    "no lines of paths": lambda s: s.disk.file(
        INSTALLED, re.sub(r"(?m)^[FMRaZ]:.*\n", "", s.text(INSTALLED))
    ),
    "an empty file": _emptied(INSTALLED),
    "out of the records": lambda s: s.disk.file(INSTALLED, _APK_RECORD.sub("", s.text(INSTALLED))),
}  # fmt: skip

DEEDS = {"deb": DEB, "rpm": RPM, "arch": ARCH, "slackware": SLACKWARE, "apk": APK}
"""By family, what may be done to records and policy."""
