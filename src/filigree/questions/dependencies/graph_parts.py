"""What one index brings to the graph of offers, whatever else is offered: kept by itself, so that one
that is as it was need not be read again.

A part knows its packages, what each asks for and by which terms that is met, and under which names each
answers: all that rules go by, as numbers in arrays and texts that stand there once.
"""

import json
from array import array
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple, Protocol

from filigree.model.needs import Capability, Comparison, Need, Term
from filigree.model.package import Package, State
from filigree.questions.dependencies.offer_graph import NUMBER_OF, SUM, sum_of
from filigree.questions.dependencies.satisfaction import Forbids, Satisfies, meeting_terms

PART_ARRAYS = {
    "offer": "I", "installed_size": "q", "archive_size": "q",
    "need_start": "I", "need_kind": "B", "need_ask": "I",
    "ask_away": "B", "ask_text": "I", "ask_asker": "I",
    "term_start": "I", "term_name": "I", "term_comparison": "B", "term_version": "I",
    "term_architecture": "I",
    "answer_start": "I", "answer": "I", "answer_comparison": "B", "answer_version": "I",
    "marked": "I",
}  # fmt: skip
PART_TEXTS = (
    "name",
    "version",
    "architecture",
    "source",
    "text",
    "term",
    "answered",
    "word",
    "marks",
)
_COMPARISONS = (None, *Comparison)
_CODES = {one: code for code, one in enumerate(_COMPARISONS)}
_NONE = 0
"""The first of a part's words stands for none."""
_NOTHING: Mapping[str, str] = {}


class GraphRules(Satisfies, Forbids, Protocol):
    """By which rules packages go together."""

    @property
    def marks(self) -> frozenset[str]:
        """The fields of a record that they go by."""
        ...


class OfferNode(NamedTuple):
    """One offer, as it goes into the graph: the number of its index, and its own in there."""

    table: int
    offer: int
    package: Package
    needs: Sequence[Need]
    capabilities: Sequence[Capability]


class OfferPart:
    """What one index brings: packages of one family, by their numbers."""

    def __init__(
        self, family: str, columns: "Mapping[str, array[int]]", words: Mapping[str, list[str]]
    ) -> None:
        self.family = family
        self.columns = columns
        self.words = words

    def term(self, at: int) -> Term:
        """One of the terms by which an ask is met."""
        columns, words = self.columns, self.words["word"]
        version, architecture = columns["term_version"][at], columns["term_architecture"][at]
        return Term(
            self.words["term"][columns["term_name"][at]],
            _COMPARISONS[columns["term_comparison"][at]],
            None if version == _NONE else words[version],
            None if architecture == _NONE else words[architecture],
        )

    @cached_property
    def places(self) -> dict[str, int]:
        """The names under which somebody answers, by their places."""
        return {name: at for at, name in enumerate(self.words["answered"])}

    def answering(self, place: int) -> Iterator[tuple[int, Capability]]:
        """Who answers under the name of a place, and by what, in the order of the index."""
        columns, words = self.columns, self.words["word"]
        name = self.words["answered"][place]
        for at in range(columns["answer_start"][place], columns["answer_start"][place + 1]):
            version = columns["answer_version"][at]
            comparison = _COMPARISONS[columns["answer_comparison"][at]]
            assert comparison is not None
            told = None if version == _NONE else words[version]
            yield columns["answer"][at], Capability(name, told, comparison)

    @cached_property
    def _marked(self) -> dict[int, dict[str, str]]:
        told = map(json.loads, self.words["marks"])
        return dict(zip(self.columns["marked"], told, strict=True))

    def holder(self, number: int) -> Package:
        """A package, as far as rules go by it."""
        words = self.words
        return Package(
            words["name"][number], words["version"][number], words["architecture"][number],
            self.family, State.AVAILABLE, fields=self._marked.get(number, _NOTHING),
        )  # fmt: skip

    def packed(self) -> Iterator[tuple[str, bytes]]:
        """All of it as bytes, and a sum over them."""
        return packed(self.columns, self.words)


def read_part(family: str, blobs: Mapping[str, bytes]) -> OfferPart:
    """A part as it was kept."""
    columns = {name: array(form) for name, form in PART_ARRAYS.items()}
    for name, column in columns.items():
        column.frombytes(blobs[name])
    return OfferPart(family, columns, {name: json.loads(blobs[name]) for name in PART_TEXTS})


def part_of(nodes: Iterable[OfferNode], rules: GraphRules) -> OfferPart:
    """What offers of one index bring."""
    making = _PartMaking(rules)
    for one in nodes:
        making.take(one)
    return making.end()


class _PartMaking:
    """A part in the making."""

    def __init__(self, rules: GraphRules) -> None:
        self._rules = rules
        self._family = ""
        self._columns = {name: array(form) for name, form in PART_ARRAYS.items()}
        self._words: dict[str, list[str]] = {name: [] for name in PART_TEXTS}
        self._asks: dict[tuple[int, str, str], int] = {}
        self._texts: dict[str, int] = {}
        self._terms: dict[str, int] = {}
        self._word: dict[str | None, int] = {None: _NONE}
        self._answering: dict[str, list[tuple[int, int, int]]] = {}

    def take(self, one: OfferNode) -> None:
        """Add a package, and what it asks for."""
        package, columns, words = one.package, self._columns, self._words
        number = len(columns["offer"])
        self._family = package.family
        columns["offer"].append(one.offer)
        columns["installed_size"].append(_size(package.installed_size))
        columns["archive_size"].append(_size(package.archive_size))
        words["name"].append(package.name)
        words["version"].append(package.version)
        words["architecture"].append(package.architecture)
        words["source"].append("" if package.source == package.name else package.source or "")
        columns["need_start"].append(len(columns["need_kind"]))
        for need in one.needs:
            if need.granted is None:
                columns["need_kind"].append(NUMBER_OF[need.kind])
                columns["need_ask"].append(self._ask(need, number, package.architecture))
        word = self._word
        for name, version, comparison in map(_parts_of, one.capabilities):
            told = number, _CODES[comparison], word.setdefault(version, len(word))
            self._answering.setdefault(name, []).append(told)
        marks = {name: package.fields[name] for name in self._rules.marks if name in package.fields}
        if marks:
            columns["marked"].append(number)
            words["marks"].append(json.dumps(marks))

    def _ask(self, need: Need, number: int, architecture: str) -> int:
        """Who asks the same for the same architecture is answered together: rules go by that alone."""
        away = 0 if need.kind.positive else NUMBER_OF[need.kind] + 1
        key = (away, need.text, architecture)
        ask = self._asks.get(key)
        if ask is not None:
            return ask
        ask = self._asks[key] = len(self._asks)
        columns, texts, terms, word = self._columns, self._texts, self._terms, self._word
        columns["ask_away"].append(away)
        columns["ask_text"].append(texts.setdefault(need.text, len(texts)))
        columns["ask_asker"].append(number)
        columns["term_start"].append(len(columns["term_name"]))
        condition = need.condition
        for term in (condition,) if isinstance(condition, Term) else meeting_terms(condition):
            columns["term_name"].append(terms.setdefault(term.name, len(terms)))
            columns["term_comparison"].append(_CODES[term.comparison])
            columns["term_version"].append(word.setdefault(term.version, len(word)))
            columns["term_architecture"].append(word.setdefault(term.architecture, len(word)))
        return ask

    def end(self) -> OfferPart:
        """The whole of it."""
        columns, words = self._columns, self._words
        columns["need_start"].append(len(columns["need_kind"]))
        columns["term_start"].append(len(columns["term_name"]))
        words["text"], words["term"] = list(self._texts), list(self._terms)
        words["word"] = ["", *(word for word in self._word if word is not None)]
        words["answered"] = list(self._answering)
        for found in self._answering.values():
            columns["answer_start"].append(len(columns["answer"]))
            for number, comparison, version in found:
                columns["answer"].append(number)
                columns["answer_comparison"].append(comparison)
                columns["answer_version"].append(version)
        columns["answer_start"].append(len(columns["answer"]))
        return OfferPart(self._family, columns, words)


def _parts_of(one: Capability) -> tuple[str, str | None, Comparison]:
    return one.name, one.version, one.comparison


def packed(
    columns: "Mapping[str, array[int]]", words: Mapping[str, list[str]]
) -> Iterator[tuple[str, bytes]]:
    """Columns and texts as named bytes, and a sum over all of them."""
    blobs = {name: values.tobytes() for name, values in columns.items()}
    blobs |= {name: json.dumps(told).encode() for name, told in words.items()}
    yield from blobs.items()
    yield SUM, sum_of(blobs)


def _size(size: int | None) -> int:
    return -1 if size is None else min(size, 2**62)
