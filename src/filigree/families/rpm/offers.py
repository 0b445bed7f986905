"""What the indexes of an `rpm` repository tell."""

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from filigree.families.rpm.described import full_version, source_name
from filigree.formats.numbers import whole_number
from filigree.formats.rpm.lists import (
    Collection,
    Update,
    read_collections,
    read_named,
    read_updates,
)
from filigree.formats.rpm.primary import Primary, read_primary
from filigree.model.answer import moment_of
from filigree.model.package import Package, State
from filigree.model.repositories import (
    Advisory,
    Change,
    Group,
    ListedPath,
    Membership,
    Offer,
    Place,
    Reference,
)

_KINDS = {
    "security": "security", "bugfix": "repair", "enhancement": "improvement",
    "newpackage": "new package", "recommended": "recommended", "optional": "optional",
}  # fmt: skip
_TIMES = ("%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M", "%Y-%m-%d")


def read_offers(pieces: Iterable[bytes]) -> Iterator[Offer]:
    """Every package of an index. Raises XmlError where it breaks off."""
    for one in read_primary(pieces):
        if one.texts.get("name") and one.facts.get("version.ver"):
            yield _offer(one)


def _offer(one: Primary) -> Offer:
    texts = one.texts
    named = [("provides", name) for name, _, _ in one.relations.get("provides", ())]
    named += (("obsoletes", name) for name, _, _ in one.relations.get("obsoletes", ()))
    named += (("path", path) for path in one.files)
    return Offer(
        texts["name"],
        _version(one.facts),
        texts.get("arch") or "",
        texts.get("summary") or None,
        texts.get("description") or None,
        json.dumps(one, ensure_ascii=False),
        tuple(dict.fromkeys(named)),
    )


def _version(facts: Mapping[str, str]) -> str:
    epoch = whole_number(facts.get("version.epoch"))
    return full_version(epoch, facts["version.ver"], facts.get("version.rel"))


def told_in(record: str) -> Primary:
    """What a record that `read_offers` made holds."""
    texts, facts, relations, files = json.loads(record)
    rows = {kind: [(n, f, v) for n, f, v in found] for kind, found in relations.items()}
    return Primary(texts, facts, rows, files)


def package_offered(one: Primary, repository: str) -> Package:
    """The package of a record."""
    texts, facts = one.texts, one.facts
    return Package(
        name=texts["name"],
        version=_version(facts),
        architecture=texts.get("arch") or "",
        family="rpm",
        state=State.AVAILABLE,
        section=texts.get("group") or None,
        source=source_name(texts.get("sourcerpm") or None),
        summary=texts.get("summary") or None,
        description=texts.get("description") or None,
        homepage=texts.get("url") or None,
        license=texts.get("license") or None,
        maintainer=texts.get("packager") or None,
        vendor=texts.get("vendor") or None,
        installed_size=whole_number(facts.get("size.installed")),
        archive_size=whole_number(facts.get("size.package")),
        built_at=moment_of(whole_number(facts.get("time.build"))),
        build_host=texts.get("buildhost") or None,
        repository=repository,
    )


def place_of(one: Primary, addresses: Sequence[str]) -> Place:
    """Where the archive of a record is: below the base that it names, or its repository's address."""
    facts = one.facts
    named = (v for n, v in facts.items() if n.startswith("location.") and n.endswith("base"))
    base = next(named, "") or (addresses[0] if addresses else "")
    name = facts.get("location.href")
    algorithm, digest = facts.get("checksum.type", ""), one.texts.get("checksum", "")
    known = "sha1" if algorithm == "sha" else algorithm
    return Place(
        f"{base.rstrip('/')}/{name}" if base and name else None,
        whole_number(facts.get("size.package")),
        f"{known}:{digest.lower()}" if known and digest else None,
    )


def fields_of(one: Primary) -> dict[str, str]:
    """Everything that a record tells, by the names of the index."""
    found = {**one.texts, **one.facts}
    for kind, rows in one.relations.items():
        found[kind] = "\n".join(
            " ".join(filter(None, (name, version))) for name, _, version in rows
        )
    if one.files:
        found["file"] = "\n".join(one.files)
    return found


def holder_text(name: str, version: str, architecture: str) -> str:
    """A package as an index of paths names it here: its parts, tabs between."""
    return f"{name}\t{version}\t{architecture}"


def read_paths(pieces: Iterable[bytes]) -> Iterator[ListedPath]:
    """Every path of an index, with the package that has it. Raises XmlError."""
    for one in read_named(pieces):
        holder = holder_text(one.name, one.version, one.architecture)
        for kind, path in one.rows:
            yield ListedPath(path, holder, "directory" if kind == "dir" else None)


def read_changes(pieces: Iterable[bytes]) -> Iterator[tuple[str, Change]]:
    """Every change, by the package. Raises XmlError."""
    for one in read_named(pieces):
        holder = holder_text(one.name, one.version, one.architecture)
        for who, when, what in one.rows:
            yield holder, Change(moment_of(whole_number(when)), who, what)


def read_advisories(pieces: Iterable[bytes]) -> Iterator[Advisory]:
    """Every advisory. Raises XmlError."""
    for one in read_updates(pieces):
        if one.facts.get("id"):
            yield _advisory(one)


def _advisory(one: Update) -> Advisory:
    facts = one.facts
    severity = facts.get("severity", "").lower()
    return Advisory(
        facts["id"],
        _KINDS.get(facts.get("type", ""), facts.get("type") or "unknown"),
        severity if severity not in ("", "none") else None,
        facts.get("title") or None,
        _moment(facts.get("issued", "")),
        tuple(Reference(kind or "unknown", name, where) for kind, name, where in one.references),
        tuple(dict.fromkeys(one.packages)),
    )


def _moment(text: str) -> datetime | None:
    for form in _TIMES:
        try:
            return datetime.strptime(text.strip(), form).replace(tzinfo=UTC)
        except ValueError:
            continue
    seconds = whole_number(text.strip().partition(".")[0])
    return moment_of(seconds)


def read_groups(pieces: Iterable[bytes]) -> Iterator[Group]:
    """Every group, and every environment of groups. Raises XmlError."""
    for one in read_collections(pieces):
        if one.facts.get("id"):
            yield _group(one)


def _group(one: Collection) -> Group:
    facts: Mapping[str, Any] = one.facts
    members = [
        (name, Membership(kind) if kind in list(Membership) else Membership.OPTIONAL)
        for name, kind in one.members
        if name
    ]
    return Group(
        facts["id"], facts.get("name") or facts["id"], facts.get("description") or None,
        tuple(dict.fromkeys(members)), tuple(dict.fromkeys(one.groups)),
    )  # fmt: skip
