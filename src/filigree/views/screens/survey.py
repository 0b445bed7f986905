"""How a survey is shown."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.model.images import ImageFacts
from filigree.model.package import State
from filigree.model.signatures import SignatureVerdict
from filigree.model.snapshots import SnapshotFacts
from filigree.questions.commands.survey import Survey, SurveySummary, Weight
from filigree.views.options import ViewOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import (
    REASON_WORDS,
    STATE_WORDS,
    UNSIGNED,
    fact,
    minute,
    seen,
)
from filigree.views.text import count_words, listed, size_words

_BAR = 30


def screen(answer: Answer[Survey, SurveySummary], ink: Ink, options: ViewOptions) -> Iterator[str]:
    """What it is, how it stands, and what is biggest."""
    found = answer.records[0]
    called = Piece(found.label or "A system that gives itself no name", Style.TITLE)
    yield from ink.flowed(line(called), 2)
    kind = f"{found.family} system, {found.architecture or 'any architecture'}"
    yield from ink.flowed(line(f"{kind}, at {answer.system.root}"), 2)
    if found.taken is not None:
        yield ""
        yield from _taken(found.taken, ink)
    if found.image is not None:
        yield ""
        yield from _image(found.image, ink)
    yield ""
    states = [f"{n:,} {STATE_WORDS[State(state)]}" for state, n in found.states.items()]
    yield from fact(ink, "Packages", listed(states) if states else "none")
    told = found.reasons
    reasons = [f"{n:,} {REASON_WORDS.get(why, why)}" for why, n in (told or {}).items()]
    none = "not on record" if told is None else "none"
    yield from fact(ink, "Reasons", listed(reasons) if reasons else none)
    yield from fact(
        ink, "Held back", listed(found.held_packages) if found.held_packages else "nothing"
    )
    yield from fact(ink, "Size", f"{size_words(found.installed_size)} by the packages' own account")
    yield from fact(
        ink, "Paths", f"{found.distinct_paths:,}, listed {count_words(found.paths, 'time')} in all"
    )
    yield from fact(ink, "Newest change", *_newest(found))
    yield from fact(ink, "Health", _health(found))
    for one in found.kept:
        amount = f"{count_words(one.files, 'file')}, {size_words(one.size)}"
        yield from fact(ink, one.what.capitalize(), f"{amount}, kept in {one.where}")
    for place in found.room:
        free, total = size_words(place.free), size_words(place.total)
        yield from fact(ink, "Room", f"{free} free of {total} on {place.path}")
    if found.most_needed:
        words = [f"{one.name} ({one.impact:,})" for one in found.most_needed]
        yield from fact(ink, "Most needed", f"{', '.join(words)}: so many packages stand on each")
    yield from _biggest(found, ink)


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return ("fact", "value")


def rows(answer: Answer[Survey, SurveySummary], options: ViewOptions) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    found = answer.records[0]
    for field in fields(found):
        if field.name == "biggest":
            for weight in found.biggest:
                yield ("biggest", f"{weight.name} {weight.installed_size or ''}")
        elif field.name == "kept":
            yield from ((f"fetched_{k.what}", f"{k.files} {k.size} {k.where}") for k in found.kept)
        elif field.name == "room":
            yield from (("room", f"{r.free} {r.total} {r.path}") for r in found.room)
        elif field.name == "most_needed":
            yield from (("most_needed", f"{one.name} {one.impact}") for one in found.most_needed)
        else:
            yield (field.name, getattr(found, field.name))


def _biggest(found: Survey, ink: Ink) -> Iterator[str]:
    if not found.biggest:
        return
    yield ""
    yield ink.paint(line(Piece("The biggest", Style.TITLE)))
    yield from ink.table(
        (
            Column("", wrap=True),
            Column("", wrap=True),
            Column(""),
            Column("", right=True),
            Column(""),
        ),
        [_weight(weight, found.biggest[0].installed_size or 1) for weight in found.biggest],
        indent=2,
    )


def _taken(taken: SnapshotFacts, ink: Ink) -> Iterator[str]:
    told = dict.fromkeys(filter(None, (taken.label, taken.host)))
    whose = ", ".join(told) or "a host that gives no name"
    yield from fact(ink, "Snapshot", f"of {whose}, taken of {taken.root}")
    yield from fact(ink, "Taken", f"{seen(taken.began)} to {seen(taken.ended)}")
    yield from fact(ink, "By", f"{taken.taken_by}, with version {taken.version}")
    if taken.options:
        yield from fact(ink, "How", listed([*taken.options]))
    yield from fact(
        ink, "Seen", f"{taken.paths:,} paths; {taken.changed:,} files changed meanwhile"
    )
    if taken.gaps:
        yield from fact(ink, "Not seen", Piece(count_words(taken.gaps, "thing"), Style.WARN))
    yield from fact(ink, "Signed", *_signed(taken))


def _signed(taken: SnapshotFacts) -> list[str | Piece]:
    if not taken.signed:
        return [Piece(UNSIGNED, Style.WARN)]
    judged = taken.signature
    if judged is None:
        return [Piece("yes, and not judged: no keys of yours were given", Style.WARN)]
    style = Style.GOOD if judged.verdict is SignatureVerdict.GOOD else Style.BAD
    who = "; ".join(one.identity or one.fingerprint for one in judged.signers)
    told = ", ".join(filter(None, (who, judged.reason)))
    return [Piece(judged.verdict.value, style), f" ({told})" if told else ""]


def _image(image: ImageFacts, ink: Ink) -> Iterator[str]:
    names = listed([*image.names]) if image.names else "without a name"
    yield from fact(ink, "Image", names, f", for {image.platform or 'no machine that is told'}")
    sizes = f"{size_words(image.size)} as they lie, {size_words(image.unpacked)} unpacked, of which"
    yield from fact(
        ink, "Layers", f"{image.layers:,}: {sizes} {size_words(image.effective)} can be seen"
    )
    if image.made_at:
        yield from fact(ink, "Made", minute(image.made_at))
    yield from fact(ink, "Runs as", image.user or "root: no user is named")
    program = " ".join((*image.entry_point, *image.command))
    yield from fact(ink, "Starts", program or "nothing that is told")
    if image.ports:
        yield from fact(ink, "Ports", listed([*image.ports]))
    if image.environment:
        yield from fact(
            ink, "Environment", f"{listed([*image.environment])} (values are not shown)"
        )


def _newest(found: Survey) -> list[str]:
    if found.newest_change is None or found.age_days is None:
        return ["not on record"]
    ago = "today" if found.age_days == 0 else f"{count_words(found.age_days, 'day')} ago"
    return [f"{minute(found.newest_change)}, {ago}: {found.newest_package}"]


def _health(found: Survey) -> Piece:
    if not found.troubled_packages:
        return Piece("every package is in working order, by its own record", Style.GOOD)
    number = count_words(len(found.troubled_packages), "package is", "packages are")
    return Piece(f"{number} not in working order: {', '.join(found.troubled_packages)}", Style.BAD)


def _weight(weight: Weight, most: int) -> list[str | Piece]:
    size = weight.installed_size or 0
    bar = "▇" * max(1, round(_BAR * size / most)) if size else ""
    return [
        Piece(weight.name, Style.NAME),
        weight.version,
        weight.architecture,
        size_words(size),
        Piece(bar, Style.NAME),
    ]
