"""From the fields of a record to a package, its needs, its files: the same for a record and an archive.

A record and an archive name the same things in two ways; here they have the record's names.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

from filigree.families.shared.not_a_package import NotAPackage
from filigree.formats.arch.mtree import ListedFile
from filigree.formats.arch.relations import parse_relation, parse_wish
from filigree.formats.numbers import whole_number
from filigree.formats.relation_error import RelationError
from filigree.model.answer import moment_of
from filigree.model.files import Aspect, FileRecord, Kind, Role
from filigree.model.limits import why_too_long
from filigree.model.needs import Capability, Comparison, Need, Relation
from filigree.model.package import Package, Reason, State

Fields = Mapping[str, Sequence[str]]
"""The values of each field, by the record's names."""

ASPECTS = frozenset(Aspect) - {Aspect.CAPABILITIES, Aspect.DEVICE, Aspect.RECORD}
_NEEDS = (
    ("DEPENDS", Relation.REQUIRES), ("CONFLICTS", Relation.CONFLICTS), ("REPLACES", Relation.REPLACES),
)  # fmt: skip


def first(fields: Fields, name: str) -> str | None:
    """The first value of a field; None where it has none."""
    values = fields.get(name)
    return values[0] if values else None


def package_of(
    fields: Fields, state: State = State.INSTALLED, more: Mapping[str, Any] | None = None
) -> Package:
    """The package that fields describe. Raises NotAPackage.

    A reason that is not told means that it was asked for; `more` are other fields of the package.
    """
    name, version = first(fields, "NAME"), first(fields, "VERSION")
    if not name or not version:
        raise NotAPackage(f"a package without a {'version' if name else 'name'}")
    too_long = why_too_long(name, version, first(fields, "ARCH"))
    if too_long is not None:
        raise NotAPackage(too_long)
    reason = Reason.DEPENDENCY if first(fields, "REASON") == "1" else Reason.CHOSEN
    return Package(
        name=name, version=version, architecture=first(fields, "ARCH") or "any", family="arch",
        state=state,
        reason=reason if state is State.INSTALLED else None,
        section=", ".join(fields.get("GROUPS", ())) or None,
        source=first(fields, "BASE") or name, source_version=version,
        summary=first(fields, "DESC"), homepage=first(fields, "URL"),
        license=", ".join(fields.get("LICENSE", ())) or None,
        maintainer=first(fields, "PACKAGER"), installed_size=whole_number(first(fields, "SIZE")),
        built_at=_moment(first(fields, "BUILDDATE")), installed_at=_moment(first(fields, "INSTALLDATE")),
        fields={name: "\n".join(values) for name, values in fields.items()},
        **(more or {}),
    )  # fmt: skip


def _moment(text: str | None) -> datetime | None:
    return moment_of(whole_number(text))


# -- needs ----------------------------------------------------------------------------------


def needs_of(fields: Fields) -> Iterator[Need | RelationError]:
    """Every need of a package; a RelationError in the place of one that does not parse."""
    for name, kind in _NEEDS:
        for text in fields.get(name, ()):
            try:
                yield Need(kind, parse_relation(text), text)
            except RelationError as error:
                yield error
    for text in fields.get("OPTDEPENDS", ()):
        try:
            yield Need(Relation.SUGGESTS, parse_wish(text).term, text)
        except RelationError as error:
            yield error


def capabilities_of(fields: Fields, package: Package) -> tuple[Capability, ...]:
    """The names that a package answers to: its own at its version, and those that it provides."""
    found = [Capability(package.name, package.version)]
    for text in fields.get("PROVIDES", ()):
        try:
            term = parse_relation(text)
        except RelationError:
            continue
        exact = term.comparison is Comparison.EQUAL
        found.append(Capability(term.name, term.version if exact else None))
    return tuple(dict.fromkeys(found))


# -- files ----------------------------------------------------------------------------------


def settings_of(fields: Fields) -> dict[str, str | None]:
    """The paths of configuration, each with its digest as it was shipped, where that is told."""
    found: dict[str, str | None] = {}
    for line in fields.get("BACKUP", ()):
        path, _, digest = line.partition("\t")
        told = len(digest) == 32 and all(sign in "0123456789abcdef" for sign in digest)
        found[f"/{path.lstrip('/')}"] = f"md5:{digest}" if told else None
    return found


def records_of(
    paths: Iterable[str], listed: Mapping[str, ListedFile], settings: Mapping[str, str | None]
) -> Iterator[FileRecord]:
    """What is on record of each path: by the listing, or, where that is silent, by the path alone."""
    for written in paths:
        path = f"/{written.strip('/')}"
        yield record_of(path, listed.get(path), written.endswith("/"), settings)


def record_of(
    path: str, one: ListedFile | None, folder: bool, settings: Mapping[str, str | None]
) -> FileRecord:
    """The record of one path; `folder` is whether it is written as one."""
    config = path in settings
    if one is None:
        kind = Kind.DIRECTORY if folder else None
        digest = settings.get(path)
        return FileRecord(
            path, path, kind, digest, config=config, mark=Role.CONFIG if config else None
        )
    is_file = one.kind is Kind.FILE
    preferred = [digest for digest in one.digests if digest.startswith("sha256:")] or list(
        one.digests
    )
    return FileRecord(
        path=path, location=path, kind=one.kind,
        digest=(preferred[0] if preferred else settings.get(path)) if is_file else None,
        size=one.size if is_file else None,
        mode=None if one.kind is Kind.LINK else one.mode,
        owner=None if one.uid is None else f"#{one.uid}",
        group=None if one.gid is None else f"#{one.gid}",
        link_target=one.link_target, config=config, mark=Role.CONFIG if config else None,
        modified=one.modified if is_file else None,
        also=_also(settings.get(path), preferred) if is_file else (),
    )  # fmt: skip


def _also(told: str | None, preferred: Sequence[str]) -> tuple[str, ...]:
    """The digest that stands among the settings, where the listing tells one too, and not the same."""
    return (told,) if told is not None and preferred and told != preferred[0] else ()
