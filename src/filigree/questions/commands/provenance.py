"""The chain from a file to a key, link by link: what was compared, and where it breaks or never was.

    file -> record -> archive -> index entry -> index -> signed index -> key -> keyring file

A record or an archive that bears a signature of its own has a shorter way: signature -> key -> keyring
file. Both are told where both are there. Each link holds, is broken, or is absent; what is behind a
link that does not hold is told all the same, for it says what the thing should have been.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import NamedTuple

from filigree.families.protocol import Archive
from filigree.model.answer import Answer
from filigree.model.errors import AccessError, DatabaseError
from filigree.model.files import Difference, Evidence, FileRecord, Sort, Verdict
from filigree.model.package import Package
from filigree.model.signatures import Signatures, SignatureVerdict, Signer
from filigree.questions.asking.silence import report_silence
from filigree.questions.asking.subjects import is_path, match_subjects
from filigree.questions.evidence.expected import Expected, Expecting
from filigree.questions.evidence.references import NOTHING, Against, References
from filigree.questions.evidence.vouching import Promise, Vouched, Vouching
from filigree.questions.finding.ownership import OwnerSearch, absolute
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.verifying.judging import Judged, judge
from filigree.system import System


class Holds(StrEnum):
    """What is to be said of a link."""

    YES = "holds"
    BROKEN = "broken"
    ABSENT = "absent"


class ChainLink(NamedTuple):
    """One link of the chain: what it joins, whether it holds, and what was compared, for people."""

    link: str
    verdict: Holds
    detail: str


@dataclass(frozen=True, slots=True)
class Provenance:
    """The chain of one file, package or archive.

    `evidence` is what the answer rests on. `whole` is whether the chain reaches a key without a break;
    `breaks_at` is the first link that does not hold, None where none breaks. `signature` is an
    archive's own.
    """

    subject: str
    package: str
    version: str
    architecture: str
    evidence: Evidence
    links: list[ChainLink]
    signature: SignatureVerdict | None
    whole: bool
    breaks_at: str | None
    archive: str | None


@dataclass(frozen=True, slots=True)
class ProvenanceSummary:
    """How many subjects trace to a key, how many chains are broken, and by whose keys."""

    subjects: int
    whole: int
    broken: int
    fetched: int
    keys_of: str
    asked_at: datetime


def provenance(
    system: System,
    subjects: Iterable[str],
    against: Against = NOTHING,
    options: RepositoryOptions = EVERYTHING,
) -> Answer[Provenance, ProvenanceSummary]:
    """The chain from a key to each subject: an installed package, a path of one, or an archive.

    Archives are looked for in the system's own cache, among those that were fetched before, and where
    `against` says. Bad news where a link is broken; a chain that never reached a key is none.
    """
    asked = list(subjects)
    matched = match_subjects(system, asked)
    notes = list(map(str, matched.unmatched))
    here = [one for one in matched.packages if system.archive_of(one) is None]
    paths = _paths_of(system, asked)
    vouching = Vouching(system, options)
    try:
        anywhere = Against(
            against.paths, True, against.repositories, True, against.fetch, against.announce
        )
        references = References(system, here, anywhere, options, vouching)
        expecting = Expecting(system, vouching, references)
        rows: list[Provenance] = []
        for package in matched.packages:
            archive = system.archive_of(package)
            if archive is not None:
                rows.append(_of_archive(package, archive, vouching))
                continue
            asked_for: Sequence[str | None] = paths.get(package) or [None]
            for path in asked_for:
                rows.append(_of_installed(system, package, path, expecting, references))
    finally:
        vouching.close()
    return Answer(
        "provenance", system.system_label, rows, _summary(rows, vouching, references), system.gaps,
        [*notes, *vouching.notes],
        bad_news=bool(notes) or any(row.breaks_at is not None for row in rows),
    )  # fmt: skip


def _paths_of(system: System, subjects: Iterable[str]) -> dict[Package, list[str]]:
    """The paths that were asked for, by the package that owns each."""
    found: dict[Package, list[str]] = {}
    for subject in subjects:
        if is_path(subject):
            for one in OwnerSearch(system).find(subject):
                for owner in one.owners:
                    found.setdefault(owner.package, []).append(absolute(system, one.path))
    return found


# -- installed ------------------------------------------------------------------------------


def _of_installed(
    system: System, package: Package, path: str | None, expecting: Expecting, references: References
) -> Provenance:
    expected = expecting.of(package)
    untold = "content" in system.family.silent_on
    if expected.archive is None and untold:
        report_silence(system, "content", f"what the files of {package.name} hold")
    records = _records(system, expected.records, path)
    by_record = expected.archive is None
    if not untold and expected.changed.keys() & {record.path for record in records}:
        # The chain breaks where the record is not what the archive says: the file may be as recorded.
        records = _records(system, system.database.files(package), path)
        by_record = True
    found = [(record, judge(system, record, read_all=True, whose=package)) for record in records]
    links = [_disk_link(system, found, path, by_record), *_record_links(system, expected)]
    if expected.archive is not None and expected.vouched is not None:
        names = {record.path for record in records} if path is not None else None
        links.append(_archive_link(expected, names, len(records)))
        links += _vouched_links(expected.vouched, expected.archive)
    else:
        links.append(ChainLink("archive", Holds.ABSENT, references.lack(package)))
        links += _promise_links(references.promises.get(package, ()))
    # What only the system's own policy speaks for reaches no key, whatever stands behind the package.
    own = [judged.policy for _, judged in found if judged.policy is not None]
    own = own if path is not None else [one for one in own if one.sort is not Sort.LINK]
    evidence = Evidence.RECORD if own else expected.evidence
    return _row(path or package.label, package, evidence, links, None, expected.archive)


def _records(system: System, every: Sequence[FileRecord], path: str | None) -> Sequence[FileRecord]:
    if path is None:
        return every
    real = system.real(path)
    return [
        one for one in every
        if path in (one.path, one.location) or real in (system.real(one.path), system.real(one.location))
    ]  # fmt: skip


def _disk_link(
    system: System, found: Sequence[tuple[FileRecord, Judged]], path: str | None, by_record: bool
) -> ChainLink:
    """What is on the disk, against the archive, or against the local record where that is all."""
    if not found:
        return ChainLink("file", Holds.ABSENT, "it is not on record")
    if path is not None:
        record, judged = found[0]
        told = "; ".join(_difference(one) for one in judged.differences) or judged.reason
        match judged.verdict:
            case Verdict.INTACT:
                what = record.digest or record.link_target or record.kind or "its place"
                told = "as recorded" if by_record else "as it was shipped"
                return ChainLink("file", Holds.YES, f"it is {told}: {what}")
            case Verdict.UNRECORDED:
                return ChainLink("file", Holds.ABSENT, "its content is not on record")
            case Verdict.EXCUSED | Verdict.UNREADABLE:
                return ChainLink("file", Holds.ABSENT, told or judged.verdict.value)
        return ChainLink("file", Holds.BROKEN, f"{judged.verdict.value}: {told}")
    counts = Counter(judged.verdict for _, judged in found)
    words = ", ".join(f"{counts[one]:,} {one.value}" for one in Verdict if counts[one])
    words += ", by the local record" if by_record else ", by the archive"
    own = Counter(judged.policy.sort for _, judged in found if judged.policy is not None)
    if own:
        told = ", ".join(f"{count:,} by {sort.value}" for sort, count in own.items())
        words += f"; of them only the system's own policy speaks for {told}"
    if any(one.alarming for one in counts):
        return ChainLink("files", Holds.BROKEN, words)
    if own.keys() - {Sort.LINK}:
        return ChainLink("files", Holds.ABSENT, words)
    # Where a family records no content nothing was compared that would tell another file.
    untold = counts[Verdict.UNRECORDED] and "content" in system.family.silent_on
    return ChainLink("files", Holds.ABSENT if untold else Holds.YES, words)


def _difference(one: Difference) -> str:
    return (
        f"{one.aspect.value.replace('-', ' ')} is {one.found or 'none'}, recorded is {one.expected}"
    )


def _record_links(system: System, expected: Expected) -> Iterator[ChainLink]:
    """The record, by the signature that is kept with it."""
    if expected.signature is None:
        why = system.family.silent_on.get(
            "record_signature", "this family's records bear no signature"
        )
        yield ChainLink("record", Holds.ABSENT, why)
        return
    yield from _signature_links("record", expected.signature)


def _archive_link(expected: Expected, names: set[str] | None, count: int) -> ChainLink:
    """The record, against the archive."""
    changed = {
        path: told for path, told in expected.changed.items() if names is None or path in names
    }
    if not changed:
        files = "it" if names is not None else f"each of {count:,} paths"
        return ChainLink(
            "archive", Holds.YES, f"the record says of {files} what {expected.archive} holds"
        )
    path, told = next(iter(changed.items()))
    more = f" (and {len(changed) - 1:,} more)" if len(changed) > 1 else ""
    says = "; ".join(f"the record says {one.found}, the archive {one.expected}" for one in told)
    words = f"the local record of {path} was changed{more}: {says}"
    return ChainLink("archive", Holds.BROKEN, words)


# -- archives -------------------------------------------------------------------------------


def _of_archive(package: Package, archive: Archive, vouching: Vouching) -> Provenance:
    path = archive.facts.path
    promises = vouching.promises([package]).get(package, [])
    try:
        checks = list(archive.checks())
        vouched = vouching.weigh(archive, promises, below=False, given=True)
    except (AccessError, DatabaseError) as error:
        links = [ChainLink("archive", Holds.BROKEN, f"it cannot be read to its end: {error.what}")]
        return _row(path, package, Evidence.RECORD, links, None, path)
    wrong = [check for check in checks if not check.holds]
    links = []
    if wrong:
        told = "; ".join(f"{one.what}: {one.expected}, found {one.found}" for one in wrong)
        links.append(ChainLink("archive", Holds.BROKEN, told))
    elif checks:
        told = ", ".join(dict.fromkeys(one.what.partition(",")[0] for one in checks))
        links.append(ChainLink("archive", Holds.YES, f"it is what it says of itself: {told}"))
    else:
        links.append(ChainLink("archive", Holds.ABSENT, "it carries no digest of itself"))
    links += _vouched_links(vouched, path)
    if not promises:
        links.append(
            ChainLink("index entry", Holds.ABSENT, "no index that may be believed offers it")
        )
    return _row(path, package, vouched.evidence, links, vouched.signature.verdict, path)


def _vouched_links(vouched: Vouched, path: str) -> Iterator[ChainLink]:
    """From an archive to the keys: by its own signature, and by the index that tells its digest."""
    yield from _signature_links("signature of the archive", vouched.signature)
    if vouched.broken is not None:
        told = (
            f"{vouched.broken.place.promised} is what it should have, and {vouched.digest} it has"
        )
        # What bears a good signature itself needs no index; that this one tells of another is told.
        good = vouched.signature.verdict is SignatureVerdict.GOOD
        yield ChainLink("index entry", Holds.ABSENT if good else Holds.BROKEN, told)
        yield from _index_links(vouched.broken)
    elif vouched.promise is not None:
        yield ChainLink(
            "index entry", Holds.YES, f"{vouched.promise.place.promised}, as {path} has it"
        )
        yield from _index_links(vouched.promise)


def _promise_links(promises: Sequence[Promise]) -> Iterator[ChainLink]:
    """What indexes tell of an archive that is not at hand."""
    if not promises:
        yield ChainLink(
            "index entry", Holds.ABSENT, "no index that may be believed offers this version"
        )
        return
    promise = promises[0]
    words = f"{promise.place.promised or 'no digest'} is what the archive should have"
    yield ChainLink("index entry", Holds.ABSENT, words)
    yield from _index_links(promise)


def _index_links(promise: Promise) -> Iterator[ChainLink]:
    copy = promise.repository.copy
    listed = copy.listed if copy is not None else None
    if copy is None or listed is None:
        yield ChainLink("index", Holds.ABSENT, "there is no copy of it")
        return
    if copy.matches is True:
        yield ChainLink(
            "index", Holds.YES, f"{listed.path} is what the signed file says: {listed.digest}"
        )
    else:
        why = "; ".join(copy.remarks) or "nothing tells its digest"
        yield ChainLink("index", Holds.BROKEN if copy.matches is False else Holds.ABSENT, why)
    yield from _signature_links("signed index", promise.signature, promise.repository.identity)


# -- signatures ----------------------------------------------------------------------------------


def _signature_links(
    link: str, signature: Signatures, of: str | None = None
) -> Iterator[ChainLink]:
    """A signature; where it is good the key behind it, and the file that holds the key."""
    what = f"{of}: " if of else ""
    good = next((one for one in signature.signers if one.verdict is SignatureVerdict.GOOD), None)
    if signature.verdict is SignatureVerdict.GOOD and good is not None:
        when = f" on {good.made_at:%Y-%m-%d}" if good.made_at else ""
        yield ChainLink(link, Holds.YES, f"{what}good, signed{when}")
        yield from _key_links(good)
        return
    broken = signature.verdict in (SignatureVerdict.BAD,)
    reason = (
        f": {signature.reason}"
        if signature.reason and signature.verdict is not SignatureVerdict.NONE
        else ""
    )
    words = (
        "it is not signed"
        if signature.verdict is SignatureVerdict.NONE
        else f"{signature.verdict.value}{reason}"
    )
    yield ChainLink(link, Holds.BROKEN if broken else Holds.ABSENT, f"{what}{words}")


def _key_links(signer: Signer) -> Iterator[ChainLink]:
    yield ChainLink(
        "key", Holds.YES, f"{signer.fingerprint}, {signer.identity or 'of nobody known'}"
    )
    if signer.key_file:
        yield ChainLink("keyring file", Holds.YES, signer.key_file)


# -- all together ---------------------------------------------------------------------------


def _row(
    subject: str, package: Package, evidence: Evidence, links: list[ChainLink],
    signature: SignatureVerdict | None, archive: str | None,
) -> Provenance:  # fmt: skip
    broken = next((one for one in links if one.verdict is Holds.BROKEN), None)
    return Provenance(
        subject=subject, package=package.name, version=package.version,
        architecture=package.architecture, evidence=evidence, links=links, signature=signature,
        whole=evidence is Evidence.SIGNED and broken is None,
        breaks_at=f"{broken.link}: {broken.detail}" if broken else None, archive=archive,
    )  # fmt: skip


def _summary(
    rows: Sequence[Provenance], vouching: Vouching, references: References
) -> ProvenanceSummary:
    return ProvenanceSummary(
        subjects=len(rows),
        whole=sum(row.whole for row in rows),
        broken=sum(row.breaks_at is not None for row in rows),
        fetched=references.fetched,
        keys_of=vouching.trust.keys_of,
        asked_at=vouching.trust.now,
    )
