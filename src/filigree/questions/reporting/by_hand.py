"""What somebody needs who checks the verdicts of findings again, with programs of his own."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from itertools import islice
from typing import NamedTuple

from filigree.model.errors import AccessError
from filigree.model.files import Evidence
from filigree.model.findings import Finding
from filigree.questions.rules.observed import Observed
from filigree.questions.verifying.verdicts import FileVerdict
from filigree.system import System

MOST = 12
"""So many paths of one finding are told with what it takes to check them."""


class JudgedPath(NamedTuple):
    """A path of a finding: the verdict, where it lies below the root, and the file below the root that
    tells what was expected, None where that is no file of the root.

    Where it lies is told without the links that lead there: a link of a hostile root leads a person's own
    programs out of it.
    """

    verdict: FileVerdict
    lies_at: str
    recorded_in: str | None


@dataclass(frozen=True, slots=True)
class ByHand:
    """What it takes to check findings again: the paths that each is made of, and the directory that a
    person finds the root in; None where that is none (an image, a snapshot)."""

    directory: str | None = None
    paths: Mapping[str, list[JudgedPath]] = field(default_factory=dict)


def by_hand(findings: Iterable[Finding], seen: Observed) -> ByHand:
    """The verdicts on the first paths of each finding, with where they can be checked again."""
    system = seen.system
    wanted = {path for one in findings for path in islice(one.paths, MOST)}
    found: dict[str, list[JudgedPath]] = {}
    if seen.tally is not None:
        for row in seen.verdicts:
            if row.path in wanted:
                found.setdefault(row.path, []).append(_judged(row, seen))
    plain = system.tree.layered is None and system.tree.taken is None
    return ByHand(system.root if plain else None, found)


def _judged(row: FileVerdict, seen: Observed) -> JudgedPath:
    return JudgedPath(row, _lies_at(seen.system, row.path), _recorded_in(row, seen))


def _lies_at(system: System, path: str) -> str:
    try:
        return system.tree.real_path(path, follow=False)
    except AccessError:
        return path


def _recorded_in(row: FileVerdict, seen: Observed) -> str | None:
    if row.evidence is not Evidence.RECORD:
        return None
    package = seen.package_of(row)
    return row.policy_file or (None if package is None else seen.system.database.place_of(package))
