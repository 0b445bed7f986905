"""Which packages match some words, installed or available, the best first."""

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from enum import IntEnum
from typing import TYPE_CHECKING

from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.model.package import Package
from filigree.questions.asking.scopes import Lookup, Scope, looking
from filigree.questions.asking.searching import Match, Search
from filigree.questions.asking.subjects import close_names
from filigree.questions.offers.catalogue import Catalogue
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System

if TYPE_CHECKING:
    from filigree.access.tables import KeptOffer


class FoundIn(IntEnum):
    """Where a word was found, the best first."""

    EXACT_NAME = 0
    START_OF_NAME = 1
    NAME = 2
    PROVIDED = 3
    SUMMARY = 4
    DESCRIPTION = 5

    @property
    def words(self) -> str:
        return _WORDS[self]


_WORDS = {
    FoundIn.EXACT_NAME: "name", FoundIn.START_OF_NAME: "start of the name",
    FoundIn.NAME: "part of the name",
    FoundIn.PROVIDED: "a name that it provides", FoundIn.SUMMARY: "summary",
    FoundIn.DESCRIPTION: "description",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Find:
    """One word, where it was found, and the text: of a description the line that it is in.

    `start` and `length` are where in that text, in characters.
    """

    word: str
    place: str
    text: str
    start: int
    length: int


@dataclass(frozen=True, slots=True)
class SeekRow:
    """One package that matches. `version` is what is installed, else what would be taken.

    `rank` is where the word was found that was hardest to find: 0 is the exact name, 5 the description.
    """

    name: str
    version: str
    architecture: str
    installed: bool
    summary: str | None
    repositories: list[str]
    candidate: str | None
    rank: int
    matched: list[Find]


_FLAGS = re.IGNORECASE | re.MULTILINE
Word = tuple[str, Callable[[str], Match | None]]


class _Texts:
    """What one package has to say, by place."""

    def __init__(
        self, package: Package, provided: Iterable[str], summary: str | None, more: str
    ) -> None:
        self.package = package
        self.name = package.name
        self.provided = list(provided)
        self.summary = summary or ""
        self.more = more

    def find(self, word: Word, names_only: bool) -> tuple[FoundIn, Find] | None:
        """The best place where a word is found."""
        text, search = word
        match = search(self.name)
        if match:
            place = FoundIn.NAME
            if match.start() == 0:
                whole = match.end() == len(self.name)
                place = FoundIn.EXACT_NAME if whole else FoundIn.START_OF_NAME
            return place, _found(text, place, self.name, match)
        for name in self.provided:
            match = search(name)
            if match:
                return FoundIn.PROVIDED, _found(text, FoundIn.PROVIDED, name, match)
        if names_only:
            return None
        match = search(self.summary)
        if match:
            return FoundIn.SUMMARY, _found(text, FoundIn.SUMMARY, self.summary, match)
        for line in self.more.split("\n"):
            match = search(line)
            if match:
                return FoundIn.DESCRIPTION, _found(text, FoundIn.DESCRIPTION, line, match)
        return None


def _found(word: str, place: FoundIn, text: str, match: Match) -> Find:
    lead = len(text) - len(text.lstrip())
    return Find(
        word, place.words, text.strip(), max(0, match.start() - lead), match.end() - match.start()
    )


@dataclass(frozen=True, slots=True)
class SeekSummary:
    """How many packages have every word, of which so many are `shown`, so many installed."""

    count: int
    shown: int
    installed: int
    words: list[str]
    scope: Scope


def seek(
    system: System,
    words: Sequence[str],
    names_only: bool = False,
    regex: bool = False,
    installed: bool = False,
    limit: int | None = None,
    options: RepositoryOptions = EVERYTHING,
) -> Answer[SeekRow, SeekSummary]:
    """The packages in which every word is found: in the name, a provided name, the summary, or the text.

    Case does not count. With `regex` the words are regular expressions; with `installed` only what is
    installed is looked at. Bad news where nothing matches; the notes then have names that are close.
    Raises BadQuestion where a word is empty, or is no expression.
    """
    search = Search(insensitive=True)
    sought = _compiled(words, regex, search)
    scope = Scope.INSTALLED if installed else Scope.ANY
    with looking(system, scope, options) as lookup:
        rows = _rows(system, lookup, sought, names_only, regex)
        notes = lookup.notes
        if search.gap is not None:
            system.report(search.gap)
        if not rows:
            notes.append(_nothing(system, lookup, words, regex))
        there = sum(row.installed for row in rows)
        shown = rows if limit is None else rows[:limit]
        summary = SeekSummary(len(rows), len(shown), there, list(words), scope)
        return Answer(
            "seek", system.system_label, shown, summary, system.gaps, notes, bad_news=bool(notes)
        )


def _compiled(words: Sequence[str], regex: bool, search: Search) -> list[Word]:
    found: list[Word] = []
    for word in words:
        if not word.strip():
            raise BadQuestion("a word is empty", None, "give at least one word to look for")
        plain = re.compile(re.escape(word), _FLAGS).search
        found.append((word, search.compiled(word) if regex else plain))
    return found


def _rows(
    system: System, lookup: Lookup, sought: list[Word], names_only: bool, regex: bool
) -> list[SeekRow]:
    """One row for each name and architecture: the best find counts, of the installed one if there is."""
    ranked: dict[tuple[str, str], tuple[int, SeekRow]] = {}
    versions: dict[tuple[str, str], set[str]] = {}
    for texts in _everything(system, lookup, sought, names_only, regex):
        package = texts.package
        finds = [texts.find(word, names_only) for word in sought]
        whole = [find for find in finds if find is not None]
        if len(whole) < len(finds):
            continue
        key = (package.name, package.architecture)
        here = package.state.present
        versions.setdefault(key, set()).add(package.version)
        if key not in ranked:
            row = SeekRow(
                name=package.name, version=package.version, architecture=package.architecture,
                installed=here, summary=texts.summary or None,
                repositories=[package.repository] if package.repository and not here else [],
                candidate=None,
                rank=max(place for place, _ in whole), matched=[find for _, find in whole],
            )  # fmt: skip
            inside = sum(not _begins_a_word(find) for _, find in whole)
            ranked[key] = inside * len(FoundIn) + sum(place for place, _ in whole), row
        elif (
            package.repository
            and not here
            and package.repository not in ranked[key][1].repositories
        ):
            ranked[key][1].repositories.append(package.repository)
    if lookup.offered is not None:
        several = [key[0] for key, found in versions.items() if len(found) > 1]
        _choose(system, lookup.offered, several, ranked)
    order = sorted(
        ranked.values(), key=lambda one: (one[1].rank, one[0], len(one[1].name), one[1].name)
    )
    return [row for _, row in order]


def _begins_a_word(find: Find) -> bool:
    return find.start == 0 or not find.text[find.start - 1].isalpha()


def _choose(
    system: System,
    offered: Catalogue,
    names: Sequence[str],
    ranked: dict[tuple[str, str], tuple[int, SeekRow]],
) -> None:
    """Where there are several versions, tell the one that would be taken."""
    wanted = set(names)
    present = [p for p in system.packages if p.state.present and p.name in wanted]
    for here, choices in offered.choices(present, offered.called(names)):
        taken = next((choice for choice in choices if choice.taken and choice.offers), None)
        if taken is None:
            continue
        for package in here or [taken.offers[0].package]:
            key = (package.name, package.architecture)
            if key not in ranked:
                continue
            score, row = ranked[key]
            if row.installed:
                newer = None if taken.installed else taken.version
                ranked[key] = score, replace(row, candidate=newer)
            else:
                ranked[key] = score, replace(row, version=taken.version)


def _everything(
    system: System, lookup: Lookup, sought: list[Word], names_only: bool, regex: bool
) -> Iterator[_Texts]:
    """What is installed, then what is offered and may match."""
    for package in system.packages:
        if package.state.present:
            provided = [one.name for one in system.database.capabilities(package)[1:]]
            yield _Texts(package, provided, package.summary, package.description or "")
    offered = lookup.offered
    if offered is None:
        return
    longer = None if names_only else offered.longer_descriptions()
    if longer is None and not regex and all(word.isascii() for word, _ in sought):
        for package, names in offered.holding([word for word, _ in sought]):
            yield _Texts(package, names, package.summary, package.description or "")
        return
    kept: dict[str, str] = {}

    def accepts(offer: "KeptOffer", names: Sequence[str]) -> bool:
        text = offer.description or (longer(offer) if longer else "")
        every = "\n".join((offer.name, *names, offer.summary or "", text))
        if all(search(every) for _, search in sought):
            kept[offer.name] = text
            return True
        return False

    for package, names in offered.accepted_by(accepts):
        yield _Texts(package, names, package.summary, kept[package.name])


def _nothing(system: System, lookup: Lookup, words: Sequence[str], regex: bool) -> str:
    """That nothing was found, and what each misspelt word may have meant."""
    said = " and ".join(words)
    if regex:
        return f"nothing matches {said}"
    names = {package.name for package in system.packages if package.state.present}
    if lookup.offered is not None:
        names |= lookup.offered.names()
    close = [name for word in words for name in close_names(word, names)]
    hint = f"; did you mean {', '.join(close)}?" if close else ""
    return f"nothing matches {said}{hint}"
