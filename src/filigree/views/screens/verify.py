"""How verdicts are shown: grouped by package, worst first, then all of it in a few lines."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.model.files import Aspect, Difference, Evidence, Sort, Verdict
from filigree.model.package import State
from filigree.model.signatures import SignatureVerdict
from filigree.questions.verifying.folds import Fold, stays_alone
from filigree.questions.verifying.tally import VerifySummary
from filigree.questions.verifying.verdicts import SIGNED, FileVerdict
from filigree.views.options import VerifyOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import (
    STATE_WORDS,
    VERDICT_STYLES,
    closing,
    in_layers,
    minute,
    seen,
)
from filigree.views.text import count_words, listed, size_words

_FIELDS = tuple(field.name for field in fields(FileVerdict))
_WORST = {verdict: place for place, verdict in enumerate(Verdict)}
_HINTS = {
    Verdict.DOCTORED: "the local record was changed",
    Verdict.UNRECORDED: "nothing on record to compare with",
    Verdict.EXCUSED: "by declared policy, or as its packager expects",
    Verdict.UNREADABLE: "could not be read",
    Verdict.EDITED: "configuration, changed here",
}
_EVIDENCE = (
    (Evidence.SIGNED, "what traces to a key"),
    (Evidence.ARCHIVE, "an archive whose digest was checked, or that you gave"),
    (Evidence.RECORD, "the local record alone, or on the system's own policy"),
)
_FILE = (Column(""), Column("", wrap=True), Column("", wrap=True))


def screen(
    answer: Answer[FileVerdict, VerifySummary], ink: Ink, options: VerifyOptions
) -> Iterator[str]:
    """The answer of `verify` for people."""
    unsound = answer.summary.unsound
    folds = [] if options.unfold else answer.summary.folds
    hidden = {path for fold in folds for path in fold.paths}
    alone = [row for row in answer.records if row.path not in hidden or stays_alone(row)]
    yield from fold_lines(folds, ink)
    for package, found in _groups(alone):
        state = unsound.get(package.partition(":")[0])
        words = f"  {STATE_WORDS[State(state)]}: its files need not be complete" if state else ""
        yield ink.paint(line(Piece(package, Style.TITLE), Piece(words, Style.WARN)))
        yield from ink.table(_FILE, [_file(row) for row in found], indent=2)
        yield ""
    yield from _summary(answer, ink)


def fold_lines(folds: Sequence[Fold], ink: Ink) -> Iterator[str]:
    """What belongs together, each in a few lines."""
    for fold in folds:
        counts = listed(
            [f"{number:,} {verdict.value}" for verdict, number in fold.verdicts.items()]
        )
        whose = f" of {fold.package}" if fold.package else ""
        yield from ink.flowed(line(
            Piece(f"{fold.folder}/", Style.NAME), f"  {fold.count:,} files{whose}: ",
            Piece(counts, _fold_style(fold)),
        ), 2)  # fmt: skip
        if fold.cause is not None:
            words = f"  {fold.cause.replace('-', ' ')}: {fold.grounds}"
            yield from ink.flowed(line(Piece(words, Style.FAINT)), 2)
        elif fold.first is not None and fold.last is not None:
            words = f"  last changed between {minute(fold.first)} and {minute(fold.last)}"
            yield from ink.flowed(line(Piece(words, Style.FAINT)), 2)
    if folds:
        yield ink.paint(line(Piece("  --unfold tells each of them", Style.FAINT)))
        yield ""


def _fold_style(fold: Fold) -> Style:
    return VERDICT_STYLES[min(fold.verdicts, key=_WORST.__getitem__)]


def titles(options: VerifyOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[FileVerdict, VerifySummary], options: VerifyOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for row in answer.records:
        differences = [_plain_difference(d) for d in row.differences]
        yield [differences if name == "differences" else getattr(row, name) for name in _FIELDS]


def _groups(records: Sequence[FileVerdict]) -> list[tuple[str, list[FileVerdict]]]:
    groups: dict[tuple[str, str, str], list[FileVerdict]] = {}
    for row in records:
        groups.setdefault((row.package, row.architecture, row.version), []).append(row)
    for found in groups.values():
        found.sort(key=lambda row: (_WORST[row.verdict], row.path))
    ordered = sorted(
        groups.items(),
        key=lambda item: (_WORST[item[1][0].verdict], -_alarms(item[1]), item[0]),
    )
    names = [name for name, _, _ in groups]
    return [
        (name if names.count(name) == 1 else f"{name}:{architecture}={version}", found)
        for (name, architecture, version), found in ordered
    ]


def _alarms(found: Sequence[FileVerdict]) -> int:
    return sum(row.verdict.alarming for row in found)


def _file(row: FileVerdict) -> list[str | Piece]:
    words = [_words(difference, row) for difference in row.differences]
    if row.verdict is Verdict.DOCTORED and row.reason:
        words.insert(0, row.reason)
    words = words or [row.reason or ""]
    told = "; ".join(filter(None, [*words, in_layers(row.layers)]))
    verdict = Piece(row.verdict.value, VERDICT_STYLES[row.verdict])
    return [verdict, row.path, Piece(told, Style.FAINT)]


def _words(difference: Difference, row: FileVerdict) -> str:
    expected, found = difference.expected, difference.found
    told = "recorded" if row.evidence is Evidence.RECORD else "shipped"
    told = "declared" if row.policy is Sort.OVERRIDE else told
    match difference.aspect:
        case Aspect.CONTENT:
            algorithm = (expected or "").partition(":")[0]
            return f"{row.role.value}, other content than {told} ({algorithm})"
        case Aspect.PRESENCE:
            return found or f"{row.role.value}, not on the disk"
        case Aspect.KIND:
            return f"{told} as a {expected}, is now a {found}"
        case Aspect.MODIFIED:
            return f"changed {(found or '').replace('T', ' ').replace('Z', ' UTC')}"
        case Aspect.RECORD:
            if expected == SIGNED:
                return found or ""
            return f"the record says {found}, shipped was {expected}"
        case Aspect.CAPABILITIES:
            return f"capabilities are {found}, {told} were {expected}"
    name = difference.aspect.value.replace("-", " ")
    return f"{name} is {found}, {told} was {expected}"


def _plain_difference(difference: Difference) -> str:
    expected, found = difference.expected or "", difference.found or ""
    return f"{difference.aspect.value}: {expected} -> {found}"


def _summary(answer: Answer[FileVerdict, VerifySummary], ink: Ink) -> Iterator[str]:
    summary = answer.summary
    verdicts = summary.verdicts
    parts: list[str | Piece] = [
        Piece(count_words(summary.paths, "path"), Style.TITLE),
        f" of {count_words(summary.packages, 'package')} looked at, ",
        f"{size_words(summary.bytes_read)} read in {summary.seconds:.1f} s",
    ]
    if answer.system.seen_at is not None:
        parts += (", as seen on ", Piece(seen(answer.system.seen_at), Style.TITLE))
    yield from closing(ink, *parts)
    for verdict in sorted(verdicts, key=_WORST.__getitem__):
        hint = _HINTS.get(verdict)
        if verdict is Verdict.INTACT and summary.touched:
            hint = f"{summary.touched:,} of them with another time of change"
        pieces: list[str | Piece] = [
            f"  {verdicts[verdict]:>9,} ",
            Piece(verdict.value, VERDICT_STYLES[verdict]),
        ]
        if hint:
            pieces.append(Piece(f"  {hint}", Style.FAINT))
        yield ink.paint(line(*pieces))
    yield from _rests_on(answer, ink)
    if not any(verdict.alarming for verdict in verdicts) and not answer.interrupted:
        yield from _all_well(answer, ink, verdicts)
    elif answer.interrupted:
        left = summary.paths_in_all - summary.paths
        # What there was to judge is an estimate.
        words = (
            f"some {left:,} paths were not reached" if left > 0 else "not every path was reached"
        )
        yield ink.paint(line(Piece(f"Interrupted: {words}.", Style.WARN)))


def _all_well(
    answer: Answer[FileVerdict, VerifySummary], ink: Ink, verdicts: dict[Verdict, int]
) -> Iterator[str]:
    if not answer.summary.paths:
        yield ink.paint(line(Piece("Nothing could be judged.", Style.WARN)))
        return
    clean = not answer.gaps and Verdict.UNREADABLE not in verdicts
    words = "Nothing is altered or missing" + ("." if clean else ", of what could be looked at.")
    yield ink.paint(line(Piece(words, Style.GOOD if clean else Style.WARN)))


def _policies(summary: VerifySummary, ink: Ink) -> Iterator[str]:
    """What rests on the system's own policy: of which sort, where that is said, and since when."""
    rows = summary.local_policy
    if not rows or summary.least_evidence is not Evidence.RECORD:
        return  # where better evidence was asked for, all that is among the gaps
    told = []
    for row in rows:
        where = ""
        if row.said_in is not None:
            since = (row.changed_at or "").replace("T", " ").replace("Z", " UTC")
            where = f" ({row.said_in}{', changed ' + since if since else ''})"
        told.append(f"{row.files:,} by {row.sort.value}{where}")
    count = sum(row.files for row in rows)
    words = (
        f"{count_words(count, 'verdict')} {'rests' if count == 1 else 'rest'} on the system's own"
    )
    words += f" policy, which whoever owns it can change: {listed(told)}."
    yield from ink.flowed(line(Piece(words, Style.WARN)))


def _rests_on(answer: Answer[FileVerdict, VerifySummary], ink: Ink) -> Iterator[str]:
    """What the verdicts rest on, in a few sentences."""
    summary = answer.summary
    counts = summary.paths_by_evidence
    compared = listed([name.replace("-", " ") for name in summary.compared])
    for evidence, words in _EVIDENCE:
        count = counts.get(evidence, 0)
        if count and (evidence is not Evidence.RECORD or len(counts) > 1):
            told = (
                f"{count_words(count, 'verdict')} {'rests' if count == 1 else 'rest'} on {words}."
            )
            yield from ink.flowed(line(Piece(told, Style.FAINT)))
    if not summary.paths:
        return
    if set(counts) <= {Evidence.RECORD}:
        words = f"This rests on the local record alone ({compared}): "
        words += "whoever could change the files could have changed it too."
        yield from ink.flowed(line(Piece(words, Style.FAINT)))
    else:
        whose = "yours" if summary.keys_of == "auditor" else "the root's own"
        words = f"Compared: {compared}. The keys were {whose}."
        yield from ink.flowed(line(Piece(words, Style.FAINT)))
    yield from _policies(summary, ink)
    signatures = summary.record_signatures
    odd = [f"{n:,} {v.value}" for v, n in signatures.items() if v is not SignatureVerdict.GOOD]
    if odd:
        told = listed([f"{signatures.get(SignatureVerdict.GOOD, 0):,} good", *odd])
        words = f"Signatures of the packages' own records: {told}."
        yield from ink.flowed(line(Piece(words, Style.WARN)))
    if summary.reused:
        words = f"{summary.reused:,} files were not read again: of the same size, times and inode "
        yield from ink.flowed(line(Piece(words + "as in the earlier result.", Style.WARN)))
    if summary.sample is not None:
        words = f"A sample of {summary.sample:g} % of the files: a quick look, and no more."
        yield ink.paint(line(Piece(words, Style.WARN)))
