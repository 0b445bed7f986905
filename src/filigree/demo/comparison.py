"""The stations side by side: what each answers to the same questions, and what its family cannot say."""

from collections import Counter
from collections.abc import Iterator, Mapping
from pathlib import Path

from filigree.model.files import Evidence, Verdict
from filigree.questions.commands.behind import behind
from filigree.questions.commands.census import Filter, census
from filigree.questions.commands.keys import keys
from filigree.questions.commands.leftover import leftover
from filigree.questions.commands.repos import repos
from filigree.questions.commands.strays import strays
from filigree.questions.commands.survey import survey
from filigree.questions.commands.verify import verify
from filigree.questions.finding.ranks import Rank
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.verifying.verdicts import Manner
from filigree.system import System, open_system
from filigree.views.page import Column, Ink, Piece, Style
from filigree.views.text import listed

Fact = tuple[str, str | Piece]
_UNTOLD = Piece("not on record", Style.WARN)
_LOUD = (Verdict.DOCTORED, Verdict.ALTERED, Verdict.MISSING)


def compared(roots: Mapping[str, Path], options: RepositoryOptions) -> list[list[str | Piece]]:
    """A row a fact, a cell a station; the first row names them."""
    columns = []
    for root in roots.values():
        with open_system(str(root)) as system:
            columns.append(dict(_facts(system, options)))
    names: list[str | Piece] = ["", *(Piece(name, Style.TITLE) for name in roots)]
    return [names, *([fact, *(column[fact] for column in columns)] for fact in columns[0])]


def side_by_side(roots: Mapping[str, Path], options: RepositoryOptions, ink: Ink) -> Iterator[str]:
    """The same as text for a terminal."""
    rows = compared(roots, options)
    columns = [Column("", wrap=True) for _ in rows[0]]
    yield from ink.table(columns, rows)


def _facts(system: System, options: RepositoryOptions) -> Iterator[Fact]:
    """What one station answers, fact by fact."""
    seen = survey(system).records[0]
    reasons = seen.reasons
    yield "family", seen.family
    yield "packages", f"{seen.packages:,}"
    yield "chosen by a person", _UNTOLD if reasons is None else f"{reasons.get('chosen', 0):,}"
    left = leftover(system)
    yield "left over", _UNTOLD if reasons is None else str(left.summary.packages)
    yield "held", str(len(seen.held_packages))
    yield "not in working order", _bad(len(seen.troubled_packages))
    yield "paths on record", f"{seen.paths:,}"
    yield "", ""
    yield from _files(system, options)
    odd = [
        row for row in strays(system).records if row.cause is None and row.rank is not Rank.OTHER
    ]
    yield "programs of nobody's", _bad(len(odd))
    yield from _offers(system, options)
    yield "keys trusted for everything", str(sum(row.everything for row in keys(system).records))


def _files(system: System, options: RepositoryOptions) -> Iterator[Fact]:
    whole = verify(system, options=options)
    told = [name.replace("-", " ") for name in whole.summary.compared if name != "presence"]
    yield "told of each file", listed(told)
    yield "wrong by the local record", _verdicts(whole.summary.verdicts)
    nothing = whole.summary.verdicts.get(Verdict.UNRECORDED, 0)
    yield "files without a digest there", Piece(str(nothing), Style.WARN if nothing else Style.GOOD)
    manner = Manner(least=Evidence.SIGNED)
    signed = verify(system, manner=manner, options=options)
    judged = signed.summary.paths
    yield "wrong by what traces to a key", _verdicts(signed.summary.verdicts)
    yield "paths that this tells of", f"{judged:,}"


def _offers(system: System, options: RepositoryOptions) -> Iterator[Fact]:
    yield " ", ""
    indexes = repos(system, options=options).records
    yield "packages offered", f"{sum(row.packages or 0 for row in indexes):,}"
    signatures = Counter(row.signature.value for row in indexes if row.signature is not None)
    yield (
        "signatures of the indexes",
        ", ".join(f"{n} {signature}" for signature, n in signatures.items()) or "none",
    )
    late = behind(system, options=options)
    yield "behind", str(late.summary.behind + late.summary.replaced)
    security = late.summary.security
    silent = Piece("nothing tells", Style.WARN)
    yield "missing for security", silent if security is None else _bad(security)
    different = late.summary.different
    yield "other versions, order unknown", str(different)
    yield (
        "offered by nobody",
        str(len(census(system, Filter(outsiders=True), options=options).records)),
    )


def _verdicts(counts: Mapping[Verdict, int]) -> Piece:
    loud = [f"{counts[one]} {one.value}" for one in _LOUD if counts.get(one)]
    return Piece(", ".join(loud) or "nothing wrong", Style.BAD if loud else Style.GOOD)


def _bad(count: int) -> Piece:
    return Piece(str(count), Style.BAD if count else Style.GOOD)
