"""From the fields of a record to a package, its needs, its files: the same for what is installed, what is
offered, and an archive. Fields have the letters that records give them."""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from filigree.families.shared.not_a_package import NotAPackage
from filigree.formats.apk.protection import USUAL, Protection, protection_of
from filigree.formats.apk.records import RecordedPath, parse_digest
from filigree.formats.apk.relations import PackageRelation, relations_in
from filigree.formats.numbers import whole_number
from filigree.formats.relation_error import RelationError
from filigree.model.answer import moment_of
from filigree.model.files import KIND_OF_FORM, Aspect, FileRecord, Kind, Role
from filigree.model.limits import why_too_long
from filigree.model.needs import (
    Capability,
    Combined,
    Comparison,
    Condition,
    Join,
    Need,
    Relation,
    Term,
)
from filigree.model.package import Package, State

Fields = Mapping[str, str]

ASPECTS = frozenset({
    Aspect.PRESENCE, Aspect.CONTENT, Aspect.KIND, Aspect.MODE, Aspect.OWNER, Aspect.GROUP,
})  # fmt: skip
ANY = "noarch"
IDENTITY = "identity-"
"""Before the algorithm of a digest that is of the part of an archive which tells the rest."""
_LETTERS = {
    "C": "identity", "P": "name", "V": "version", "A": "architecture", "S": "archive size",
    "I": "installed size", "T": "summary", "U": "homepage", "L": "license", "o": "origin",
    "m": "maintainer", "t": "build time", "c": "commit", "k": "provider priority", "D": "needs",
    "p": "provides", "i": "comes with", "r": "replaces", "q": "replaces priority", "s": "tag",
    "f": "broken", "g": "tags", "y": "layer", "l": "layer",
}  # fmt: skip
_BROKEN = {"f": State.HALF_INSTALLED, "s": State.HALF_CONFIGURED}
_LINK_MODE = 0o777


def package_of(
    fields: Fields, state: State = State.INSTALLED, more: Mapping[str, Any] | None = None
) -> Package:
    """The package that fields describe. Raises NotAPackage. `more` are other fields of the package."""
    name, version = fields.get("P"), fields.get("V")
    if not name or not version:
        raise NotAPackage(f"a package without a {'version' if name else 'name'}")
    if any("\n" in fields.get(letter, "") for letter in "PVA"):
        raise NotAPackage("a package whose name, version or architecture is told more than once")
    too_long = why_too_long(name, version, fields.get("A"))
    if too_long is not None:
        raise NotAPackage(too_long)
    broken = fields.get("f", "") if state is State.INSTALLED else ""
    return Package(
        name=name, version=version, architecture=fields.get("A") or ANY, family="apk",
        state=next((_BROKEN[sign] for sign in "fs" if sign in broken), state),
        damaged=bool(broken), source=fields.get("o") or name, source_version=version,
        summary=fields.get("T") or None, homepage=fields.get("U") or None,
        license=fields.get("L") or None, maintainer=fields.get("m") or None,
        installed_size=whole_number(fields.get("I")), archive_size=whole_number(fields.get("S")),
        built_at=moment_of(whole_number(fields.get("t"))),
        fields={_LETTERS.get(letter, letter): value for letter, value in fields.items()},
        **(more or {}),
    )  # fmt: skip


def fields_of(package: Package) -> dict[str, str]:
    """The fields of a package by their letters."""
    return {_BY_WORD.get(name, name): value for name, value in package.fields.items()}


_BY_WORD = {word: letter for letter, word in reversed(_LETTERS.items())}


# -- needs ----------------------------------------------------------------------------------


def needs_of(fields: Fields) -> Iterator[Need | RelationError]:
    """Every need of a package; a RelationError in the place of one that does not parse."""
    for one in relations_in(fields.get("D", "")):
        if isinstance(one, RelationError):
            yield one
        else:
            kind = Relation.CONFLICTS if one.away else Relation.REQUIRES
            yield Need(kind, one.term, written(one).removeprefix("!"))
    yield from _coming_with(fields.get("i", ""))
    for one in relations_in(fields.get("r", "")):
        yield (
            one
            if isinstance(one, RelationError)
            else Need(Relation.REPLACES, one.term, written(one))
        )


def _coming_with(text: str) -> Iterator[Need | RelationError]:
    """What has to be there for a package to come by itself, and what has to be absent."""
    there: list[Condition] = []
    absent: list[Condition] = []
    for one in relations_in(text):
        if isinstance(one, RelationError):
            yield one
            return
        (absent if one.away else there).append(one.term)
    if there:
        condition = there[0] if len(there) == 1 else Combined(Join.AND, tuple(there))
        for other in absent:
            condition = Combined(Join.UNLESS, (condition, other))
        yield Need(Relation.SUPPLEMENTS, condition, text)


def written(one: PackageRelation) -> str:
    """A relation as it is written."""
    term = one.term
    versions = f"{term.comparison}{term.version}" if term.comparison else ""
    identity = f"><{one.identity}" if one.identity else ""
    tag = f"@{one.tag}" if one.tag else ""
    return f"{'!' if one.away else ''}{term.name}{versions}{identity}{tag}"


def capabilities_of(fields: Fields, package: Package) -> tuple[Capability, ...]:
    """The names that a package answers to: its own at its version, and those that it provides."""
    found = [Capability(package.name, package.version)]
    for one in relations_in(fields.get("p", "")):
        if isinstance(one, RelationError):
            continue
        exact = one.term.comparison is Comparison.EQUAL
        found.append(Capability(one.term.name, one.term.version if exact else None))
    return tuple(dict.fromkeys(found))


def identity_of(fields: Fields) -> str | None:
    """The identity of a package, as an archive answers for it; None where it is not told."""
    try:
        return f"{IDENTITY}{parse_digest(fields['C'])}"
    except (KeyError, ValueError):
        return None


def replaced_by(fields: Fields) -> list[Term]:
    """The packages whose files this one's may take the place of."""
    return [
        one.term for one in relations_in(fields.get("r", "")) if isinstance(one, PackageRelation)
    ]


# -- files ----------------------------------------------------------------------------------


def records_of(paths: Iterable[RecordedPath]) -> Iterator[FileRecord]:
    """What is on record of each path. Of modes and owners that are not written the usual ones count."""
    for one in paths:
        path = f"/{one.path}"
        kind, may_be_link = _kind_of(one)
        mode = (0o755 if one.is_directory else 0o644) if one.mode is None else one.mode
        yield FileRecord(
            path, path, kind, one.digest, size=one.size,
            mode=None if kind is Kind.LINK else mode,
            owner=one.owner or "#0", group=one.group or "#0",
            link_target=one.target, device=one.device, modified=one.modified,
            digest_of_target=may_be_link, remarks=_WITH_ATTRIBUTES if one.has_attributes else (),
        )  # fmt: skip


def _kind_of(one: RecordedPath) -> tuple[Kind | None, bool]:
    """What a path is, and whether it may as well be a link.

    The older form does not record which of the two it is; but a link has every right: what has not is a
    file.
    """
    if one.is_directory:
        return Kind.DIRECTORY, False
    if one.form is not None:
        return KIND_OF_FORM.get(one.form), False
    return (None, True) if one.mode == _LINK_MODE else (Kind.FILE, False)


_WITH_ATTRIBUTES = ("its attributes are on record by a digest alone, and are not compared",)


def with_usual_protection(records: Iterable[FileRecord]) -> Iterator[FileRecord]:
    """Records of an archive: what an administrator may change wherever nothing else is declared."""
    for record in records:
        kept = record.kind is not Kind.DIRECTORY and is_kept(protection_of(record.path[1:], USUAL))
        yield as_configuration(record) if kept else record


def as_configuration(record: FileRecord) -> FileRecord:
    """A record of what an administrator may change."""
    return record._replace(config=True, mark=Role.CONFIG)


def is_kept(protection: Protection) -> bool:
    """Whether an administrator may change what is protected so."""
    return protection in (Protection.KEPT, Protection.IGNORED)
