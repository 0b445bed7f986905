"""How a dossier is shown: grouped for reading."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.model.needs import Relation
from filigree.model.package import State, Wanted
from filigree.questions.commands.dossier import Dossier, DossierSummary, NeedOfPackage
from filigree.questions.dependencies.need_status import NeedStatus
from filigree.views.options import ViewOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import VERDICT_STYLES, day, fact, in_layers, minute, state_words
from filigree.views.text import listed, size_words

_FIELDS = tuple(field.name for field in fields(Dossier))
_WANTED = {
    Wanted.HOLD: "to be held at this version",
    Wanted.REMOVE: "to be removed",
    Wanted.PURGE: "to be removed with its configuration",
}


def screen(
    answer: Answer[Dossier, DossierSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `dossier` for people."""
    for at, row in enumerate(answer.records):
        if at:
            yield ""
        yield from _dossier(row, ink)


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return ("package", "fact", "value")


def rows(answer: Answer[Dossier, DossierSummary], options: ViewOptions) -> Iterator[Sequence[Any]]:
    """A line for each fact; for each part, where a fact has several."""
    for record in answer.records:
        label = f"{record.name}:{record.architecture}={record.version}"
        for name in _FIELDS:
            value = getattr(record, name)
            several = isinstance(value, list)
            for part in value if several else [value]:
                if part is not None:
                    yield (label, name, part)


def _dossier(row: Dossier, ink: Ink) -> Iterator[str]:
    yield ink.paint(line(Piece(row.name, Style.TITLE), f"  {row.summary or ''}"))
    yield from _identity(row, ink)
    if row.archive:
        yield from _archive(row, ink)
    elif row.state is State.AVAILABLE:
        yield from _available(row, ink)
    else:
        yield from _standing(row, ink)
    yield from _origin(row, ink, row.silent_on)
    yield from _choices(row, ink)
    yield from _ties(row, ink)
    yield from _files(row, ink)
    yield from _changes(row, ink)
    yield from _history(row, ink)
    if row.description:
        yield from _heading("Description", ink)
        for text in row.description.split("\n"):
            yield from ink.flowed(line("  ", text), 2)
    if row.other_fields is not None:
        yield from _heading("The record itself, by its own names", ink)
        for name, value in row.other_fields.items():
            yield from fact(ink, f"  {name}", value, width=28)


def _heading(text: str, ink: Ink) -> Iterator[str]:
    yield ""
    yield ink.paint(line(Piece(text, Style.TITLE)))


def _facts(ink: Ink, pairs: Sequence[tuple[str, str | Piece | None]]) -> Iterator[str]:
    for name, value in pairs:
        if value and (isinstance(value, str) or value.text):
            yield from fact(ink, f"  {name}", value, width=20)


def _identity(row: Dossier, ink: Ink) -> Iterator[str]:
    yield from _heading("Identity", ink)
    epoch, version, release = row.parts
    yield from _facts(
        ink,
        (
            ("name", row.name),
            ("version", version),
            ("epoch", epoch or "none"),
            ("release", release or "none"),
            ("architecture", row.architecture),
            ("full version", row.version),
            ("family", row.family),
        ),
    )


def _archive(row: Dossier, ink: Ink) -> Iterator[str]:
    assert row.archive is not None
    yield from _heading("The archive", ink)
    packed = row.archive.compression
    yield from _facts(
        ink,
        (
            ("file", row.archive.path),
            ("format", row.archive.form),
            ("payload", "not compressed" if packed == "none" else packed),
            ("archive size", size_words(row.archive_size)),
            ("installed size", size_words(row.installed_size)),
        ),
    )
    for phrase in row.misnamed:
        yield from fact(ink, "  misnamed", Piece(phrase, Style.BAD), width=20)
    for other in row.installed_here:
        there = "this very version" if other.order == "same" else f"{other.version}, {other.order}"
        yield from fact(ink, "  installed here", there, width=20)
    if not row.installed_here:
        yield from fact(ink, "  installed here", Piece("not installed", Style.FAINT), width=20)


def _available(row: Dossier, ink: Ink) -> Iterator[str]:
    yield from _heading("Standing", ink)
    here = [
        "this very version" if one.order == "same" else f"{one.version}, {one.order}"
        for one in row.installed_here
    ]
    yield from _facts(
        ink,
        (
            ("state", state_words(row.state, row.held)),
            ("installed here", "; ".join(here) or Piece("not installed", Style.FAINT)),
            ("archive size", size_words(row.archive_size)),
            ("installed size", size_words(row.installed_size)),
        ),
    )


def _standing(row: Dossier, ink: Ink) -> Iterator[str]:
    yield from _heading("Standing", ink)
    wanted = _WANTED.get(row.wanted)
    yield from _facts(
        ink,
        (
            ("state", state_words(row.state, row.held)),
            ("reason", row.reason.value if row.reason else "not on record"),
            ("wanted", Piece(wanted, Style.WARN) if wanted else None),
            (
                "damaged",
                Piece("its last installation broke off", Style.BAD) if row.damaged else None,
            ),
            ("protected", "the system cannot do without it" if row.protected else None),
            ("on disk since", minute(row.installed_at)),
            ("installed size", size_words(row.installed_size)),
            ("archive size", size_words(row.archive_size)),
        ),
    )


def _origin(row: Dossier, ink: Ink, silent_on: Mapping[str, str]) -> Iterator[str]:
    source = row.source
    if source and row.source_version not in (None, row.version):
        source = f"{source}, version {row.source_version}"
    pairs: tuple[tuple[str, str | Piece | None], ...] = (
        ("source", source),
        ("section", row.section),
        ("maintainer", row.maintainer),
        ("vendor", row.vendor),
        ("homepage", row.homepage),
        ("license", row.license or Piece(silent_on.get("license", ""), Style.FAINT)),
        ("built", minute(row.built_at) or Piece(silent_on.get("built_at", ""), Style.FAINT)),
        ("built on", row.build_host),
        ("repository", row.repository),
        ("archive", row.address),
        ("digest", row.digest),
        ("signature", row.signature),
        ("key", row.key_id),
    )
    told = list(_facts(ink, pairs))
    if told:
        yield from _heading("Origin", ink)
        yield from told


_CHOICES = (
    Column(""), Column("version", wrap=True), Column("arch"), Column("priority", right=True),
    Column("offered by", wrap=True), Column("what the rules say", wrap=True),
)  # fmt: skip
_CHANGES_SHOWN = 5


def _choices(row: Dossier, ink: Ink) -> Iterator[str]:
    """All versions of that name, from where, and which of them would be taken."""
    if not row.choices:
        return
    yield from _heading("Versions, the newest first", ink)
    table = []
    for one in row.choices:
        said = one.verdict if one.priority is None else f"{one.verdict}; {one.why}"
        offered = ", ".join([*(["installed"] if one.installed else []), *one.repositories])
        mark = Style.GOOD if one.taken else Style.PLAIN
        number = "" if one.priority is None else str(one.priority)
        table.append([
            "→" if one.taken else "", Piece(one.version, mark), one.architecture, number, offered,
            said,
        ])  # fmt: skip
    yield from ink.table(_CHOICES, table, 2)


def _changes(row: Dossier, ink: Ink) -> Iterator[str]:
    if not row.changes:
        return
    yield from _heading("What changed, the newest first", ink)
    for change in row.changes[:_CHANGES_SHOWN]:
        who = Piece(f"  {change.who}", Style.FAINT)
        yield from fact(ink, f"  {day(change.at)}", " ".join(change.what.split()), who, width=20)
    if len(row.changes) > _CHANGES_SHOWN:
        yield f"  and {len(row.changes) - _CHANGES_SHOWN:,} more (--format json has them all)"


def _history(row: Dossier, ink: Ink) -> Iterator[str]:
    """What the system itself tells of this name, the newest first."""
    if row.history:
        yield from _heading("What happened to it, the newest first", ink)
    for event in row.history:
        version = f"{event.version or 'a version'} was {event.action}"
        run = event.session
        how = f" by {run.command}" if run and run.command else ""
        who = f", asked for by {run.user}" if run and run.user else ""
        told = Piece(how + who, Style.FAINT)
        yield from fact(ink, f"  {minute(event.at) or 'at no known time'}", version, told, width=26)


def _ties(row: Dossier, ink: Ink) -> Iterator[str]:
    if not row.needs and not row.provides:
        return
    yield from _heading("Needs, and what it offers", ink)
    for kind in Relation:
        if kind is Relation.FORMAT and row.other_fields is None:
            continue
        for at, need in enumerate(need for need in row.needs if need.kind is kind):
            name = kind.value.replace("-", " ") if not at else ""
            yield from fact(ink, f"  {name}", *_need(need), width=20)
    for at, provided in enumerate(row.provides):
        yield from fact(ink, "  provides" if not at else "", provided, width=20)


def _need(need: NeedOfPackage) -> list[str | Piece]:
    if need.status is None:
        return [need.requirement]
    if need.status is NeedStatus.AVAILABLE:
        names = f"  not installed; {', '.join(need.met_by)} would meet it"
        return [need.requirement, Piece(names, Style.WARN)]
    if need.status is NeedStatus.UNMET:
        return [
            need.requirement,
            "  ",
            Piece("unmet", Style.BAD if need.kind.hard else Style.FAINT),
        ]
    if need.reason:
        return [need.requirement, Piece(f"  {need.reason}", Style.FAINT)]
    named = need.requirement.partition(" ")[0].partition(":")[0]
    if need.met_by == [named]:
        return [need.requirement]
    return [need.requirement, Piece(f"  met by {', '.join(need.met_by)}", Style.FAINT)]


def _files(row: Dossier, ink: Ink) -> Iterator[str]:
    yield from _heading("Files", ink)
    yield from fact(ink, "  paths", f"{row.paths:,}", width=20)
    if row.layers:
        told = [f"{count:,} in layer {layer}" for layer, count in row.layers.items()]
        yield from fact(ink, "  files", listed(told), width=20)
    for at, config in enumerate(row.configuration):
        verdict = Piece("")
        if config.verdict is not None:
            verdict = Piece(config.verdict.value, VERDICT_STYLES[config.verdict])
        name = "  configuration" if not at else ""
        where = in_layers(config.layers)
        parts = (config.path, "  ", verdict, f"  {where}" if where else "")
        yield from fact(ink, name, *parts, width=20)
    scripts = [
        f"{s.name} ({size_words(s.size)})" if s.size is not None else s.name for s in row.scripts
    ]
    if scripts:
        yield from fact(ink, "  scripts", ", ".join(scripts), width=20)
