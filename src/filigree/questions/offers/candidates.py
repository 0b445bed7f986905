"""Which of what is offered a system would take."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from filigree.model.choices import Choice
from filigree.model.package import Package
from filigree.questions.offers.catalogue import Catalogue
from filigree.system import System


@dataclass(frozen=True, slots=True)
class ChoiceRow:
    """One version that is there or could be, and what the system's rules say of it.

    `priority` is by the family's own scale, `why` where it comes from; `taken` is whether the rules
    choose it, `verdict` why or why not.
    """

    version: str
    architecture: str
    installed: bool
    repositories: list[str]
    priority: int | None
    why: str
    taken: bool
    verdict: str


def choice_row(choice: Choice) -> ChoiceRow:
    """The record of a choice."""
    return ChoiceRow(
        choice.version, choice.architecture, choice.installed,
        list(dict.fromkeys(one.repository.identity for one in choice.offers)),
        choice.priority, choice.why, choice.taken, choice.verdict,
    )  # fmt: skip


def choices_of(system: System, offered: Catalogue, name: str, kin: Package) -> list[Choice]:
    """Every version of a name for the kind of machine of one of its packages, the newest first."""
    present = system.present([name])
    for here, choices in offered.choices(present, offered.called([name])):
        packages = [*here, *(one.package for choice in choices for one in choice.offers)]
        if any(package is kin for package in packages):
            return choices
    return []


def candidates(
    system: System, offered: Catalogue, packages: Iterable[Package], every_machine: bool = False
) -> list[Package]:
    """Of each name the package that would be taken, or the newest one where none would.

    Only for the system's own kind of machine where there is any, unless asked for `every_machine`.
    """
    found: dict[str, list[Package]] = {}
    every = list(packages)
    present = system.present(dict.fromkeys(package.name for package in every))
    for _, choices in offered.choices(present, every):
        there = [choice for choice in choices if choice.offers]
        if there:
            best = next((choice for choice in there if choice.taken), there[0])
            package = best.offers[0].package
            found.setdefault(package.name, []).append(package)
    native = system.database.architecture
    return [
        package
        for several in found.values()
        for package in (several if every_machine else _native(several, native, offered))
    ]


def _native(
    packages: Sequence[Package], native: str | None, offered: Catalogue
) -> Sequence[Package]:
    ours = [package for package in packages if offered.kind_of_machine(package) == native]
    return ours or packages
