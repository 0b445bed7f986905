"""The made-up repository of one family, byte by byte: its indexes and archives."""

import hashlib
import json
from collections.abc import Callable, Iterable
from datetime import timedelta
from functools import lru_cache
from xml.sax.saxutils import escape, quoteattr

from filigree.demo import rpm
from filigree.demo.goods import BUILT
from filigree.demo.offered_wares import (
    FIXES,
    GROUPS,
    KEPT_BACK,
    MADE,
    MODULE,
    NEW,
    NOTICES,
    UPDATES,
)
from filigree.demo.repository import (
    detached,
    primary_xml,
    repomd_xml,
)
from filigree.demo.world import OFFICE, PEOPLE, WARES


@lru_cache(maxsize=1)
def rpm_shipped() -> tuple[rpm.Shipped, ...]:
    """What the repository offers."""
    from filigree.demo.rpm_wares import everything, shipped

    newer = [shipped(ware) for ware in (*UPDATES, *FIXES, *NEW)]
    left = {*KEPT_BACK, *(one.name for one in newer)}
    kept = [one for one in everything() if one.architecture != "i686" and one.name not in left]
    return (*kept, *newer, shipped(MODULE[2]))


@lru_cache(maxsize=512)
def rpm_archive(one: rpm.Shipped) -> bytes:
    """The bytes of an archive that is offered."""
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
