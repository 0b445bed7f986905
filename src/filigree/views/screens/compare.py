"""How a comparison is shown: what nothing explains first, then what is explained, by what explains it."""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.model.files import Aspect
from filigree.questions.comparing.comparing import CompareSummary
from filigree.questions.comparing.differences import ChangeKind, Compared, What
from filigree.questions.finding.folding import folders
from filigree.questions.finding.ranks import Rank
from filigree.questions.verifying.folds import SCREEN
from filigree.views.options import CompareOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing, seen
from filigree.views.text import count_words, listed

_FIELDS = tuple(field.name for field in fields(Compared))
_TABLE = (Column(""), Column("", wrap=True), Column("", wrap=True))
_SHOWN = 12
"""So many paths that one thing explains are named."""
_TAIL = 16
_RANKS = {Rank.RIGHTS: "runs with others' rights", Rank.PROGRAM: "program", Rank.OTHER: ""}
_WORDS = {
    ChangeKind.RECORD: "record", ChangeKind.REASON: "why it is there", ChangeKind.ORIGIN: "repository",
}  # fmt: skip


def screen(
    answer: Answer[Compared, CompareSummary], ink: Ink, options: CompareOptions
) -> Iterator[str]:
    """The answer of `compare` for people."""
    unexplained = [row for row in answer.records if row.explained_by is None]
    explained = [row for row in answer.records if row.explained_by is not None]
    if unexplained:
        yield ink.paint(line(Piece("What nothing explains", Style.BAD)))
        yield from _unexplained(unexplained, ink, options.unfold)
        yield ""
    packages = [row for row in explained if row.what is not What.FILE]
    if packages:
        yield ink.paint(line(Piece("What is explained", Style.TITLE)))
        yield from ink.table(_TABLE, [_cells(row) for row in packages], indent=2)
        yield ""
    yield from _files([row for row in explained if row.what is What.FILE], ink)
    summary = answer.summary
    counts = [count_words(count, *_counted(what)) for what, count in summary.by_what.items()]
    style = Style.BAD if summary.unexplained else Style.GOOD
    told = (
        f"{summary.unexplained:,} of them unexplained" if summary.unexplained else "all explained"
    )
    if not summary.differences:
        words: list[str | Piece] = [Piece("Nothing differs", Style.GOOD)]
    else:
        number = count_words(summary.differences, "difference")
        words = [Piece(number, Style.TITLE), f" ({listed(counts)}), ", Piece(told, style)]
    if explained:
        told_by = (
            "What is explained is so by the system's own records: whoever could change its files"
        )
        yield from ink.flowed(line(Piece(f"{told_by} could have changed those too.", Style.FAINT)))
    if summary.undigested:
        number = count_words(summary.undigested, "file")
        words_of = f"{number} of nobody's, alike by size and time, were not compared by content."
        yield from ink.flowed(line(Piece(words_of, Style.FAINT)))
    yield from closing(ink, *words, f", from {_root(summary.before, summary.before_seen_at)} to "
                       f"{_root(summary.after, summary.after_seen_at)}")  # fmt: skip


def _unexplained(found: Sequence[Compared], ink: Ink, unfold: bool) -> Iterator[str]:
    """What nothing explains; of more than a screen what lies together is told as one, and what can be run
    by itself."""
    plain = [row.subject for row in found if row.what is What.FILE and row.rank is Rank.OTHER]
    held = folders(plain) if len(found) > SCREEN and not unfold else {}
    hidden = {path for paths in held.values() for path in paths}
    alone = [row for row in found if row.what is not What.FILE or row.subject not in hidden]
    yield from ink.table(_TABLE, [_cells(row) for row in alone], indent=2)
    by_path = {row.subject: row for row in found if row.what is What.FILE}
    for folder, paths in held.items():
        counts = Counter(by_path[path].change.value for path in paths)
        words = listed([f"{number:,} {change}" for change, number in counts.items()])
        yield from ink.flowed(line(
            "  ", Piece(f"{folder}/", Style.NAME), f"  {len(paths):,} files: ", Piece(words, Style.WARN),
        ), 4)  # fmt: skip
    if held:
        yield ink.paint(line(Piece("  --unfold tells each of them", Style.FAINT)))


def titles(options: CompareOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[Compared, CompareSummary], options: CompareOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for row in answer.records:
        told = [getattr(row, name) for name in _FIELDS]
        told[_FIELDS.index("aspects")] = " ".join(row.aspects)
        yield told


def _files(found: Sequence[Compared], ink: Ink) -> Iterator[str]:
    """Paths that are explained, together with all that the same thing explains."""
    by_reason: dict[str, list[Compared]] = {}
    for row in found:
        by_reason.setdefault(row.explained_by or "", []).append(row)
    for reason, held in by_reason.items():
        number = count_words(len(held), "file")
        yield from ink.flowed(line(Piece(number, Style.TITLE), f": {reason}"))
        yield from ink.table(_TABLE, [_cells(row) for row in held[:_SHOWN]], indent=2)
        if len(held) > _SHOWN:
            yield f"  and {len(held) - _SHOWN:,} more (--format lines names them all)"
        yield ""


def _cells(row: Compared) -> list[str | Piece]:
    style = Style.WARN if row.explained_by is None else Style.FAINT
    word = _WORDS.get(row.change, row.change.value)
    name = row.subject
    if row.what not in (What.FILE, What.PACKAGE):
        name = f"{row.what.value} {_short(row.subject) if row.what is What.KEY else row.subject}"
    told: list[str] = []
    if row.what is What.FILE:
        if row.rank is not Rank.OTHER:
            told.append(_RANKS[row.rank])
        if row.package:
            told.append(f"of {row.package}")
        if row.change is ChangeKind.ALTERED:
            told.append(_altered(row))
    elif row.before is not None and row.after is not None and row.change is not ChangeKind.RECORD:
        told.append(f"{row.before} → {row.after}")
    else:
        told.append(row.after or row.before or "")
        if row.what is What.KEY:
            told.append(f"in{row.subject.partition(' in')[2]}")
    if row.explained_by is None and row.why:
        told.append(row.why)
    elif row.what is not What.FILE and row.explained_by:
        told.append(row.explained_by)
    if row.layer is not None:
        told.append(f"layer {row.layer}")
    return [Piece(word, style), Piece(name, Style.NAME), "; ".join(filter(None, told))]


def _altered(row: Compared) -> str:
    words = listed([one.value.replace("-", " ") for one in row.aspects])
    if set(row.aspects) & {Aspect.CONTENT, Aspect.MODIFIED, Aspect.CAPABILITIES}:
        return f"other {words}"
    return f"{words}: {row.before} → {row.after}"


def _short(subject: str) -> str:
    """The end of a fingerprint, which tells keys apart for people."""
    return f"…{subject.partition(' ')[0][-_TAIL:]}"


def _counted(what: What) -> tuple[str, str]:
    plurals = {What.REPOSITORY: "repositories", What.POLICY: "policies", What.HISTORY: "events"}
    one = "event" if what is What.HISTORY else what.value
    return one, plurals.get(what, f"{one}s")


def _root(root: str, seen_at: str | None) -> str:
    return root if seen_at is None else f"{root} ({seen(seen_at)})"
