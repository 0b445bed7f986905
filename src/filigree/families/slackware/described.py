"""From what is told of a `slackware` package to the package, its needs, its files.

A record, a list of what is offered and an archive tell the same things in the same words.
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from filigree.families.shared.not_a_package import NotAPackage
from filigree.families.slackware.places import PARTS
from filigree.formats.slackware.names import Label, packager_of, split_label, without_ending
from filigree.formats.slackware.needs import NeedError, parse_need, split_field
from filigree.formats.slackware.records import Described, size_of
from filigree.formats.slackware.scripts import MadeLink
from filigree.model.files import FileRecord, Kind, Role
from filigree.model.limits import why_too_long
from filigree.model.needs import Capability, Need, Relation
from filigree.model.package import Package, State

FAMILY = "slackware"
ANYWHERE = ("noarch", "fw")
"""The architectures of what is for any machine."""
SOURCE = "source"
"""The architecture of what is still to be built here."""
_OWN = "install/"
_SUMMARY = re.compile(r"\S+\s+\((.*)\)")
_HOME = re.compile(
    r"(?:home ?page|website|url|see(?: also)?)\s{0,9}:?\s{0,9}(https?://\S+)", re.IGNORECASE
)
NEED_FIELDS = (
    ("PACKAGE REQUIRED", Relation.REQUIRES), ("PACKAGE SUGGESTS", Relation.SUGGESTS),
    ("PACKAGE CONFLICTS", Relation.CONFLICTS),
)  # fmt: skip
MADE = "a link that its script makes"


def label_of(text: str) -> Label:
    """The label of a record or an archive, by what it is called. Raises NotAPackage."""
    label = split_label(without_ending(text) or text)
    if label is None:
        raise NotAPackage("it is not called as a package is: name, version, architecture, build")
    too_long = why_too_long(label.name, label.full_version, label.architecture)
    if too_long is not None:
        raise NotAPackage(too_long)
    return label


def called(package: Package) -> str:
    """What a package is called, as a label."""
    version, _, build = package.version.rpartition("-")
    return f"{package.name}-{version}-{package.architecture}-{build}"


def package_of(
    label: Label, told: Described, state: State, more: Mapping[str, Any] | None = None
) -> Package:
    """The package that is called so; `more` are other fields of it."""
    summary, description, home = _words(told.description)
    fields = told.fields
    archive = fields.get("COMPRESSED PACKAGE SIZE") or fields.get("PACKAGE SIZE (compressed)")
    installed = fields.get("UNCOMPRESSED PACKAGE SIZE") or fields.get("PACKAGE SIZE (uncompressed)")
    package = Package(
        name=label.name, version=label.full_version, architecture=label.architecture,
        family=FAMILY, state=state, section=series_of(fields.get("PACKAGE LOCATION")),
        summary=summary, description=description, homepage=home, vendor=packager_of(label.build),
        archive_size=size_of(archive), installed_size=size_of(installed), fields=fields,
    )  # fmt: skip
    return replace(package, **more) if more else package


def _words(lines: Sequence[str]) -> tuple[str | None, str | None, str | None]:
    """Summary, description and home page out of the lines of a description."""
    if not lines:
        return None, None, None
    text = "\n".join(lines[1:]).strip("\n")
    home = _HOME.search(text)
    return summary_of(lines[0]), text or None, home[1] if home else None


def summary_of(line: str) -> str | None:
    """What is said of a package in the first line of its description: `gull (Looks out to sea)`."""
    head = _SUMMARY.fullmatch(line.strip())
    return (head[1] if head else line.strip()) or None


def series_of(location: str | None) -> str | None:
    """The series that a package belongs to, by where its archive lies: `./slackware64/ap` is `ap`."""
    parts = [part for part in (location or "").split("/") if part not in ("", ".")]
    for number, part in enumerate(parts):
        if part in PARTS:
            behind = [one for one in parts[number + 1 :] if without_ending(one) is None]
            return behind[0] if behind and part.startswith("slackware") else part
    return None


# -- needs ----------------------------------------------------------------------------------


def needs_of(texts: Iterable[tuple[Relation, str]]) -> Iterator[Need | NeedError]:
    """Every need, by its kind and as it is written; a NeedError where one does not parse."""
    for kind, text in texts:
        try:
            yield Need(kind, parse_need(text), text)
        except NeedError as error:
            yield error


def needs_in(fields: Mapping[str, str]) -> Iterator[tuple[Relation, str]]:
    """The needs in the fields of a list, as they are written."""
    for name, kind in NEED_FIELDS:
        for text in split_field(fields.get(name, "")):
            yield kind, text


def tells_needs(fields: Mapping[str, str]) -> bool:
    """Whether a list tells what a package needs, be it nothing."""
    return any(name in fields for name, _ in NEED_FIELDS)


def capabilities_of(package: Package) -> tuple[Capability, ...]:
    """A package answers to its own name alone."""
    return (Capability(package.name, package.version),)


# -- files ----------------------------------------------------------------------------------


def installed_paths(written: Iterable[str]) -> Iterator[tuple[str, bool]]:
    """Each path that is installed, from the root, and whether it is written as a directory."""
    for path in written:
        bare = path.removeprefix("./")
        if bare.strip("/") and bare != "install" and not bare.startswith(_OWN):
            yield f"/{bare.strip('/')}", path.endswith("/")


def settled(path: str, settings: Iterable[str]) -> str | None:
    """Where configuration is put that is shipped at a path; None where it is none.

    What a script puts in place, and whatever below `/etc` ends so.
    """
    if not path.endswith(".new") or path == ".new":
        return None
    if path.startswith("/etc/") or path[1:] in settings:
        return path.removesuffix(".new")
    return None


def all_paths(
    written: Iterable[str], links: Iterable[MadeLink], settings: Sequence[str]
) -> list[str]:
    """Every path of a package: as it is listed, then where configuration is put, and its links."""
    # Most paths are what they are, and whole systems have a hundred thousand of them.
    found = dict.fromkeys(
        f"/{path}" if path[-1:] != "/" else f"/{path[:-1]}"
        for path in written
        if path[:1] not in ("/", ".") and path[:8] != _OWN and path != "install"
    )
    odd = (path for path in written if path[:1] in ("/", "."))
    found |= dict.fromkeys(path for path, _ in installed_paths(odd))
    for path in [path for path in found if path.endswith(".new")]:
        place = settled(path, settings)
        if place is not None:
            found[place] = None
    found.update((f"/{link.path}", None) for link in links)
    return list(found)


def records_of(
    shipped: Iterable[FileRecord], links: Iterable[MadeLink], settings: Sequence[str]
) -> Iterator[FileRecord]:
    """What each path is to be: what is shipped, with what becomes of it when it is installed."""
    made = {f"/{link.path}": link.target for link in links}
    told = set()
    for record in shipped:
        told.add(record.path)
        place = settled(record.path, settings)
        if place is not None and record.kind is Kind.FILE:
            why = f"it is there only until it is compared with {place}"
            yield record._replace(excuse=why, mark=Role.CONFIG)
            if place not in told:
                told.add(place)
                yield record._replace(
                    path=place, location=place, config=True, mark=Role.CONFIG,
                    remarks=(*record.remarks, f"shipped as {record.path}"),
                )  # fmt: skip
        elif record.path not in made:
            yield record
    for path, target in made.items():
        yield FileRecord(path, path, Kind.LINK, link_target=target, remarks=(MADE,))
