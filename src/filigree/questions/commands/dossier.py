"""Everything known of a package."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from filigree.families.protocol import Archive
from filigree.model.answer import Answer, iso
from filigree.model.archives import ArchiveFacts
from filigree.model.events import Event
from filigree.model.files import Difference, Verdict
from filigree.model.needs import Need, Relation
from filigree.model.package import Package, Script, State, VersionParts, Wanted
from filigree.model.repositories import Change
from filigree.questions.asking.naming import misnamed, user_called
from filigree.questions.asking.package_rows import PackageRow, package_facts, short_labels
from filigree.questions.asking.scopes import Lookup, Scope, looking
from filigree.questions.asking.silence import WHY_INSTALLED, report_silence
from filigree.questions.asking.subjects import match_subjects
from filigree.questions.dependencies.graph import Graph
from filigree.questions.dependencies.need_status import NeedStatus, unjudged, why_without
from filigree.questions.evidence.trust import Trust
from filigree.questions.finding.layers import files_by_layer, layers_of
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.verifying.judging import judge
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.offers.candidates import ChoiceRow
    from filigree.questions.offers.catalogue import Catalogue


@dataclass(frozen=True, slots=True)
class NeedOfPackage:
    """One need, whether it is met here, and by what. `status` is None where that is not judged.

    `met_by` are names, as far as they are needed to tell the packages apart; `reason` is why a need
    is met without a package.
    """

    kind: Relation
    requirement: str
    status: NeedStatus | None
    met_by: list[str]
    reason: str | None


@dataclass(frozen=True, slots=True)
class ConfigurationFile:
    """A file that an administrator may change, and whether somebody did; None of an archive's. `layers`
    are those of an image that speak of it."""

    path: str
    verdict: Verdict | None
    differences: list[Difference]
    layers: list[int] | None = None


@dataclass(frozen=True, slots=True)
class Standin:
    """An installed package of the same name and architecture; it is `newer`, the `same`,
    `older`, or `another` where nothing tells which is newer."""

    version: str
    order: str


@dataclass(frozen=True, slots=True)
class Dossier(PackageRow):
    """The record of a package, and everything else that is known of it.

    Of an archive: the file itself, in what its name disagrees with what is in it, and what is installed
    here of that name. `silent_on` is what the record does not say, each with the reason.

    Where repositories were asked: `choices` are all versions of that name, the newest first, `changes`
    what an index tells of what changed; `address` is where the archive can be fetched, and `digest` the
    archive's. All of them are None where that was not looked up, or is not told.

    `history` is what the system's own history tells of that name, the newest first.

    `layers` tells of how many of its files each layer of an image has what is there; None where the root
    is no image.

    `other_fields` is the record itself, by its own names; None unless asked for.
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
    archive: ArchiveFacts | None
    misnamed: list[str]
    installed_here: list[Standin]
    choices: list["ChoiceRow"] | None
    changes: list[Change] | None
    address: str | None
    digest: str | None
    silent_on: Mapping[str, str]
    history: list[Event]
    layers: Mapping[int, int] | None


@dataclass(frozen=True, slots=True)
class DossierSummary:
    """How many packages are told, what the family is silent on (a sentence each), whose keys count."""

    packages: int
    silent_on: dict[str, str]
    scope: Scope
    keys_of: str


def dossier(
    system: System,
    subjects: Iterable[str],
    full: bool = False,
    scope: Scope = Scope.INSTALLED,
    options: RepositoryOptions = EVERYTHING,
) -> Answer[Dossier, DossierSummary]:
    """The dossiers of the packages that the subjects point at; `full` adds the record's own fields."""
    with looking(system, scope, options) as lookup:
        matched = match_subjects(system, subjects, lookup)
        graph = Graph(system, lookup)
        if any(package.state.present for package in matched.packages):
            report_silence(system, "reason", WHY_INSTALLED)
        trust = Trust(system, options)
        rows = [
            _dossier(system, graph, package, full, trust, lookup) for package in matched.packages
        ]
        notes = [*lookup.notes, *map(str, matched.unmatched)]
        return Answer(
            "dossier",
            system.system_label,
            rows,
            DossierSummary(len(rows), dict(system.family.silent_on), scope, trust.keys_of),
            system.gaps,
            notes,
            bad_news=bool(notes) or any(row.misnamed for row in rows),
        )


def _dossier(
    system: System, graph: Graph, package: Package, full: bool, trust: Trust, lookup: Lookup
) -> Dossier:
    records = lookup.records(package)
    family = system.family_of(package)
    archive = system.archive_of(package)
    facts = archive.facts if archive else None
    if archive is not None and not graph.judges(package):
        system.report(unjudged(system, package))
    offered = lookup.offered
    told = _offered_facts(system, offered, package) if offered and archive is None else {}
    described = package
    if offered is not None and package.state is State.AVAILABLE:
        described = offered.described(package)
    return Dossier(
        **{
            **package_facts(described),
            "offered_by": told.get("offered_by"),
            **_signed(trust, package, archive),
        },
        parts=family.split_version(package.version),
        wanted=package.wanted,
        damaged=package.damaged,
        protected=package.protected,
        source_version=package.source_version,
        paths=len(records.listing()),
        needs=[_need(graph, need, package) for need in records.needs()],
        provides=[str(capability) for capability in records.capabilities()[1:]],
        configuration=_configuration(lookup, package),
        scripts=list(records.scripts()),
        other_fields=records.fields() if full else None,
        archive=facts,
        misnamed=misnamed(system, package, facts) if facts else [],
        installed_here=_installed_here(system, package) if not package.state.present else [],
        choices=told.get("choices"),
        changes=told.get("changes"),
        address=told.get("address"),
        digest=told.get("digest"),
        silent_on={} if facts else family.silent_on,
        history=_history(system, package),
        layers=files_by_layer(system, records.listing()) if package.state.present else None,
    )


def _history(system: System, package: Package) -> list[Event]:
    """What is told of an installed package's name."""
    if not package.state.present:
        return []
    # Of one moment what was done last comes first.
    history = system.database.history
    told = reversed(list(history.events([package.name]) if history is not None else ()))
    named = (_with_user(system, one) for one in told)
    return sorted(named, key=lambda one: iso(one.at) if one.at else "", reverse=True)


def _with_user(system: System, event: Event) -> Event:
    """An event, who asked for it by name."""
    if event.session is None or event.session.user is None:
        return event
    user = user_called(system, event.session.user)
    return event._replace(session=event.session._replace(user=user))


def _signed(trust: Trust, package: Package, archive: Archive | None) -> dict[str, str | None]:
    """The signature of an archive, or of a record that bears one, and the key that is named by it.

    Of an archive at an address it would take fetching all of it: that is for who asks where it is from.
    """
    if archive is not None:
        remote = archive.facts.path.startswith(("http://", "https://"))
        signature = None if remote else trust.archive_signature(archive)
    else:
        signature = trust.record_signature(package) if package.state.present else None
    if signature is None:
        return {}
    return {
        "signature": signature.verdict.value,
        "key_id": next((signer.fingerprint for signer in signature.signers), None),
    }


def _offered_facts(system: System, offered: "Catalogue", package: Package) -> dict[str, Any]:
    """What repositories tell of a package: of all its versions, and of this very one."""
    from filigree.questions.offers.candidates import choice_row, choices_of

    choices = choices_of(system, offered, package.name, package)
    own = [
        one.package
        for choice in choices
        if choice.version == package.version
        for one in choice.offers
    ]
    found: dict[str, Any] = {
        "choices": [choice_row(choice) for choice in choices],
        "offered_by": list(dict.fromkeys(one.repository for one in own if one.repository)),
    }
    offer = package if package.state is State.AVAILABLE else next(iter(own), None)
    if offer is not None:
        place = offered.place(offer)
        found |= {
            "changes": offered.notices.changes(offer), "address": place.address, "digest": place.digest,
        }  # fmt: skip
    return found


def _installed_here(system: System, package: Package) -> list[Standin]:
    """What is installed of an archive's name and architecture."""
    if package.family != system.family.name:
        return []
    found = []
    for other in system.packages:
        if other.state.present and other.name == package.name:
            if other.architecture != package.architecture:
                continue
            order = system.family.order(other.version, package.version)
            told = "another" if order is None else ("same", "newer", "older")[order]
            found.append(Standin(other.version, told))
    return found


def _need(graph: Graph, need: Need, package: Package) -> NeedOfPackage:
    if not need.kind.positive or not graph.judges(package):
        return NeedOfPackage(need.kind, need.text, None, [], None)
    met, holders = graph.met_by(need, package)
    fetched = met and any(h.state is State.AVAILABLE and h is not package for h in holders)
    status = NeedStatus.AVAILABLE if fetched else NeedStatus.MET if met else NeedStatus.UNMET
    reason = why_without(need) if met and not holders else None
    return NeedOfPackage(need.kind, need.text, status, short_labels(holders), reason)


def _configuration(lookup: Lookup, package: Package) -> list[ConfigurationFile]:
    found = []
    for record in lookup.records(package).configuration():
        if package.state is State.ARCHIVE:
            found.append(ConfigurationFile(record.path, None, []))
            continue
        judged = judge(lookup.system, record)
        found.append(ConfigurationFile(
            record.location, judged.verdict, list(judged.differences),
            layers_of(lookup.system, record.location),
        ))  # fmt: skip
    return found
