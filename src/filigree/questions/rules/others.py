"""Rules about packages, declared policy, histories, and the audit itself."""

from collections.abc import Iterator
from datetime import datetime, timedelta

from filigree.model.answer import moment_of
from filigree.model.errors import AccessError
from filigree.model.events import earliest
from filigree.model.files import Role, Sort, Verdict
from filigree.model.findings import Finding, Part, RuleFacts, Severity
from filigree.questions.commands.behind import BehindRow, UpdateStatus
from filigree.questions.rules.observed import Observed
from filigree.questions.rules.protocol import FindingRule, listed, named, one_part
from filigree.questions.running.rows import RunningKind, RunningRow, RunningState
from filigree.questions.timeline.happenings import Deed, Happening
from filigree.questions.timeline.times import inode_time
from filigree.questions.verifying.verdicts import FileVerdict, is_code

NEED_UNMET = "need-unmet"
_DECLARED = frozenset({Sort.EXCLUSION, Sort.DIVERSION, Sort.OVERRIDE})
_HIDING = frozenset({Sort.EXCLUSION, Sort.DIVERSION, Sort.OVERRIDE, Sort.STATE})


# -- packages -------------------------------------------------------------------------------


def _unmet(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    held: dict[str, list[str]] = {}
    for tie in seen.unmet:
        held.setdefault(tie.asker.name, []).append(tie.need.text)
    for name, needs in held.items():
        yield rule.finding(
            f"{name} needs {listed(needs, 'things')}, and nothing here meets that", name,
            subjects=needs, state=dict.fromkeys(needs, "unmet"),
        )  # fmt: skip


def _broken(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for package in seen.system.packages:
        if package.state.present and (not package.state.sound or package.damaged):
            word = package.state.value if not package.state.sound else "marked as damaged"
            yield rule.finding(
                f"{package.name} {package.version} is {word}", package.name,
                since=package.installed_at, state={package.label: word},
            )  # fmt: skip


def _fixes(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = [
        row for row in seen.behind
        if row.security and row.status.missing and not _is_held(row)
    ]  # fmt: skip
    if rows:
        names = [row.name for row in rows]
        times = [one.issued_at for row in rows for one in row.advisories if one.issued_at]
        told = ", ".join(dict.fromkeys(one.identity for row in rows for one in row.advisories))
        yield rule.finding(
            f"{listed(names, 'packages')} lack{'s' if len(names) == 1 else ''} what mends them, and it "
            "is offered", names[0] if len(names) == 1 else None, packages=names,
            since=min(times, default=None), cause=told or None,
            state={row.name: f"{row.installed}, offered {row.candidate}" for row in rows},
        )  # fmt: skip


def _is_held(row: BehindRow) -> bool:
    return row.held or row.status in (UpdateStatus.HELD, UpdateStatus.PASSED_OVER)


def _held_fixes(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for row in seen.behind:
        if row.security and row.status.missing and _is_held(row):
            yield rule.finding(
                f"{row.name} {row.installed} is kept back, and {row.candidate or 'a newer one'} would "
                "mend it", row.name,
                since=min((one.issued_at for one in row.advisories if one.issued_at), default=None),
                explained_by=row.why, state={row.name: f"{row.installed}, offered {row.candidate}"},
            )  # fmt: skip


def _outsiders(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    names = [row.name for row in seen.outsiders]
    if names:
        yield rule.finding(
            f"no repository offers {listed(names, 'packages')}", None, packages=names,
            state={f"{row.name}:{row.architecture}": row.version for row in seen.outsiders},
        )  # fmt: skip


def _outsiders_run(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    versions = {row.name: row.version for row in seen.outsiders}
    for name in dict.fromkeys(row.package for row in seen.running if row.package in versions):
        assert name is not None
        pids = [str(row.pid) for row in seen.running if row.package == name and row.pid is not None]
        yield rule.finding(
            f"{name} runs (process {listed(pids, 'processes')}), and no repository offers it", name,
            subjects=pids, state={name: versions[name]},
        )  # fmt: skip


def _left_over(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    names = [row.name for row in seen.leftover]
    if names:
        yield rule.finding(
            f"nothing needs {listed(names, 'packages')} any more", None, packages=names,
            state={row.name: row.version for row in seen.leftover},
        )  # fmt: skip


# -- declared policy ------------------------------------------------------------------------


def _excused(seen: Observed, late: bool) -> Iterator[tuple[Sort, str, list[FileVerdict]]]:
    """What declared policy excuses, by the file that declares it: by one that came lately, or not."""
    held: dict[tuple[Sort, str, bool], list[FileVerdict]] = {}
    for row in seen.verdicts:
        if row.verdict is Verdict.EXCUSED and row.policy in _HIDING:
            file, ours = row.policy_file or "its record", _is_a_packages(seen, row)
            held.setdefault((row.policy, file, ours), []).append(row)
    for (sort, file, ours), rows in held.items():
        if (sort in _DECLARED and not ours and _late(seen, file) is not None) is late:
            yield sort, file, rows


def _is_a_packages(seen: Observed, row: FileVerdict) -> bool:
    """Whether a package that is here diverted a file for one of its own, which is on record there."""
    moved = next((one for one in seen.system.relocations if row.path in one[:2]), None)
    if row.policy is not Sort.DIVERSION or moved is None:
        return False
    return any(one.name == moved.keeper for one in seen.system.owners_of(moved.original))


def _late(seen: Observed, file: str) -> datetime | None:
    """When a file of policy that is no package's was changed, by any clock; None where that is long ago.

    On a disk that was copied every inode is new: there the file's own time is all there is.
    """
    try:
        found = seen.system.tree.observe(file)
    except AccessError:
        return None
    if seen.system.owners_of(file):
        return None
    own, inode = moment_of(found.modified // 10**9), inode_time(found)
    at = own if inode is None or seen.copied else max(inode, own or inode)
    return at if at is not None and seen.seen_at - at < timedelta(days=seen.policy_days) else None


def _came_late(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for sort, file, rows in _excused(seen, late=True):
        paths = [row.path for row in rows]
        since = _late(seen, file)
        yield rule.finding(
            f"{file} ({sort.value}) was changed on {since:%Y-%m-%d}, and excuses {named(paths)}", None,
            paths, subjects=[file], since=since, explained_by=sort.value,
            severity=Severity.HIGH if any(is_code(row) for row in rows) else rule.facts.severity,
            state=dict.fromkeys(paths, sort.value),
        )  # fmt: skip


def _hidden(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for sort, file, rows in _excused(seen, late=False):
        paths = [row.path for row in rows if row.role in (Role.PROGRAM, Role.LIBRARY)]
        if not paths:
            continue
        yield rule.finding(
            f"{file} ({sort.value}) excuses {named(paths)}, which would be bad news otherwise", None,
            paths, subjects=[file], state=dict.fromkeys(paths, sort.value), explained_by=sort.value,
        )  # fmt: skip


# -- histories ------------------------------------------------------------------------------


def _holes(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    untold = [
        row for row in seen.history if row.action is Deed.RECORDED and row.explained_by is None
    ]  # fmt: skip
    if untold:
        names = [row.package or row.subject for row in untold]
        yield rule.finding(
            f"the history does not tell how {listed(names, 'packages')} came", None, packages=names,
            since=earliest(untold), state={row.subject: row.version or "" for row in untold},
        )  # fmt: skip


def _contradicted(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for row in seen.history:
        if row.explained_by is None and row.action is not Deed.RECORDED:
            yield rule.finding(
                f"the history tells of {row.package} {row.version or ''}: {row.doubts[-1]}", row.package,
                since=row.at, state={row.subject: f"{row.version or ''}, {row.doubts[-1]}"},
            )  # fmt: skip


def _impossible(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    held: dict[str, list[Happening]] = {}
    for row in seen.history:
        for doubt in row.doubts if row.explained_by is not None else ():
            held.setdefault(doubt.partition(",")[0], []).append(row)
    for doubt, rows in held.items():
        names = list(dict.fromkeys(row.package or row.subject for row in rows))
        yield rule.finding(
            f"what is told of {listed(names, 'packages')} cannot be: {doubt}", None, packages=names,
            since=earliest(rows), state=dict.fromkeys(names, doubt),
        )  # fmt: skip


# -- what runs ------------------------------------------------------------------------------


def _from_nowhere(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    held: dict[str, list[RunningRow]] = {}
    for row in seen.running:
        if row.state is RunningState.GONE and row.what is RunningKind.PROCESS:
            held.setdefault(row.program or row.name, []).append(row)
    for program, rows in held.items():
        pids = [str(row.pid) for row in rows]
        yield rule.finding(
            f"{program} runs (process {listed(pids, 'processes')}), and is on no disk any more", None,
            subjects=pids, since=min((row.began_at for row in rows if row.began_at), default=None),
            state={program: rows[0].digest or "what runs could not be read"},
        )  # fmt: skip


def _of_nobody_runs(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    held: dict[str, list[RunningRow]] = {}
    for row in seen.running:
        if row.state is RunningState.OF_NOBODY and row.program is not None:
            held.setdefault(row.program, []).append(row)
    if held:
        programs = sorted(held)
        pids = [str(row.pid) for rows in held.values() for row in rows]
        yield rule.finding(
            f"{named(programs, 'programs')} run{'s' if len(programs) == 1 else ''} now, and "
            f"{'is' if len(programs) == 1 else 'are'} nobody's", None, programs, subjects=pids,
            state=dict.fromkeys(programs, "runs"),
        )  # fmt: skip


def _replaced_runs(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = [
        row for row in seen.running
        if row.state is RunningState.REPLACED
        or any(one.state in (RunningState.REPLACED, RunningState.GONE) for one in row.libraries)
    ]  # fmt: skip
    rows = [row for row in rows if row.state is not RunningState.GONE]
    if rows:
        names = list(dict.fromkeys(row.name for row in rows))
        yield rule.finding(
            f"{listed(names, 'programs')} run{'s' if len(names) == 1 else ''} what the disk has another "
            "version of by now", None, subjects=[str(row.pid) for row in rows],
            since=min((row.began_at for row in rows if row.began_at), default=None),
            state=dict.fromkeys(names, "runs another version"),
        )  # fmt: skip


# -- the audit itself -----------------------------------------------------------------------


def _unseen(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = [row for row in seen.verdicts if row.verdict is Verdict.UNREADABLE]
    if rows:
        yield rule.finding(
            f"{named([row.path for row in rows])} could not be read", None, [row.path for row in rows],
            state={row.path: row.reason or "unreadable" for row in rows},
        )  # fmt: skip


RULES: tuple[FindingRule, ...] = (
    FindingRule(one_part(
        "fix-missing", Severity.HIGH, "What mends a package is offered, and not installed",
        Part.REPOSITORIES,
        "packages with a newer version for security, by what their repositories tell",
        "what is known to be wrong with them can be used",
        "a fix that was carried back under the same version",
        "behind, only for security",
    ), _fixes),
    FindingRule(one_part(
        "fix-kept-back", Severity.HIGH, "What mends a package is kept back", Part.REPOSITORIES,
        "packages with a newer version for security that are held, or passed over by preferences",
        "what is known to be wrong with them can be used, and nobody will be told again",
        "a hold with a reason, and another protection",
        "dossier {package}, as it is offered",
    ), _held_fixes),
    FindingRule(one_part(
        "policy-hides", Severity.MEDIUM, "Declared policy hides a difference", Part.FILES,
        "programs, libraries and settings that are absent or elsewhere, and excused by what was declared",
        "who owns the machine owns its policy, too",
        "a declaration that is meant so",
        "verify {path}",
    ), _hidden),
    FindingRule(one_part(
        "policy-came-late", Severity.MEDIUM, "Policy that hides a difference was declared lately",
        Part.FILES,
        "when files that declare exclusions, diversions and owners, and excuse something, were changed",
        "whoever changed a file of a package could have declared it right",
        "an administrator who declared it lately, or changed something else in that file",
        "timeline around {subject}",
    ), _came_late),
    FindingRule(one_part(
        "history-contradicted", Severity.HIGH, "The record is not what the history tells", Part.HISTORY,
        "what a history tells last of each package, against what is on record",
        "one of the two was changed without the other",
        "a package that was brought by other means",
        "timeline {package}",
    ), _contradicted),
    FindingRule(one_part(
        "history-hole", Severity.MEDIUM, "The history does not tell how a package came", Part.HISTORY,
        "packages on record that came when the history was already told",
        "somebody took lines out of it, or brought the package past it",
        "a log that was rotated away in part",
        "timeline {package}",
    ), _holes),
    FindingRule(one_part(
        NEED_UNMET, Severity.MEDIUM, "A package lacks what it needs", Part.NEEDS,
        "needs without which packages do not work, against what is installed",
        "it does not work, or not as it should",
        "a need that is met by hand",
        "needs {package}",
    ), _unmet),
    FindingRule(one_part(
        "package-broken", Severity.MEDIUM, "A package is not installed to its end", Part.FILES,
        "the state of each package, as the database tells it",
        "half of it is there, and its fixes may be missing",
        "an upgrade that is under way now",
        "dossier {package}",
    ), _broken),
    FindingRule(one_part(
        "history-impossible", Severity.MEDIUM, "A time that is told cannot be", Part.HISTORY,
        "times of histories: in order within a log, none in the future, none before a package was built",
        "a log was written by hand, or a clock was set",
        "clocks that are put back in autumn",
        "timeline {package}",
    ), _impossible),
    FindingRule(one_part(
        "file-unreadable", Severity.MEDIUM, "A file of a package cannot be read", Part.FILES,
        "files that could not be looked at, or changed meanwhile",
        "what was not looked at may be anything",
        "an auditor without the rights for it",
        "verify {path}",
    ), _unseen),
    FindingRule(one_part(
        "outsider", Severity.LOW, "No repository offers an installed package", Part.REPOSITORIES,
        "installed packages that no known repository offers in any version",
        "nobody sends what mends it",
        "a package of the office's own",
        "census of outsiders",
    ), _outsiders),
    FindingRule(one_part(
        "left-over", Severity.LOW, "Nothing needs a package any more", Part.NEEDS,
        "packages that came as dependencies, and that nothing that was chosen needs",
        "what is not there need not be mended",
        "what a person uses without having chosen it",
        "census of what is left over",
    ), _left_over),
    FindingRule(one_part(
        "runs-from-nowhere", Severity.HIGH, "What runs is on no disk any more", Part.RUNNING,
        "processes whose program has no name left, by the count of links and not by what it is called",
        "whoever does not want to be found takes away what they run",
        "a program that was replaced, or that hands itself over sealed in memory",
        "running {subject}",
    ), _from_nowhere),
    FindingRule(one_part(
        "nobodys-program-runs", Severity.MEDIUM, "A program of nobody's runs", Part.RUNNING,
        "processes whose program no package has",
        "nobody vouches for what runs",
        "software that was installed by hand",
        "running {subject}",
    ), _of_nobody_runs),
    FindingRule(RuleFacts(
        "outsider-runs", Severity.MEDIUM, "What runs is of a package that no repository offers",
        (Part.RUNNING, Part.REPOSITORIES),
        "processes of packages that no known repository offers in any version",
        "it runs now, and nobody sends what mends it",
        "a package of the office's own",
        "running {subject}",
    ), _outsiders_run),
    FindingRule(one_part(
        "older-version-runs", Severity.LOW, "What runs was replaced on the disk", Part.RUNNING,
        "processes whose program or libraries are others by device and inode than what is on the disk",
        "what was mended on the disk is not mended in what runs",
        "an upgrade whose restart is still to come",
        "running {subject}",
    ), _replaced_runs),
)  # fmt: skip
