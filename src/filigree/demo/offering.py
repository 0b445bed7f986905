"""What the office offers its stations: repositories of each family, with every index and every archive.

Below `coast` one of the first family, with a suite in good order, one for what is urgent, and one of
trials that has long expired; below `rpm/base` one of the second. Files by their paths, the same at every
build but for the signatures, which carry the time.
"""

import hashlib
import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple
from xml.sax.saxutils import escape, quoteattr

from filigree.demo import deb, rpm
from filigree.demo.goods import BUILT, goods_of
from filigree.demo.repository import (
    CODENAME,
    LIFE,
    clear_signed,
    detached,
    primary_xml,
    public_key,
    release_file,
    repomd_xml,
)
from filigree.demo.rpm_bytes import PACKERS
from filigree.demo.world import OFFICE, PEOPLE, WARES, Ware

LIBRARIES = "/usr/lib/x86_64-linux-gnu"
KEPT_BACK = ("spindrift",)
"""What was made at a station, and is offered by nobody."""
MADE = BUILT + timedelta(days=38)
URGENT, TRIALS = f"{CODENAME}-urgent", f"{CODENAME}-trials"


def _ware(name: str, version: str, **changes: str) -> Ware:
    one = next(ware for ware in WARES if ware.name == name)
    return replace(one, version=version, **changes)  # type: ignore[arg-type]


_TIDES = {
    "needs": "tidetables (= 2026.3-1), libsaltc6 (>= 2.34), libbrine2 (>= 2.1), libperiwinkle12"
}
UPDATES = (
    _ware("tidetables", "2026.3-1"),
    _ware("tidetables-calc", "2026.3-1", **_TIDES),
    _ware("chartroom", "5.4.2-1"),
    _ware("foghorn", "3.2.1-1"),
    _ware("libsluice3", "3.2.0-1"),
    _ware("coast-certificates", "20260401"),
    _ware("libwhelk2", "2.10.35-1"),
    _ware("whelk", "2.10.35-1", needs="libwhelk2 (= 2.10.35-1), libskua8 (>= 8.0)"),
    _ware("harbourlog", "1.13-2"),
)
FIXES = (
    _ware("libmussel5", "5.36.1~rc2-1+fix1"),
    _ware("jetty", "1.1.0-2+fix1"),
    _ware("jetty-client", "1.1.0-2+fix1"),
    _ware("quayside", "20.4-1+fix2"),
)
TRIED = (_ware("tidegauge", "3.0~trial1-1"),)
NEW = (
    Ware("tide-essentials", "2026.1", "metapackages", "Everything that a gauge station cannot do without",
         needs="tidegauge, tidetables, weatherglass, saltwort, siltmeter (>= 0.3)", recommends="chartroom | chartroom-lite", any_machine=True),
    Ware("saltwort", "1.2-1", "science", "Counts what grows on a dike", needs="libsaltc6 (>= 2.34), libfathom1", programs=("saltwort",),
         recommends="seaholly", data=2),
    Ware("weirgate", "0.9-4", "admin", "Works the gates of a weir", needs="libsaltc6 (>= 2.34), libsluice3 (>= 3.1), cockle", conflicts="lockgate",
         daemons=("weirgate",), settings=("weirgate.conf",)),
    Ware("kittiwake", "3.4.2-1", "mail", "Letters between stations, in a window", needs="libsaltc6 (>= 2.34), libgannet6, libmussel5",
         provides="mail-courier", conflicts="gullpost", programs=("kittiwake",), locales=("en", "cy")),
    Ware("mudflat-window", "0.7.11-2", "net", "Shows in a window what other stations say", needs="mudflatd (>= 0.7), libgannet6, dulse",
         programs=("mudflat-window",), source="mudflat"),
    Ware("gannet-fonts", "2.0-1", "fonts", "Letters with which pictures are signed", any_machine=True, foreign=True, data=3),
    Ware("buoy-data", "2026.1", "net", "Where every buoy of the coast is", any_machine=True, foreign=True, data=4, data_size=30000),
    Ware("ropewalk-patterns", "4.1-1", "utils", "Patterns for splicing readings, newly drawn", any_machine=True, foreign=True, data=5,
         breaks="ropewalk-common (<< 4.1)", replaces="ropewalk-common (<< 4.1)", provides="ropewalk-common (= 4.1-1)", source="ropewalk"),
)  # fmt: skip
MODULE = ("tide", "2", _ware("tidegauge", "3.0-1"))


class OfferedGroup(NamedTuple):
    """A group of the office, with its members by how firmly they belong."""

    identity: str
    name: str
    summary: str
    mandatory: tuple[str, ...]
    default: tuple[str, ...]
    optional: tuple[str, ...]


GROUPS = (
    OfferedGroup("gauge-station", "Gauge station", "What reads the water, and tells people of it",
          ("tidegauge", "tidetables"), ("chartroom", "foghorn", "weatherglass", "saltwort"),
          ("siltmeter", "kittiwake")),
    OfferedGroup("coast-network", "Coast network", "What the stations tell each other",
          ("mudflatd", "jetty"), ("buoywatch", "buoy-data"), ("mudflat-window",)),
)  # fmt: skip


class Notice(NamedTuple):
    """An advisory of the office."""

    identity: str
    kind: str
    severity: str
    title: str
    names: tuple[str, ...]
    reference: str


NOTICES = (
    Notice("TIDE-2026-11", "security", "Important", "jetty: a stranger could tie up without a key",
           ("jetty", "jetty-client"), "SALLOW-VULN-2026-4"),
    Notice("TIDE-2026-12", "security", "Moderate", "libmussel5: a connection that never lets go",
           ("libmussel5",), "SALLOW-VULN-2026-7"),
    Notice("TIDE-2026-13", "security", "Low", "quayside: a page could be made to show yesterday's tide",
           ("quayside",), "SALLOW-VULN-2026-9"),
    Notice("TIDE-2026-14", "bugfix", "None", "tidetables: the third of the month was missing",
           ("tidetables", "tidetables-calc"), "report 318"),
)  # fmt: skip


def _offered(updates: Iterable[Ware]) -> list[Ware]:
    """The wares of the world, newer where they are, and those that no station has."""
    newer = {ware.name: ware for ware in updates}
    found = [newer.pop(w.name, w) for w in WARES if w.name not in KEPT_BACK]
    return [*found, *newer.values(), *NEW]


# -- the first family -----------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Suite:
    """One suite: what it offers, how it calls itself, and how long it holds."""

    name: str
    wares: tuple[Ware, ...]
    label: str
    expires: datetime
    asked_only: bool = False


def suites() -> tuple[Suite, ...]:
    return (
        Suite(CODENAME, tuple(_offered(UPDATES)), "Coast", BUILT + LIFE),
        Suite(URGENT, FIXES, "Coast Security", BUILT + LIFE),
        Suite(TRIALS, TRIED, "Coast Trials", BUILT + timedelta(days=14), asked_only=True),
    )


@lru_cache(maxsize=4)
def deb_indexes(suite: str) -> tuple[dict[str, bytes], bytes]:
    """The indexes of a suite by their paths within it, not packed; and the text of its signed file."""
    one = next(known for known in suites() if known.name == suite)
    packages = [_of_deb(ware) for ware in one.wares]
    stanzas, texts = [], []
    paths: list[tuple[str, str]] = []
    for package in packages:
        place, content = pooled(package.ware)
        stanza, text = _index_stanza(package, place, content)
        stanzas.append(stanza)
        texts.append(text)
        paths += (
            (good.path[1:], f"{package.ware.section}/{package.ware.name}")
            for good in package.goods
            if not good.is_directory
        )
    indexes = {
        "main/binary-amd64/Packages": "\n".join(stanzas).encode(),
        "main/i18n/Translation-en": "\n".join(texts).encode(),
        "main/Contents-amd64": "".join(f"{p:<60} {h}\n" for p, h in sorted(paths)).encode(),
    }
    more = {"NotAutomatic": "yes"} if one.asked_only else {}
    more["Label"] = one.label
    every = {**indexes, **{f"{path}.gz": PACKERS["gzip"](c) for path, c in indexes.items()}}
    return indexes, release_file(every, suite, MADE, one.expires, **more)


def _index_stanza(one: deb.Installed, place: str, content: bytes) -> tuple[str, str]:
    """The stanza of an index, and that of the long description, which is kept apart."""
    kept: list[str] = []
    described: list[str] = []
    for line in deb.stanza(one).splitlines():
        field = line.partition(":")[0]
        if line.startswith(" "):
            if described and not line.startswith(" /"):
                described.append(line)
        elif field == "Description":
            described.append(line.partition(": ")[2])
        elif field not in ("Status", "Conffiles"):
            kept.append(line)
    text = "\n".join(described) + "\n"
    key = hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()
    tasks = [group.identity for group in GROUPS if one.ware.name in _members(group)]
    kept += [f"Task: {', '.join(tasks)}"] if tasks else []
    kept += [
        f"Description: {described[0]}", f"Description-md5: {key}", f"Filename: {place}",
        f"Size: {len(content)}", f"SHA256: {hashlib.sha256(content).hexdigest()}",
    ]  # fmt: skip
    stanza = f"Package: {one.ware.name}\nDescription-md5: {key}\nDescription-en: {text}"
    return "\n".join(kept) + "\n", stanza


def _members(group: OfferedGroup) -> tuple[str, ...]:
    return (*group.mandatory, *group.default, *group.optional)


def _of_deb(ware: Ware) -> deb.Installed:
    machine = "all" if ware.any_machine else "amd64"
    return deb.Installed(ware, goods_of(ware, LIBRARIES), architecture=machine)


@lru_cache(maxsize=512)
def pooled(ware: Ware) -> tuple[str, bytes]:
    """The archive of a ware of the first family, and its place below the repository."""
    one = _of_deb(ware)
    content = deb.archive(one, "gzip")
    return f"pool/main/{ware.name}_{ware.version}_{one.architecture}.deb", content


def deb_repository() -> dict[str, bytes]:
    """Every file of the repository, below its address."""
    files: dict[str, bytes] = {}
    for suite in suites():
        indexes, release = deb_indexes(suite.name)
        front = f"dists/{suite.name}"
        for path, content in indexes.items():
            packed = PACKERS["gzip"](content)
            files[f"{front}/{path}.gz"] = packed
            folder = path.rpartition("/")[0]
            named = hashlib.sha256(packed).hexdigest()
            files[f"{front}/{folder}/by-hash/SHA256/{named}"] = packed
        files[f"{front}/InRelease"] = clear_signed(release)
        files[f"{front}/Release"] = release
        files[f"{front}/Release.gpg"] = detached(release)
        files.update(map(pooled, suite.wares))
    return files


# -- the second family ----------------------------------------------------------------------


@lru_cache(maxsize=1)
def rpm_shipped() -> tuple[rpm.Shipped, ...]:
    """What the repository offers."""
    from filigree.demo.curlew import everything, shipped

    newer = [shipped(ware) for ware in (*UPDATES, *FIXES, *NEW)]
    left = {*KEPT_BACK, *(one.name for one in newer)}
    kept = [one for one in everything() if one.architecture != "i686" and one.name not in left]
    return (*kept, *newer, shipped(MODULE[2]))


@lru_cache(maxsize=512)
def rpm_archive(one: rpm.Shipped) -> bytes:
    return rpm.archive(one, "gzip")


@lru_cache(maxsize=1)
def rpm_indexes() -> dict[str, bytes]:
    """The indexes by type, not packed."""
    every = rpm_shipped()
    return {
        "primary": primary_xml(_row(one) for one in every),
        "filelists": _per_package("filelists", every, _file_elements),
        "other": _per_package("otherdata", every, _change_elements),
        "updateinfo": _updateinfo(),
        "group": _comps(),
        "modules": _modules(),
    }


def _row(one: rpm.Shipped) -> tuple[str, str, str, str, str, str, str]:
    content = rpm_archive(one)
    ware = one.ware
    size = sum(len(good.content or b"") for good in one.goods)
    more = [
        f'<checksum type="sha256" pkgid="YES">{hashlib.sha256(content).hexdigest()}</checksum>',
        f"<description>Part of the equipment of the stations of the {OFFICE}.\n\n"
        f"This is {escape(one.name)} as the office ships it.</description>",
        f"<packager>{escape(PEOPLE[len(ware.name) % len(PEOPLE)])}</packager>",
        f"<url>https://tides.example/{ware.source or ware.name}</url>",
        f'<time file="{int(MADE.timestamp())}" build="{int(BUILT.timestamp())}"/>',
        f'<size package="{len(content)}" installed="{size}" archive="{size}"/>',
        f'<location href="packages/{one.file_name}"/>',
        "<format><rpm:license>Whoever-Minds-The-Tide</rpm:license>"
        f"<rpm:vendor>{escape(OFFICE)}</rpm:vendor>"
        f"<rpm:group>Coast/{ware.section.capitalize()}</rpm:group>"
        "<rpm:buildhost>slipway.tides.example</rpm:buildhost>"
        f"<rpm:sourcerpm>{ware.source or one.name}-{one.version}.src.rpm</rpm:sourcerpm>",
    ]
    for kind, relations in rpm.relations_of(one).items():
        entries = "".join(_entry(*relation) for relation in relations)
        if entries:
            more.append(f"<rpm:{kind}>{entries}</rpm:{kind}>")
    for good in one.goods:
        if not good.is_directory and good.path.startswith(
            ("/etc/", "/usr/bin/", "/usr/sbin/", "/bin/")
        ):
            more.append(f"<file>{escape(good.path)}</file>")
    more.append("</format>")
    version, release = one.parts
    return (
        one.name, str(ware.epoch), version, release, one.architecture, ware.summary, "".join(more),
    )  # fmt: skip


_SIGNS = {2: "LT", 4: "GT", 8: "EQ", 10: "LE", 12: "GE"}


def _entry(name: str, flags: int, version: str) -> str:
    if name.startswith("rpmlib("):
        return ""
    text = f"<rpm:entry name={quoteattr(name)}"
    sign = _SIGNS.get(flags & 14)
    if sign and version:
        epoch, colon, rest = version.rpartition(":")
        number, hyphen, release = rest.rpartition("-")
        text += f' flags="{sign}" epoch="{epoch if colon else 0}" ver={quoteattr(number if hyphen else rest)}'
        text += f" rel={quoteattr(release)}" if hyphen else ""
    return text + (' pre="1"/>' if flags & (1 << 10) else "/>")


def _per_package(
    root: str, every: Iterable[rpm.Shipped], inner: Callable[[rpm.Shipped], str]
) -> bytes:
    rows = []
    for one in every:
        version, release = one.parts
        rows.append(
            f'<package pkgid="{hashlib.sha256(rpm_archive(one)).hexdigest()}" name={quoteattr(one.name)} '
            f'arch="{one.architecture}"><version epoch="{one.ware.epoch}" ver="{version}" rel="{release}"/>'
            f"{inner(one)}</package>"
        )
    head = f'<?xml version="1.0" encoding="UTF-8"?>\n<{root} xmlns="urn:tides:{root}" packages="{len(rows)}">\n'
    return (head + "\n".join(rows) + f"\n</{root}>\n").encode()


def _file_elements(one: rpm.Shipped) -> str:
    return "".join(
        f'<file type="dir">{escape(good.path)}</file>' if good.is_directory
        else f"<file>{escape(good.path)}</file>"
        for good in one.goods
    )  # fmt: skip


def _change_elements(one: rpm.Shipped) -> str:
    who = PEOPLE[len(one.name) % len(PEOPLE)]
    rows = (
        (MADE if one.ware in (*UPDATES, *FIXES, *NEW) else BUILT, f"- Version {one.version}"),
        (BUILT - timedelta(days=120), "- Looked through before the winter"),
    )
    return "".join(
        f'<changelog author={quoteattr(who)} date="{int(at.timestamp())}">{escape(text)}</changelog>'
        for at, text in rows
    )


def _updateinfo() -> bytes:
    by_name = {one.ware.name: one for one in rpm_shipped()}
    rows = []
    for notice in NOTICES:
        packages = ""
        for name in notice.names:
            one = by_name[name]
            version, release = one.parts
            packages += (
                f'<package name={quoteattr(one.name)} version="{version}" release="{release}" '
                f'epoch="{one.ware.epoch}" arch="{one.architecture}"><filename>{one.file_name}</filename></package>'
            )
        rows.append(
            f'<update from="office@tides.example" status="stable" type="{notice.kind}" version="1">'
            f"<id>{notice.identity}</id><title>{escape(notice.title)}</title>"
            f'<issued date="{MADE:%Y-%m-%d %H:%M:%S}"/><severity>{notice.severity}</severity>'
            f'<references><reference href="https://tides.example/notices/{notice.identity}" '
            f'id="{notice.reference}" type="other" title="{notice.reference}"/></references>'
            f'<pkglist><collection short="coast"><name>Coast</name>{packages}</collection></pkglist></update>'
        )
    return f'<?xml version="1.0" encoding="UTF-8"?>\n<updates>{"".join(rows)}</updates>\n'.encode()


def _comps() -> bytes:
    rows = []
    for group in GROUPS:
        members = "".join(
            f'<packagereq type="{kind}">{rpm.package_name(name)}</packagereq>'
            for kind in ("mandatory", "default", "optional")
            for name in getattr(group, kind)
        )
        rows.append(
            f"<group><id>{group.identity}</id><name>{group.name}</name>"
            f'<name xml:lang="cy">Gorsaf</name><description>{group.summary}</description>'
            f"<packagelist>{members}</packagelist></group>"
        )
    groups = "".join(f"<groupid>{group.identity}</groupid>" for group in GROUPS)
    rows.append(
        "<environment><id>gauge-house</id><name>Gauge house</name>"
        f"<description>A whole station</description><grouplist>{groups}</grouplist></environment>"
    )
    head = '<?xml version="1.0" encoding="UTF-8"?>\n<!DOCTYPE comps PUBLIC "-//Tides//Groups//EN" "groups.dtd">\n'
    return f"{head}<comps>{''.join(rows)}</comps>\n".encode()


def _modules() -> bytes:
    """Two streams, of which the first is followed where nobody said; JSON is YAML too."""
    module, stream, ware = MODULE
    one = next(one for one in rpm_shipped() if one.ware == ware)
    known = next(w for w in WARES if w.name == ware.name)
    rows = (("1", f"{known.name}-{known.epoch}:{known.version}.x86_64"),
            (stream, f"{one.name}-{one.ware.epoch}:{one.version}.x86_64"))  # fmt: skip
    documents: list[object] = [
        {"document": "modulemd", "version": 2, "data": {
            "name": module, "stream": name, "version": 20260219, "context": "5a17",
            "artifacts": {"rpms": [archive]}}}
        for name, archive in rows
    ]  # fmt: skip
    default = {
        "document": "modulemd-defaults",
        "version": 1,
        "data": {"module": module, "stream": "1"},
    }
    documents.append(default)
    return "".join(f"---\n{json.dumps(one)}\n...\n" for one in documents).encode()


def rpm_repository() -> dict[str, bytes]:
    """Every file of the repository, below its address."""
    listed, indexes = repomd_xml(rpm_indexes(), MADE)
    files = {f"repodata/{name}": content for name, content in indexes.items()}
    files["repodata/repomd.xml"] = listed
    files["repodata/repomd.xml.asc"] = detached(listed)
    files.update((f"packages/{one.file_name}", rpm_archive(one)) for one in rpm_shipped())
    return files


def write_repositories(folder: Path) -> Path:
    """Write them all below a folder, with the public key beside them."""
    every = {f"coast/{path}": content for path, content in deb_repository().items()}
    every |= {f"rpm/base/{path}": content for path, content in rpm_repository().items()}
    every["coast.asc"] = public_key()
    for path, content in every.items():
        real = folder / path
        real.parent.mkdir(parents=True, exist_ok=True)
        real.write_bytes(content)
    return folder
