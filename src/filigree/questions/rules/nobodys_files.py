"""Rules about files of nobody's, and about who may write where programs live."""

from collections.abc import Iterable, Iterator

from filigree.families.shared.starting_places import SEARCHED
from filigree.model.answer import moment_of
from filigree.model.files import Kind
from filigree.model.findings import Finding, Part, RuleFacts, Severity
from filigree.questions.commands.strays import Stray
from filigree.questions.finding.causes import Cause
from filigree.questions.finding.ranks import Rank
from filigree.questions.rules.observed import Observed
from filigree.questions.rules.protocol import FindingRule, named

_NAMED = 3
_MADE = frozenset({Cause.ALTERNATIVE, Cause.LINK, Cause.BYTECODE})
"""What the system makes of packages' own files."""


def _programs(seen: Observed) -> Iterable[Stray]:
    return (row for row in seen.strays if row.rank is Rank.PROGRAM)


def _explained(row: Stray) -> bool:
    """Whether something else than whoever put a file there speaks for it. A diversion does not: it only
    says that a package's own file is elsewhere."""
    return row.cause not in (None, Cause.DIVERTED)


def _of_nobody(
    rule: FindingRule, rows: Iterable[Stray], words: str, explained: Severity = Severity.LOW
) -> Iterator[Finding]:
    """A finding a directory, of files of nobody's; of those that have a cause one that is `explained`."""
    held: dict[tuple[str, bool], list[Stray]] = {}
    for row in rows:
        folder = row.below or row.path.rpartition("/")[0]
        held.setdefault((folder, _explained(row)), []).append(row)
    for (folder, caused), found in held.items():
        paths = [row.path for row in found]
        many = f"{len(paths):,} {words} below {folder} are nobody's"
        title = (
            many
            if len(paths) > _NAMED
            else f"{named(paths)} {'is' if len(paths) == 1 else 'are'} nobody's"
        )
        yield rule.finding(
            title, None, paths, since=max((row.modified for row in found if row.modified), default=None),
            state={row.path: f"{row.kind.value} of {row.size} bytes, mode {row.mode}" for row in found},
            severity=explained if caused else rule.facts.severity,
            explained_by="; ".join(dict.fromkeys(row.detail or "" for row in found)) if caused else None,
        )  # fmt: skip


def _searched(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = (row for row in _programs(seen) if row.path.startswith(SEARCHED))
    yield from _of_nobody(
        rule, (row for row in rows if _shadowed(seen, row.path) is None), "programs",
        Severity.MEDIUM,
    )  # fmt: skip


def _elsewhere(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = (
        row for row in _programs(seen)
        if not row.path.startswith(SEARCHED) and not seen.starts(row.path)
    )  # fmt: skip
    yield from _of_nobody(rule, rows, "files that can be run")


def _shadows(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for row in seen.strays:
        behind = _shadowed(seen, row.path) if row.kind in (Kind.FILE, Kind.LINK) else None
        if behind is not None and row.cause not in _MADE and row.rank is not Rank.OTHER:
            yield rule.finding(
                f"{row.path} is nobody's, and is found before {behind}", None, [row.path],
                since=row.modified, state={row.path: f"{row.size} bytes, mode {row.mode}"},
            )  # fmt: skip


def _shadowed(seen: Observed, path: str) -> str | None:
    """The program of a package that is not run, because this one is found before it."""
    folder, name = path.rpartition("/")[0] + "/", path.rpartition("/")[2]
    if folder not in SEARCHED:
        return None
    for later in SEARCHED[SEARCHED.index(folder) + 1 :]:
        other = later + name
        if seen.system.real(other) != path and seen.system.owners_of(other):
            return other
    return None


def _starts_of_nobody(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = (
        row for row in seen.strays
        if row.cause not in _MADE and seen.starts(row.path) and row.rank is not Rank.RIGHTS
        and row.kind in (Kind.FILE, Kind.LINK)
    )  # fmt: skip
    yield from _of_nobody(rule, rows, "files that start things")


def _hooks(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    places = tuple(f"{one}/" for one in seen.system.database.hook_places)
    exact = set(seen.system.database.hook_places)
    rows = (
        row for row in seen.strays
        if row.cause not in _MADE and row.kind is not Kind.DIRECTORY
        and (row.path in exact or (places and row.path.startswith(places)))
    )  # fmt: skip
    yield from _of_nobody(rule, rows, "files that tell the package system what to run")


def _writable(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    held = [
        entry for entry in seen.writable
        if entry.kind is Kind.FILE or (entry.kind is Kind.DIRECTORY and not entry.mode & 0o1000)
    ]  # fmt: skip
    if held:
        paths = [entry.path for entry in held]
        yield rule.finding(
            f"anybody may write to {named(paths, 'places where programs and settings live')}", None,
            paths, state={entry.path: f"mode {entry.mode:04o}" for entry in held},
        )  # fmt: skip


def _rights_untold(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    held = seen.untold_rights
    if held:
        paths = [entry.path for entry in held]
        yield rule.finding(
            f"{named(paths, 'programs')} run{'s' if len(paths) == 1 else ''} with others' rights, and "
            "nothing at hand tells that so it was shipped", None, paths,
            state={entry.path: f"mode {entry.mode:04o}" for entry in held},
            since=moment_of(held[0].modified // 10**9),
        )  # fmt: skip


def _unowned(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    held: dict[int, list[str]] = {}
    for entry in seen.unowned:
        held.setdefault(entry.uid, []).append(entry.path)
    for uid, paths in held.items():
        yield rule.finding(
            f"{named(paths)} belong{'s' if len(paths) == 1 else ''} to the user {uid}, whom no list has",
            None, paths, subjects=[str(uid)], state=dict.fromkeys(paths, f"user {uid}"),
        )  # fmt: skip


_S = (Part.STRAYS,)
RULES: tuple[FindingRule, ...] = (
    FindingRule(RuleFacts(
        "hook-of-nobody", Severity.MEDIUM, "The package system's own hooks are nobody's", _S,
        "files of no package where the package system is told what to run besides",
        "what is in them runs with all rights whenever a package comes or goes",
        "an administrator's own settings of the package system",
        "strays",
    ), _hooks),
    FindingRule(RuleFacts(
        "shadowing-program", Severity.CRITICAL, "A program of nobody's is found before a package's", _S,
        "programs of nobody's in the places where a shell looks, and the same names later in that order",
        "whoever types the name runs this one",
        "an administrator's wrapper",
        "timeline around {path}",
    ), _shadows),
    FindingRule(RuleFacts(
        "program-of-nobody", Severity.HIGH, "A program of nobody's is where a shell looks", _S,
        "files of no package that can be run, where a shell looks for programs",
        "nobody vouches for it, and it is run by its name alone",
        "software that was installed by hand",
        "timeline around {path}",
    ), _searched),
    FindingRule(RuleFacts(
        "start-of-nobody", Severity.HIGH, "Something of nobody's starts things", _S,
        "files of no package in the places that decide what is run; lower where a script speaks of them",
        "what is in it runs, mostly with all rights",
        "an administrator's own job or unit",
        "timeline around {path}",
    ), _starts_of_nobody),
    FindingRule(RuleFacts(
        "writable-by-anybody", Severity.HIGH, "Anybody may write where programs live", _S,
        "modes of everything where programs and settings live, but for sticky directories",
        "anybody on the machine can change what others run",
        "a directory that is meant so, and protected otherwise",
        "owner {path}",
    ), _writable),
    FindingRule(RuleFacts(
        "runnable-of-nobody", Severity.MEDIUM, "Something that can be run is nobody's", _S,
        "files of no package that can be run, elsewhere among packages' files",
        "nobody vouches for it",
        "software that was installed by hand, or that fetched more of itself",
        "strays",
    ), _elsewhere),
    FindingRule(RuleFacts(
        "rights-untold", Severity.MEDIUM, "Nothing tells that a program was shipped with others' rights",
        (Part.STRAYS, Part.FILES),
        "set-id files of packages of which no record tells the mode, for want of the package's archive",
        "whoever gives a program of a package others' rights changes nothing that is on record",
        "programs that have always been shipped so: their archives would tell",
        "verify {path}, by what is signed",
    ), _rights_untold),
    FindingRule(RuleFacts(
        "owner-unknown", Severity.LOW, "A file belongs to nobody that is known", _S,
        "owners of everything where programs and settings live, against the root's own list of users",
        "whoever gets that number gets the file",
        "users that are kept elsewhere; a disk that was copied",
        "owner {path}",
    ), _unowned),
)  # fmt: skip
