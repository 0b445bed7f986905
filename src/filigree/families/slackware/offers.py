"""What the lists of a `slackware` repository tell: packages to be had, and scripts that make some.

The record of an offer is its stanza, as the list writes it.
"""

import re
from collections.abc import Iterable, Iterator, Mapping

from filigree.families.protocol import Report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.families.slackware import described
from filigree.families.slackware.described import FAMILY, SOURCE
from filigree.families.slackware.lists import archive_path, label_in
from filigree.families.slackware.scripts import needs_of_script, text_of_script
from filigree.formats.damage import Damage
from filigree.formats.slackware.build_scripts import read_script_list
from filigree.formats.slackware.changes import LoggedChange
from filigree.formats.slackware.long_listing import read_listings
from filigree.formats.slackware.names import label_of_archive
from filigree.formats.slackware.records import read_fields, read_list
from filigree.model.answer import Gap
from filigree.model.files import Kind
from filigree.model.needs import Relation
from filigree.model.package import Package, State
from filigree.model.repositories import Advisory, Change, ListedPath, Offer, Reference

_SCRIPT = "SLACKBUILD "
_VULNERABILITY = re.compile(r"\bCVE-\d{4}-\d{4,10}\b")
_ADDRESS = re.compile(r"https?://\S+")


def read_offers(pieces: Iterable[bytes], path: str, report: Report) -> Iterator[Offer]:
    """Every package of a list."""
    for text in read_list(pieces):
        if text is None:
            report(Gap(path, "a stanza that is unreasonably long"))
            continue
        told = read_fields(text)
        try:
            label = described.label_of(told.fields.get("PACKAGE NAME", ""))
        except NotAPackage as error:
            report(Gap(f"{told.fields.get('PACKAGE NAME', '')[:80]} in {path}", str(error)))
            continue
        package = described.package_of(label, told, State.AVAILABLE)
        named = (("group", package.section),) if package.section else ()
        yield Offer(
            label.name, label.full_version, label.architecture, package.summary,
            package.description, text, named,
        )  # fmt: skip


def read_scripts(pieces: Iterable[bytes]) -> Iterator[Offer]:
    """Every package that the scripts of a list make."""
    for fields in read_script_list(pieces):
        offer = script_offer(fields)
        if offer is not None:
            yield offer


def script_offer(fields: Mapping[str, str]) -> Offer | None:
    """The package that one script makes; None where it does not say which."""
    name, version = fields.get("PRGNAM"), fields.get("VERSION")
    if not name or not version:
        return None
    package = _of_script(fields, None)
    return Offer(
        name, version, SOURCE, package.summary, None, text_of_script(fields),
        (("group", package.section),) if package.section else (),
    )  # fmt: skip


def _group(fields: Mapping[str, str]) -> str | None:
    parts = fields.get("LOCATION", "").strip("./").split("/")
    return parts[0] if len(parts) > 1 else None


def _of_script(fields: Mapping[str, str], repository: str | None) -> Package:
    return Package(
        name=fields["PRGNAM"], version=fields["VERSION"], architecture=SOURCE, family=FAMILY,
        state=State.AVAILABLE, section=_group(fields),
        summary=described.summary_of(fields.get("DESCRIPTION", "")),
        homepage=fields.get("HOMEPAGE"), maintainer=fields.get("MAINTAINER"), repository=repository,
        fields=fields,
    )  # fmt: skip


def is_script(record: str) -> bool:
    """Whether an offer is of a script, and has to be built."""
    return record.startswith(_SCRIPT)


def script_fields(record: str) -> dict[str, str]:
    """The fields of the record of a script."""
    return next(read_script_list([record.encode("utf-8", "surrogateescape")]), {})


def package_offered(record: str, repository: str) -> Package | None:
    """The package of a record; None where it names none."""
    if is_script(record):
        fields = script_fields(record)
        if not fields.get("PRGNAM") or not fields.get("VERSION"):
            return None
        return _of_script(fields, repository)
    told = read_fields(record)
    try:
        label = described.label_of(told.fields.get("PACKAGE NAME", ""))
    except NotAPackage:
        return None
    return described.package_of(label, told, State.AVAILABLE, {"repository": repository})


def needs_in(record: str) -> list[tuple[Relation, str]] | None:
    """What a record tells of needs, as it is written; None where it tells nothing of them."""
    if is_script(record):
        fields = script_fields(record)
        return needs_of_script(fields) if "REQUIRES" in fields else None
    fields = read_fields(record).fields
    return list(described.needs_in(fields)) if described.tells_needs(fields) else None


def path_in(record: str) -> str | None:
    """The path of the archive within its repository; None of what has to be built."""
    return None if is_script(record) else archive_path(read_fields(record))


# -- other lists ----------------------------------------------------------------------------


def read_paths(pieces: Iterable[bytes], path: str, report: Report) -> Iterator[ListedPath]:
    """Every path of the listings of archives; the holder is the label of its package."""
    damaged = 0
    for archive, entries in read_listings(pieces):
        label = label_in(archive)
        written: list[str] = []
        for entry in entries:
            if isinstance(entry, Damage):
                damaged += 1
                if damaged == 1:
                    report(Gap(f"{path}, line {entry.line}", entry.why))
            else:
                is_folder = entry.kind is Kind.DIRECTORY
                written.append(f"{entry.path.rstrip('/')}/" if is_folder else entry.path)
        for name, folder in described.installed_paths(written):
            yield ListedPath(name, label, "directory" if folder else None)
            place = described.settled(name, ())
            if place is not None:
                yield ListedPath(place, label)


def read_advisories(changes: Iterable[LoggedChange]) -> Iterator[Advisory]:
    """What a list of changes tells of holes that were mended: a notice for each change."""
    for one in changes:
        label = label_of_archive(one.path)
        if not one.security or label is None:
            continue
        told = list(dict.fromkeys(_VULNERABILITY.findall(one.words)))
        addresses = _ADDRESS.findall(one.words)
        references = [
            Reference("cve", name, next((a for a in addresses if name in a), None)) for name in told
        ]
        at = f"{one.at:%Y-%m-%d}" if one.at else "undated"
        first = next((line for line in one.words.split("\n") if line), None)
        yield Advisory(
            f"{at} {label.name}", "security", None, first, one.at, tuple(references),
            ((label.name, label.full_version, ""),),
        )  # fmt: skip


def read_builds(changes: Iterable[LoggedChange]) -> Iterator[tuple[str, Change]]:
    """What a list of changes tells of each build, by its label."""
    for one in changes:
        label = label_of_archive(one.path)
        if label is not None:
            words = f"{one.action}\n{one.words}" if one.words else one.action
            yield str(label), Change(one.at, "", words)
