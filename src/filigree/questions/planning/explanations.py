"""Reasons in sentences: what is needed and not there, what cannot be together, what stands in the way."""

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from filigree.model.needs import Need, Relation, terms_of
from filigree.model.package import Package, was_chosen
from filigree.questions.dependencies.satisfaction import satisfies
from filigree.questions.dependencies.ties import HARD
from filigree.questions.planning.candidates import ClauseReason, Ground
from filigree.questions.planning.world import Offered, World


class Said(NamedTuple):
    """A reason as a sentence, and the packages and the need that it speaks of."""

    ground: Ground
    sentence: str
    package: str | None
    requirement: str | None
    other: str | None


def say(world: World, reasons: Iterable[ClauseReason], first: Iterable[Package]) -> list[Said]:
    """The reasons as sentences, from the packages that were asked for outwards."""
    asked = list(first)
    told = [r for r in reasons if r.one is not None and r.ground is not Ground.ASKED]
    said = _Words(world, asked).all(list(_outwards(told, asked)))
    return list({one.sentence: one for one in said}.values())


def _outwards(reasons: Sequence[ClauseReason], first: Sequence[Package]) -> Iterator[ClauseReason]:
    """Each reason after one that leads to it."""
    rest = list(reasons)
    known = {package.name for package in first}
    while rest:
        at = next((n for n, one in enumerate(rest) if one.one and one.one.name in known), 0)
        reason = rest.pop(at)
        yield reason
        known |= {p.name for p in (reason.one, reason.other) if p is not None}
        known |= {offer.package.name for offer in reason.found}
        known |= {term.name for term in terms_of(reason.need.condition)} if reason.need else set()


class _Words:
    """Sentences about one world; the packages that were asked for need no further word."""

    def __init__(self, world: World, asked: Sequence[Package]) -> None:
        self._world = world
        self._asked = set(asked)

    def all(self, reasons: Sequence[ClauseReason]) -> Iterator[Said]:
        """Each reason as a sentence; conflicts of one kind in one."""
        clashing: dict[tuple[Package | None, str], list[Package]] = {}
        for reason in reasons:
            if reason.need is not None and reason.other is not None:
                clashing.setdefault((reason.one, reason.need.text), []).append(reason.other)
        for reason in reasons:
            need, others = reason.need, [reason.other] if reason.other else []
            if need is not None and others:
                others = clashing.pop((reason.one, need.text), [])
                if not others:
                    continue
            yield self._said(reason, others)

    def _said(self, reason: ClauseReason, others: Sequence[Package]) -> Said:
        one, need = reason.one, reason.need
        assert one is not None
        if need is not None and reason.ground is Ground.NEED:
            sentence = f"{_called(one)} needs {need.text}{self._who_could(one, need)}"
        elif need is not None:
            sentence = self._clash(one, need, others)
        elif others:
            here, there = [one, *others] if one.state.present else [*others, one]
            sentence = f"{self._standing(here)} and {self._standing(there)} exclude each other: "
            sentence += reason.why
        else:
            sentence = self._stays(one, reason)
        return Said(
            reason.ground, sentence, one.name, need.text if need else None,
            others[0].name if others else None,
        )  # fmt: skip

    def _clash(self, one: Package, need: Need, others: Sequence[Package]) -> str:
        verb = {
            Relation.BREAKS: "breaks", Relation.OBSOLETES: "takes the place of",
        }.get(need.kind, "conflicts with")  # fmt: skip
        sentence = f"{self._standing(one)} {verb} {need.text}"
        if not others:
            return sentence
        plain = need.text.split(" ")[0]
        through = "" if all(p.name == plain for p in others) else ", which has that name too"
        return f"{sentence}: {_list([self._standing(other) for other in others])}{through}"

    def _stays(self, one: Package, reason: ClauseReason) -> str:
        if reason.ground is Ground.HELD:
            return f"{one.name} is held at {one.version}"
        if reason.ground is Ground.PROTECTED:
            return f"{one.name} is protected: it cannot be dropped"
        if reason.ground is Ground.RULES:
            where = f" of {one.repository}" if one.repository else ""
            return f"{_called(one)}{where} is passed over by the system's rules: {reason.why}"
        if one.reason is None:
            return f"{_called(one)} is installed, and is not to be dropped"
        if was_chosen(one):
            why = "chosen by a person"
        else:
            asker = self._who_needs(one)
            why = f"as a dependency of {asker}" if asker else "as a dependency"
        return f"{_called(one)} is installed, {why}, and is not to be dropped"

    def _who_needs(self, package: Package) -> str | None:
        """An installed package that needs another by a name of it: one that was chosen, if any was."""
        names = {capability.name for capability in self._world.capabilities(package)}
        askers = [
            asker
            for asker in self._world.installed()
            if asker is not package
            and any(
                term.name in names
                for need in self._world.needs(asker)
                if need.kind in HARD
                for term in terms_of(need.condition)
            )
        ]
        return min(askers, key=lambda p: (not was_chosen(p), p.name)).name if askers else None

    def _standing(self, package: Package) -> str:
        """A package, and whether it is there or comes."""
        if package in self._asked:
            return _called(package)
        if package.state.present:
            held = " and held" if package.held else ""
            return f"{_called(package)} (installed{held})"
        return f"{_called(package)} ({package.repository or 'the archive'})"

    def _who_could(self, asker: Package, need: Need) -> str:
        """Who meets a need, or comes near to it."""
        world = self._world
        met: list[str] = []
        near: list[str] = []
        passed: list[str] = []
        for term in terms_of(need.condition):
            here = [p for p in world.installed() if _answers(world, p, term.name)]
            for offer in (*(Offered(p) for p in here), *world.offers(term.name)):
                package = offer.package
                fits = term.name.startswith("/") or satisfies(
                    world, term, asker, package, world.capabilities(package)
                )
                if fits and offer.passed_over is not None:
                    passed.append(f"{self._standing(package)}: {offer.passed_over}")
                else:
                    (met if fits else near).append(self._standing(package))
        met, near = list(dict.fromkeys(met)), list(dict.fromkeys(near))
        if passed and not met:
            return f", and the system's rules pass over {_list(passed)}"
        if len(met) == 1:
            return f", which only {met[0]} meets"
        if met:
            return f", which {_list(met)} would meet"
        if near:
            return f", and there is only {_list(near)}"
        return ", and nothing that is here or offered has that"


def _called(package: Package) -> str:
    return f"{package.name} {package.version}"


def _answers(world: World, package: Package, name: str) -> bool:
    if name.startswith("/"):
        return any(owner is package for owner in world.owners(name))
    return any(capability.name == name for capability in world.capabilities(package))


MANY = 4


def _list(words: Sequence[str]) -> str:
    shown = list(words[:MANY])
    if len(words) > MANY:
        shown.append(f"{len(words) - MANY} more")
    return shown[0] if len(shown) == 1 else f"{', '.join(shown[:-1])} and {shown[-1]}"
