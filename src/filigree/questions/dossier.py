"""Everything known of a package."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from filigree.model.answer import Answer
from filigree.model.files import Difference, Verdict
from filigree.model.needs import Need, Relation
from filigree.model.package import Package, Script, VersionParts, Wanted
from filigree.questions.graph import Graph
from filigree.questions.judging import judge
from filigree.questions.needs import Standing, why_without
from filigree.questions.rows import PackageRow, package_facts, short_labels
from filigree.questions.subjects import match_subjects
from filigree.system import System


@dataclass(frozen=True, slots=True)
class NeedOfPackage:
    """One need, whether it is met here, and by what. `status` is None where that is not judged.

    `met_by` are names, as far as they are needed to tell the packages apart; `reason` is why a need
    is met without a package.
    """

    kind: Relation
    requirement: str
    status: Standing | None
    met_by: list[str]
    reason: str | None


@dataclass(frozen=True, slots=True)
class ConfigurationFile:
    """A file that an administrator may change, and whether somebody did."""

    path: str
    verdict: Verdict
    differences: list[Difference]


@dataclass(frozen=True, slots=True)
class Dossier(PackageRow):
    """The record of a package, and everything else that is known of it.

    `other_fields` are the record's fields that have no place above; None unless asked for.
    """

    parts: VersionParts
    wanted: Wanted
    damaged: bool
    protected: bool
    source_version: str | None
    paths: int
    needs: list[NeedOfPackage]
    provides: list[str]
    configuration: list[ConfigurationFile]
    scripts: list[Script]
    other_fields: Mapping[str, str] | None


def dossier(system: System, subjects: Iterable[str], full: bool = False) -> Answer[Dossier]:
    """The dossiers of the packages that the subjects point at; `full` adds the other fields."""
    matched = match_subjects(system, subjects)
    graph = Graph(system)
    rows = [_dossier(system, graph, package, full) for package in matched.packages]
    return Answer(
        "dossier",
        system.system_label,
        rows,
        {"packages": len(rows), "silent_on": dict(system.family.silent_on)},
        system.gaps,
        [str(unmatched) for unmatched in matched.unmatched],
        bad_news=bool(matched.unmatched),
    )


def _dossier(system: System, graph: Graph, package: Package, full: bool) -> Dossier:
    database = system.database
    return Dossier(
        **package_facts(package),
        parts=system.family.split_version(package.version),
        wanted=package.wanted,
        damaged=package.damaged,
        protected=package.protected,
        source_version=package.source_version,
        paths=len(database.listing(package)),
        needs=[_need(graph, need, package) for need in database.needs(package)],
        provides=[str(capability) for capability in database.capabilities(package)[1:]],
        configuration=_configuration(system, package),
        scripts=list(database.scripts(package)),
        other_fields=database.other_fields(package) if full else None,
    )


def _need(graph: Graph, need: Need, package: Package) -> NeedOfPackage:
    if not need.kind.positive:
        return NeedOfPackage(need.kind, need.text, None, [], None)
    met, holders = graph.met_by(need, package)
    status = Standing.MET if met else Standing.UNMET
    reason = why_without(need) if met and not holders else None
    return NeedOfPackage(need.kind, need.text, status, short_labels(holders), reason)


def _configuration(system: System, package: Package) -> list[ConfigurationFile]:
    found = []
    for record in system.database.configuration(package):
        judged = judge(system, record)
        found.append(ConfigurationFile(record.location, judged.verdict, list(judged.differences)))
    return found
