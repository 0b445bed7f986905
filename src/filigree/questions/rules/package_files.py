"""Rules about files of packages that are not as they came."""

from collections.abc import Callable, Iterable, Iterator, Sequence

from filigree.model.errors import AccessError
from filigree.model.files import Aspect, Difference, Evidence, Verdict
from filigree.model.findings import Finding, Part, RuleFacts, Severity
from filigree.questions.finding.ranks import Rank
from filigree.questions.rules.observed import Observed
from filigree.questions.rules.protocol import FindingRule, named
from filigree.questions.verifying.folds import Fold
from filigree.questions.verifying.verdicts import FileVerdict, is_code

_ANYBODYS = ("/tmp/", "/var/tmp/", "/dev/shm/", "/run/shm/", "/var/lock/")
_CONTENT = frozenset({Aspect.CONTENT, Aspect.SIZE, Aspect.RECORD})
_SET_ID = 0o6000
_NAMED = 3
_UNFINISHED = "its installation never came to an end"


# -- one by one -----------------------------------------------------------------------------


def _difference(row: FileVerdict, aspect: Aspect) -> Difference | None:
    return next((one for one in row.differences if one.aspect is aspect), None)


def _mode(text: str | None) -> int:
    try:
        return int(text or "0", 8)
    except ValueError:
        return 0


def _gained(row: FileVerdict) -> str | None:
    """Which rights of others a file has now that it was not shipped with; None for none."""
    mode = _difference(row, Aspect.MODE)
    if (
        mode is not None
        and _mode(mode.found) & _SET_ID
        and _mode(mode.found) & ~_mode(mode.expected)
    ):
        return f"mode {mode.found} in the place of {mode.expected}"
    carried = _difference(row, Aspect.CAPABILITIES)
    if carried is not None and carried.found:
        return f"capabilities {carried.found}"
    return None


def _leads_elsewhere(row: FileVerdict, seen: Observed | None = None) -> str | None:
    """Where a path leads now that was a file, or led elsewhere."""
    target = _difference(row, Aspect.LINK_TARGET)
    if target is not None:
        return target.found
    kind = _difference(row, Aspect.KIND)
    if kind is None:
        return None
    try:
        target_now = seen.system.tree.observe(row.path).link_target if seen is not None else None
    except AccessError:
        target_now = None
    return target_now or "another kind of thing"


def _altered(seen: Observed) -> Iterable[FileVerdict]:
    return (row for row in seen.verdicts if row.verdict is Verdict.ALTERED)


def _state(rows: Iterable[FileVerdict]) -> dict[str, str]:
    """What exactly was found of each path."""
    return {
        row.path: "; ".join(f"{one.aspect.value} {one.found or 'none'}" for one in row.differences)
        or row.verdict.value
        for row in rows
    }


def _by_package(rows: Iterable[FileVerdict]) -> Iterator[tuple[str, list[FileVerdict]]]:
    held: dict[str, list[FileVerdict]] = {}
    for row in rows:
        held.setdefault(row.package, []).append(row)
    yield from held.items()


def _told(
    rule: FindingRule, seen: Observed, rows: Iterable[FileVerdict],
    words: Callable[[list[FileVerdict]], str], what: str,
) -> Iterator[Finding]:  # fmt: skip
    """A finding a package, of the rows that a rule speaks of."""
    for package, held in _by_package(rows):
        paths = [row.path for row in held]
        weakest = min((row.evidence for row in held), key=list(Evidence).index)
        yield rule.finding(
            f"{named(paths, what)} of {package} {words(held)}", package, paths, evidence=weakest,
            since=seen.since(held), state=_state(held), cause=_cause(seen, package, paths),
        )  # fmt: skip


def _cause(seen: Observed, package: str, paths: Sequence[str]) -> str | None:
    """The likely cause, and what makes it worse."""
    told: list[str] = []
    here = seen.system.present([package])
    if here and not here[0].state.sound:
        told.append(f"{package} is {here[0].state.value}: {_UNFINISHED}")
    pids = seen.running_of(paths)
    if pids:
        numbers = ", ".join(map(str, pids[:_NAMED]))
        told.append(f"it runs now: process {numbers}{' and more' if len(pids) > _NAMED else ''}")
    return "; ".join(told) or None


def _be(rows: Sequence[FileVerdict], words: str) -> str:
    return f"{'is' if len(rows) == 1 else 'are'} {words}"


def _doctored(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = (row for row in seen.verdicts if row.verdict is Verdict.DOCTORED)
    yield from _told(
        rule, seen, rows, lambda held: "and the local record of it, made to fit" if len(held) == 1 else
        "and the local record of them, made to fit", "files",
    )  # fmt: skip


def _code_altered(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = (
        row for row in _altered(seen)
        if is_code(row) and _CONTENT & {one.aspect for one in row.differences}
    )  # fmt: skip
    yield from _told(
        rule, seen, rows, lambda held: _be(held, "not as shipped"), "programs and libraries"
    )


def _starts_altered(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = (
        row for row in _altered(seen)
        if not is_code(row) and seen.starts(row.path)
        and _CONTENT & {one.aspect for one in row.differences}
    )  # fmt: skip
    yield from _told(
        rule, seen, rows, lambda held: _be(held, "not as shipped, and starts things"), "files"
    )


def _starts_edited(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = (row for row in seen.verdicts if row.verdict is Verdict.EDITED and seen.starts(row.path))
    yield from _told(
        rule, seen, rows, lambda _: "may be edited, starts things, and was", "settings"
    )


def _rights(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for row in seen.verdicts:
        gained = _gained(row) if row.verdict is Verdict.ALTERED else None
        if gained is not None:
            yield rule.finding(
                f"{row.path} of {row.package} runs with others' rights now: {gained}", row.package,
                [row.path], evidence=row.evidence, since=seen.since([row]), state=_state([row]),
            )  # fmt: skip
    for stray in seen.strays:
        if stray.rank is Rank.RIGHTS:
            yield rule.finding(
                f"{stray.path} is nobody's, and runs with others' rights", None, [stray.path],
                since=stray.modified, state={stray.path: f"mode {stray.mode}, {stray.size} bytes"},
                cause=stray.detail,
            )  # fmt: skip


def _links(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for row in _altered(seen):
        where = _leads_elsewhere(row, seen)
        if where is None:
            continue
        grave = is_code(row) or where.startswith(_ANYBODYS) or seen.starts(row.path)
        told = f"leads to {where} now" if where.startswith(("/", ".")) else f"is {where} now"
        yield rule.finding(
            f"{row.path} of {row.package} {told}", row.package, [row.path], evidence=row.evidence,
            since=seen.since([row]), state=_state([row]),
            severity=Severity.CRITICAL if grave else rule.facts.severity,
        )  # fmt: skip


def _is_plain(row: FileVerdict, seen: Observed) -> bool:
    """Whether no graver rule speaks of a file that is altered."""
    content = bool(_CONTENT & {one.aspect for one in row.differences})
    grave = content and (is_code(row) or seen.starts(row.path))
    return not (grave or _gained(row) or _leads_elsewhere(row))


def _trees(seen: Observed) -> Iterator[tuple[Fold, list[FileVerdict]]]:
    """Directories whose files belong together with a likely cause, and what of them is bad news."""
    rows = {row.path: row for row in seen.verdicts if row.verdict.alarming}
    for fold in seen.verified.folds if seen.verified is not None else ():
        held = [rows[path] for path in fold.paths if path in rows]
        if fold.cause is not None and held:
            yield fold, held


def _in_trees(seen: Observed) -> set[str]:
    return {row.path for _, held in _trees(seen) for row in held}


def _tree_replaced(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for fold, held in _trees(seen):
        paths = [row.path for row in held]
        package = fold.package or held[0].package
        assert fold.cause is not None
        yield rule.finding(
            f"{named(paths)} of {package} below {fold.folder} are not as shipped: likely "
            f"{fold.cause.replace('-', ' ')}", package, paths,
            evidence=min((row.evidence for row in held), key=list(Evidence).index),
            since=fold.last, cause=fold.grounds, state=_state(held),
        )  # fmt: skip


def _data_altered(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    apart = _in_trees(seen)
    rows = (
        row for row in _altered(seen)
        if _is_plain(row, seen) and row.path not in apart
        and _CONTENT & {one.aspect for one in row.differences}
    )  # fmt: skip
    yield from _told(rule, seen, rows, lambda held: _be(held, "not as shipped"), "files")


def _form_altered(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    apart = _in_trees(seen)
    rows = (
        row for row in _altered(seen)
        if _is_plain(row, seen) and row.path not in apart
        and not _CONTENT & {one.aspect for one in row.differences}
    )  # fmt: skip
    yield from _told(rule, seen, rows, _forms, "files")


def _forms(held: Sequence[FileVerdict]) -> str:
    aspects = dict.fromkeys(one.aspect.value for row in held for one in row.differences)
    return (
        f"has another {' and '.join(aspects)}"
        if len(held) == 1
        else f"have another {' and '.join(aspects)}"
    )


def _code_missing(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    rows = (row for row in seen.verdicts if row.verdict is Verdict.MISSING and is_code(row))
    yield from _told(
        rule, seen, rows, lambda held: _be(held, "not there"), "programs and libraries"
    )


def _data_missing(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    apart = _in_trees(seen)
    rows = (
        row for row in seen.verdicts
        if row.verdict is Verdict.MISSING and not is_code(row) and row.path not in apart
    )  # fmt: skip
    yield from _told(rule, seen, rows, lambda held: _be(held, "not there"), "files")


_F = (Part.FILES,)
RULES: tuple[FindingRule, ...] = (
    FindingRule(RuleFacts(
        "record-made-to-fit", Severity.CRITICAL, "A local record was changed to fit a file",
        (Part.FILES, Part.ARCHIVES),
        "files held against archives that are at hand, and against signed records",
        "whoever changes a record with the file wants nobody to see it: nothing that rests on it counts",
        "an archive of another build under the same version would look the same",
        "provenance {path}",
    ), _doctored),
    FindingRule(RuleFacts(
        "code-altered", Severity.CRITICAL, "A program or library is not as shipped", _F,
        "the content of programs and libraries of packages, against the best evidence there is",
        "what runs is not what its maker shipped",
        "a program that updates itself over its package, or a file that its own scripts rewrite",
        "provenance {path}",
    ), _code_altered),
    FindingRule(RuleFacts(
        "rights-came", Severity.CRITICAL, "A file runs with others' rights that was not shipped so",
        (Part.FILES, Part.STRAYS),
        "set-id bits and capabilities of packages' files, and set-id files of nobody's",
        "whoever may run it acts as somebody else",
        "an administrator who gives a program rights without declaring it",
        "timeline around {path}",
    ), _rights),
    FindingRule(RuleFacts(
        "leads-elsewhere", Severity.HIGH, "A path of a package leads elsewhere", _F,
        "links of packages, and files that are links or other things now",
        "whoever asks for the path gets something else",
        "an administrator who moved a directory and left a link",
        "owner {path}",
    ), _links),
    FindingRule(RuleFacts(
        "start-altered", Severity.CRITICAL, "What starts things is not as shipped", _F,
        "units, jobs, rules and settings that decide what is run, and that nobody is expected to edit",
        "what is in it runs, mostly with all rights",
        "a tool of the system's that rewrites it",
        "verify {path}",
    ), _starts_altered),
    FindingRule(RuleFacts(
        "code-missing", Severity.HIGH, "A program or library is not there", _F,
        "programs and libraries of packages that no policy excuses",
        "what needs it does not work, or something else is run in its place",
        "an installation that never came to an end",
        "verify {package}",
    ), _code_missing),
    FindingRule(RuleFacts(
        "start-edited", Severity.LOW, "A setting that starts things was edited", _F,
        "configuration that may be edited, in the places that decide what is run",
        "what was put there runs",
        "that is what it is for",
        "verify {package}",
    ), _starts_edited),
    FindingRule(RuleFacts(
        "tree-replaced", Severity.MEDIUM, "Many files of a package are not as shipped, all at once", _F,
        "directories with many files that are altered or missing, and what speaks for a cause",
        "something else than the package system wrote all of them",
        "a program that updates itself, a disk that was copied, a clean-up",
        "timeline around {path}",
    ), _tree_replaced),
    FindingRule(RuleFacts(
        "data-altered", Severity.MEDIUM, "A file of a package is not as shipped", _F,
        "the content of all other files of packages",
        "what reads it is told something else than was shipped",
        "a program that updates its own data in place",
        "verify {package}",
    ), _data_altered),
    FindingRule(RuleFacts(
        "form-altered", Severity.MEDIUM, "A file of a package has another form", _F,
        "modes, owners, groups and capabilities of packages' files, without further rights",
        "somebody else may read or change it",
        "an administrator who did not declare it; a disk that was copied with other owners",
        "verify {package}",
    ), _form_altered),
    FindingRule(RuleFacts(
        "data-missing", Severity.MEDIUM, "A file of a package is not there", _F,
        "all other files of packages that no policy excuses",
        "something was taken away",
        "a clean-up of translations or papers that was not declared",
        "verify {package}",
    ), _data_missing),
)  # fmt: skip
