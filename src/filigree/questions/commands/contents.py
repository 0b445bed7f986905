"""Which files are in a package, by role."""

from collections import Counter
from collections.abc import Generator, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

from filigree.model.answer import Answer, Flow, Gap
from filigree.model.errors import AccessError
from filigree.model.files import Aspect, FileRecord, Kind, Observation, Role
from filigree.model.package import Package, State
from filigree.model.roles import role_of
from filigree.questions.asking.scopes import Lookup, Scope, looking
from filigree.questions.asking.silence import report_silence
from filigree.questions.asking.subjects import Matched, match_subjects
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.offers.catalogue import Catalogue


class Content(NamedTuple):
    """One path of a package. What the record does not say is told as it is found on the disk."""

    package: str
    path: str
    kind: Kind | None
    role: Role
    size: int | None
    mode: str | None
    owner: str | None
    group: str | None
    digest: str | None
    link_target: str | None
    architecture: str
    version: str
    remarks: tuple[str, ...]
    escape: str | None


class RoleTotal(NamedTuple):
    """How many paths are of a role, and the bytes in its files."""

    paths: int
    size: int


@dataclass(frozen=True, slots=True)
class ContentsSummary:
    """What the paths come to, by role those with most paths first; sizes in bytes.

    `observed` are the aspects that are told as the disk has them, for want of a record.
    """

    packages: int
    paths: int
    size: int
    roles: dict[str, RoleTotal]
    observed: list[str]
    escapes: int
    scope: Scope


def contents(
    system: System,
    subjects: Iterable[str],
    roles: Iterable[Role] = (),
    scope: Scope = Scope.INSTALLED,
    options: RepositoryOptions = EVERYTHING,
) -> Answer[Content, ContentsSummary]:
    """The paths of the packages that the subjects point at, of the given roles or of all.

    Digests are those on record; an archive's are held against its payload, or computed from it. Kind,
    size, mode, owner, group and link target come from the disk where the family does not record them;
    `observed` of the summary names those. Bad news where a path of an archive would lead elsewhere. Of
    what is only offered the indexes of paths tell; one that was never fetched is a gap.
    """
    return contents_flow(system, subjects, roles, scope, options).collected()


def contents_flow(
    system: System,
    subjects: Iterable[str],
    roles: Iterable[Role] = (),
    scope: Scope = Scope.INSTALLED,
    options: RepositoryOptions = EVERYTHING,
) -> Flow[Content, ContentsSummary]:
    """As `contents`; the paths come as they are read, and none of them is held."""
    rows = _flowing(system, subjects, frozenset(roles), scope, options)
    return Flow("contents", system.system_label, rows)


_Flowing = Generator[Content, None, Answer[Content, ContentsSummary]]


def _flowing(
    system: System,
    subjects: Iterable[str],
    wanted: frozenset[Role],
    scope: Scope,
    options: RepositoryOptions,
) -> _Flowing:
    with looking(system, scope, options) as lookup:
        matched = match_subjects(system, subjects, lookup)
        if lookup.offered is not None:
            _report_untold(system, lookup.offered, matched.packages)
        return (yield from _passing(system, matched, wanted, lookup))


def _report_untold(system: System, offered: "Catalogue", packages: Sequence[Package]) -> None:
    """Say of which packages no index tells the paths."""
    if any(one.state is State.AVAILABLE for one in packages) and report_silence(
        system, "paths_offered", "the paths of what is offered"
    ):
        return
    for package in packages:
        if package.state is State.AVAILABLE and not offered.paths.of(package):
            why = "no index of paths that may be believed tells of it"
            system.report(Gap(f"the paths of {package.label}", why))


def _passing(system: System, matched: Matched, wanted: frozenset[Role], lookup: Lookup) -> _Flowing:
    total = _RoleTotals()
    escapes = 0
    for package in matched.packages:
        for row in _rows(lookup, package):
            if not wanted or row.role in wanted:
                total.add(row)
                escapes += row.escape is not None
                yield row
    notes = [*lookup.notes, *map(str, matched.unmatched)]
    paths = total.counts.total()
    return Answer(
        "contents",
        system.system_label,
        [],
        ContentsSummary(
            packages=len(matched.packages),
            paths=paths,
            size=total.sizes.total(),
            roles=total.told(),
            observed=_observed(system, matched.packages),
            escapes=escapes,
            scope=lookup.scope,
        ),
        system.gaps,
        notes,
        bad_news=bool(notes or escapes) or (bool(wanted) and not paths),
    )


class _RoleTotals:
    """How many paths of each role, and the bytes in their files, counted as they pass."""

    def __init__(self) -> None:
        self.counts: Counter[Role] = Counter()
        self.sizes: Counter[Role] = Counter()

    def add(self, row: Content) -> None:
        """Count one more."""
        self.counts[row.role] += 1
        if row.kind is Kind.FILE and row.size:
            self.sizes[row.role] += row.size

    def told(self) -> dict[str, RoleTotal]:
        """What they come to, those with most paths first."""
        return {r.value: RoleTotal(n, self.sizes[r]) for r, n in self.counts.most_common()}


def _observed(system: System, packages: Iterable[Package]) -> list[str]:
    """What the records of some of the packages do not tell, and was looked at on the disk."""
    told = set(Aspect)
    for package in packages:
        if package.state is not State.AVAILABLE:
            told &= system.records(package).aspects
    return [name for name in ("size", "mode", "owner", "group", "link-target") if name not in told]


def _rows(lookup: Lookup, package: Package) -> Iterator[Content]:
    system = lookup.system
    archived = package.state in (State.ARCHIVE, State.AVAILABLE)
    for record in lookup.records(package).files():
        seen = None if archived or record.moot is not None else _look(system, package, record)
        yield _row(system, package, record, seen)


def _look(system: System, package: Package, record: FileRecord) -> Observation | None:
    try:
        return system.tree.observe(record.location)
    except AccessError as error:
        if not error.absent:
            system.report(Gap(f"{record.location} of {package.name}", error.what))
        return None


def _row(system: System, package: Package, record: FileRecord, seen: Observation | None) -> Content:
    kind = record.kind or (seen.kind if seen else None)
    # Another thing in the file's place says nothing about the file that was shipped.
    if seen is not None and seen.kind is not kind:
        seen = None
    mode = record.mode if record.mode is not None else (seen.mode if seen else None)
    is_file = kind is Kind.FILE
    size = record.size if record.size is not None else (seen.size if seen and is_file else None)
    # By place, and not by name: of these there are a hundred thousand.
    return Content(
        package=package.name,
        path=record.path,
        kind=kind,
        role=role_of(record.path, kind, mode, record.mark),
        size=size,
        mode=None if mode is None else _OCTAL[mode],
        owner=record.owner or (system.users.name(seen.uid) if seen else None),
        group=record.group or (system.groups.name(seen.gid) if seen else None),
        digest=record.digest,
        link_target=record.link_target or (seen.link_target if seen else None),
        architecture=package.architecture,
        version=package.version,
        remarks=record.remarks if record.moot is None else (*record.remarks, record.moot),
        escape=record.escape,
    )


_OCTAL = tuple(f"{mode:04o}" for mode in range(0o10000))
