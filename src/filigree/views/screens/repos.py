"""How repositories are shown: a table of all, or each in detail."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from datetime import datetime
from typing import Any

from filigree.model.answer import Answer
from filigree.model.signatures import SignatureVerdict
from filigree.questions.commands.repos import RepositoryRow, ReposSummary
from filigree.views.options import ReposOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing, day, fact, minute
from filigree.views.text import count_words, size_words

_FIELDS = tuple(field.name for field in fields(RepositoryRow))
_TABLE = (
    Column("repository", wrap=True), Column("for"), Column("packages", right=True), Column("made"),
    Column("fetched"), Column("expires"), Column("priority", right=True), Column("signature"),
)  # fmt: skip
_STYLES = {
    SignatureVerdict.GOOD: Style.GOOD,
    SignatureVerdict.BAD: Style.BAD,
    SignatureVerdict.EXPIRED: Style.WARN,
    SignatureVerdict.WEAK: Style.WARN,
    SignatureVerdict.UNKNOWN_KEY: Style.WARN,
    SignatureVerdict.NONE: Style.WARN,
}


def screen(
    answer: Answer[RepositoryRow, ReposSummary], ink: Ink, options: ReposOptions
) -> Iterator[str]:
    """The answer of `repos` for people."""
    rows = answer.records
    now = answer.summary.asked_at
    if options.detail:
        for row in rows:
            yield from _detail(row, ink)
            yield ""
    elif rows:
        yield from ink.table(_TABLE, [_cells(row, now) for row in rows])
        yield ""
        yield from _remarks(rows, ink)
    yield from closing(ink, *_closing(answer))
    if answer.summary.keys_of == "root" and any(row.signers for row in rows):
        words = (
            "Signatures were judged with this root's own keys: whoever could change the indexes "
        )
        words += "could have changed those too (--keyring judges with yours)."
        yield from ink.flowed(line(Piece(words, Style.FAINT)))


def titles(options: ReposOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[RepositoryRow, ReposSummary], options: ReposOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        yield [getattr(record, name) for name in _FIELDS]


def _cells(row: RepositoryRow, now: datetime) -> list[str | Piece]:
    expired = row.expires_at is not None and row.expires_at < now
    return [
        Piece(row.identity, Style.NAME if row.enabled else Style.FAINT),
        row.architecture or "",
        f"{row.packages:,}" if row.packages is not None else "",
        day(row.made_at),
        day(row.fetched_at),
        Piece(day(row.expires_at), Style.BAD if expired else Style.PLAIN),
        str(row.priority) if row.priority is not None else "",
        _signature(row),
    ]


def _signature(row: RepositoryRow) -> Piece:
    if not row.enabled:
        return Piece("not enabled", Style.FAINT)
    if row.signature is None:
        return Piece("no copy", Style.WARN)
    if row.matches is False:
        return Piece("broken", Style.BAD)
    return Piece(row.signature.value, Style.BAD if row.alarming else _STYLES[row.signature])


def _remarks(rows: Sequence[RepositoryRow], ink: Ink) -> Iterator[str]:
    told = [
        row
        for row in rows
        if row.remarks or (row.reason and row.signature is not SignatureVerdict.NONE)
    ]
    for row in told:
        for remark in dict.fromkeys((*row.remarks, *([row.reason] if row.reason else []))):
            parts = (Piece(row.identity, Style.NAME), f": {remark}")
            yield from ink.flowed(line(*parts), 4)
    if told:
        yield ""


def _detail(row: RepositoryRow, ink: Ink) -> Iterator[str]:
    yield ink.paint(line(Piece(row.identity, Style.TITLE), f"  {row.name}"))
    asked = {True: "yes", False: "no", None: "the system's own default"}[row.must_be_signed]
    pairs: tuple[tuple[str, str | Piece | None], ...] = (
        ("enabled", "yes" if row.enabled else Piece("no", Style.FAINT)),
        ("configured in", row.configured_in),
        ("suite", row.suite),
        ("component", row.component),
        ("architecture", row.architecture),
        ("priority", str(row.priority) if row.priority is not None else None),
        ("must be signed", asked),
        ("packages", f"{row.packages:,}" if row.packages is not None else None),
        ("size of the copy", size_words(row.size) if row.size is not None else None),
        ("copy", f"{row.path}, fetched by refresh" if row.own else row.path),
        ("made", minute(row.made_at)),
        ("last asked for", minute(row.fetched_at)),
        ("expires", minute(row.expires_at)),
        ("signature", _signature(row)),
        ("signature says", row.reason),
    )
    for address in row.addresses:
        yield from fact(ink, "  address", address, width=20)
    for name, value in pairs:
        if value:
            yield from fact(ink, f"  {name}", value, width=20)
    for key in row.keys:
        yield from fact(ink, "  to be signed by", key, width=20)
    for signer in row.signers:
        who = signer.identity or "a key that is not at hand"
        when = f", {minute(signer.made_at)}" if signer.made_at else ""
        verdict = Piece(signer.verdict.value, _STYLES[signer.verdict])
        words = (f"{signer.fingerprint}  {who}{when}  ", verdict)
        yield from fact(ink, "  signed by", *words, width=20)
    for remark in row.remarks:
        yield from fact(ink, "  remark", Piece(remark, Style.WARN), width=20)


def _closing(answer: Answer[RepositoryRow, ReposSummary]) -> list[str | Piece]:
    summary = answer.summary
    parts: list[str | Piece] = [
        Piece(count_words(summary.indexes, "index", "indexes"), Style.TITLE),
        f", {summary.packages:,} packages offered",
    ]
    for count, words in ((summary.never_fetched, "never fetched"), (summary.expired, "expired")):
        if count:
            parts += ("; ", Piece(f"{count} {words}", Style.WARN))
    if summary.alarming:
        parts += ("; ", Piece(f"{summary.alarming} not to be trusted", Style.BAD))
    return parts
