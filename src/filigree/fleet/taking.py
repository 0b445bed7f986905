"""One system as rows of tables: what is asked of it once, when it is gathered."""

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime

from filigree.fleet.form import BUILD_FILES, BUILD_GIVES, BUILD_NEEDS, BUILDS, BY_NAME, PARTS
from filigree.fleet.identity import Row, Value, identity_of, number_of, text_of
from filigree.model.errors import AccessError
from filigree.model.files import Aspect, FileRecord, Kind
from filigree.model.findings import Part
from filigree.model.needs import Condition, Join, Need, Term
from filigree.model.package import Package
from filigree.model.roles import role_of
from filigree.questions.commands.strays import Stray
from filigree.questions.finding.causes import Cause
from filigree.questions.finding.ranks import Rank
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.rules.findings import FindingsWish, every_rule, findings_of
from filigree.questions.rules.observed import Observed
from filigree.questions.verifying.verdicts import FileVerdict
from filigree.system import System

_MADE = frozenset({Cause.BYTECODE, Cause.ALTERNATIVE, Cause.LINK})
"""Files of nobody's that the system makes of packages' own: they tell nothing by being there."""


@dataclass(slots=True)
class Build:
    """A build: its own row, and those of its files, of its needs, and of what it answers to."""

    identity: str
    row: Row
    files: list[Row]
    needs: list[Row]
    gives: list[Row]


@dataclass(slots=True)
class Taken:
    """A host as rows: its builds, its parts by the names of their tables (without the identity of the
    part), and what its own row tells besides."""

    host: str
    taken_at: int
    family: str
    label: str
    builds: dict[str, Build] = field(default_factory=dict)
    parts: dict[str, list[Row]] = field(default_factory=dict)
    _identities: dict[str, str] = field(default_factory=dict, init=False, repr=False)

    @property
    def packages(self) -> int:
        """How many packages are present."""
        return len(self.parts["sets"])

    @property
    def paths(self) -> int:
        """How many paths are on record."""
        return sum(len(self.builds[str(row[0])].files) for row in self.parts["sets"])

    def identities(self) -> dict[str, str]:
        """The identities of its parts, made once: when all of them are there."""
        if not self._identities:
            self._identities = {name: part_identity(name, self.parts[name]) for name in PARTS}
        return self._identities


def part_identity(table: str, rows: Iterable[Row]) -> str:
    """The identity of a part: the same rows of the same table have the same."""
    return identity_of([(table,), *rows])


def snapshot_identity(taken: Taken) -> str:
    """The identity of a snapshot, by all that is in its tables."""
    parts = taken.identities()
    return identity_of([(taken.host, taken.taken_at, taken.family, *(parts[one] for one in PARTS))])


def taken_of(
    system: System, host: str, taken_at: datetime, options: RepositoryOptions, findings_too: bool = True
) -> Taken:  # fmt: skip
    """All that the tables hold of a system. Without `findings_too` no rules are asked."""
    found = Taken(
        text_of(host), int(taken_at.timestamp()), system.family.name, text_of(system.label)
    )
    present = [one for one in system.packages if one.state.present]
    named: dict[tuple[str, str, str], str] = {}
    sets = []
    for package in present:
        build = build_of(system, package)
        found.builds[build.identity] = build
        named[package.name, package.architecture, package.version] = build.identity
        sets.append((build.identity, package.state.value, package.reason and package.reason.value))
    now = max(taken_at, datetime.fromtimestamp(0, UTC))
    seen = Observed(system, options, now=now)
    parts: dict[str, Iterator[Sequence[object]]] = {
        "deviations": _deviations(seen, named), "keys": _keys(seen),
        "repositories": _repositories(seen), "events": _events(system),
        "findings": _findings(seen, now) if findings_too else iter(()), "behind": _behind(seen),
    }  # fmt: skip
    found.parts["sets"] = sorted(sets, key=_sorting)
    for name, rows in parts.items():
        found.parts[name] = sorted(set(map(plain, rows)), key=_sorting)
    gaps = {plain((gap.what, gap.why)) for gap in system.gaps}
    found.parts["gaps"] = sorted(gaps, key=_sorting)
    return found


def plain(row: Sequence[object]) -> Row:
    """A row as tables have it: texts that any engine takes, numbers of 64 bits, or null."""
    return tuple(_plain(value) for value in row)


def _plain(value: object) -> Value:
    if value is None:
        return None
    if isinstance(value, datetime):
        return int(value.timestamp())
    if isinstance(value, int):
        return number_of(int(value))
    return text_of(str(value))


def _sorting(row: Row) -> tuple[tuple[bool, int, str], ...]:
    return tuple(
        (value is not None, value, "") if isinstance(value, int) else (value is not None, 0, value or "")
        for value in row
    )  # fmt: skip


def build_of(system: System, package: Package) -> Build:
    """A package on record as a build: what was shipped, without what local policy makes of it."""
    records = system.records(package)
    files = sorted({_file_row(one.plain or one) for one in records.files()}, key=_sorting)
    needs = list(dict.fromkeys(_need_rows(records.needs())))
    gives = sorted(
        {(text_of(one.name),) for one in records.capabilities()} | {(text_of(package.name),)}
    )
    key = system.family.sort_key
    facts = plain((
        system.family.name, package.name, package.version, key(package.version) if key else None,
        package.architecture, package.source, package.vendor,
    ))  # fmt: skip
    numbers = (number_of(package.installed_size), len(files))
    # What is written with the package counts, and what its record on this host says of it does not.
    identity = identity_of([facts, ("files",), *files, ("needs",), *needs, ("gives",), *gives])
    return Build(
        identity, (identity, *facts, *numbers), [(identity, *row) for row in files],
        [(identity, *row) for row in needs], [(identity, *row) for row in gives],
    )  # fmt: skip


def _need_rows(needs: Iterable[Need]) -> Iterator[Row]:
    """The clauses of needs: of each one name has to be there. What hangs on something else has none."""
    clause = 0
    for need in needs:
        for names in _clauses(need.condition):
            clause += 1
            told: list[str | None] = [*names] or [None]
            yield from (plain((need.kind.value, need.text, name, clause)) for name in told)


def _clauses(condition: Condition) -> Iterator[list[str]]:
    if isinstance(condition, Term):
        yield [condition.name]
    elif condition.join is Join.AND:
        for part in condition.parts:
            yield from _clauses(part)
    elif condition.join in (Join.WITH, Join.WITHOUT):
        yield from _clauses(condition.parts[0])
    elif condition.join is Join.OR:
        inner = [list(_clauses(part)) for part in condition.parts]
        # An alternative of several that belong together is more than a list of names tells.
        yield (
            []
            if any(len(one) != 1 or not one[0] for one in inner)
            else [name for one in inner for name in one[0]]
        )
    else:
        yield []


def _file_row(record: FileRecord) -> Row:
    role = role_of(record.path, record.kind, record.mode, record.mark)
    return plain((
        record.path, record.kind and record.kind.value, record.owner, record.group, record.digest,
        record.link_target, role.value, record.mode, record.size,
    ))  # fmt: skip


# -- parts --------------------------------------------------------------------------------------


def _deviations(
    seen: Observed, named: dict[tuple[str, str, str], str]
) -> Iterator[Sequence[object]]:
    for row in (one for one in seen.verdicts if not one.verdict.quiet):
        build = named.get((row.package, row.architecture, row.version))
        yield (
            row.path, build, row.package, row.verdict.value, row.role.value, _digest_of(row),
            " ".join(one.aspect.value for one in row.differences), row.evidence.value, None, None,
        )  # fmt: skip
    for stray in seen.strays:
        if stray.cause not in _MADE:
            yield (
                stray.path, None, None, "stray", stray.rank.value, _stray_digest(seen.system, stray),
                stray.kind.value, None, int(stray.mode, 8), stray.size,
            )  # fmt: skip


def _digest_of(row: FileVerdict) -> str | None:
    """The digest of what is there, or where a link leads."""
    found = {one.aspect: one.found for one in row.differences}
    return (
        found.get(Aspect.CONTENT) or found.get(Aspect.LINK_TARGET) or (row.seen and row.seen.digest)
    )


def _stray_digest(system: System, stray: Stray) -> str | None:
    if stray.kind is Kind.LINK:
        return stray.link_target
    if stray.kind is not Kind.FILE or stray.rank is Rank.OTHER:
        return None
    try:
        return system.tree.observe(stray.path, "sha256").digest
    except AccessError:
        return None


def _keys(seen: Observed) -> Iterator[Sequence[object]]:
    for row in seen.keys:
        scope = ", ".join(sorted(row.scope))
        yield (
            row.fingerprint, row.identity, row.file, scope or None, row.weakness, row.everything,
            row.expires_at,
        )  # fmt: skip


def _repositories(seen: Observed) -> Iterator[Sequence[object]]:
    for row in seen.repositories:
        unsigned = False in (row.must_be_signed, row.archives_must_be_signed)
        yield (
            row.identity, row.address, row.signature and row.signature.value, row.configured_in,
            row.other_release, row.enabled, unsigned, row.made_at, row.packages,
        )  # fmt: skip


def _events(system: System) -> Iterator[Sequence[object]]:
    for one in system.events():
        yield (one.action.value, one.name, one.version, one.architecture, one.told_in, one.at)


def _behind(seen: Observed) -> Iterator[Sequence[object]]:
    for row in seen.behind:
        yield (
            row.name, row.architecture, row.installed, row.candidate, row.repository, row.status.value,
            " ".join(sorted(one.identity for one in row.advisories)) or None, row.security,
        )  # fmt: skip


def _findings(seen: Observed, now: datetime) -> Iterator[Sequence[object]]:
    # What runs is of the moment, and of the host that gathers: no table is to hold that.
    lasting = (one.facts for one in every_rule() if Part.RUNNING not in one.facts.parts)
    wish = FindingsWish(now=now, rules=frozenset(one.identity for one in lasting))
    for row in findings_of(seen, wish).records:
        first = next(iter((*row.paths, *row.subjects, *row.packages)), None)
        yield (
            row.rule, row.severity.value, row.title, row.package, first, row.count, row.since,
        )  # fmt: skip


def rows_of(
    taken: Taken, known_builds: Collection[str], known_parts: Collection[str]
) -> dict[str, list[Row]]:
    """The rows of a host for each table that a store does not have yet; `snapshots` apart."""
    found: dict[str, list[Row]] = {name: [] for name in BY_NAME}
    for identity, build in taken.builds.items():
        if identity not in known_builds:
            found[BUILDS.name].append(build.row)
            found[BUILD_FILES.name] += build.files
            found[BUILD_NEEDS.name] += build.needs
            found[BUILD_GIVES.name] += build.gives
    for name, part in taken.identities().items():
        if part not in known_parts:
            found[name] += [(part, *row) for row in taken.parts[name]]
    return found
