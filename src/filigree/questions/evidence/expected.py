"""What the files of an installed package are to be: by its record, or by an archive that is at hand.

Rules, before the code that keeps them:

- An archive tells what was shipped: what is configuration, too. What the system's own policy declares of
  a path (where it is, whose it is, that it may be absent) is applied to that, and kept apart from it.
- Where the record does not say what the archive says, the record was changed: that is told of the file,
  whatever lies on the disk. What an administrator declared is no such difference.
- A file whose place another package's takes by the rules of the family is not this package's any more:
  that is the records' word, and told as that.
- How far an installation has come by the record excuses what is absent, and nothing that is there.
- A record whose own signature is good goes before an archive that no key stands behind: where the two
  differ, the archive is not believed.
"""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from filigree.model.answer import Gap
from filigree.model.errors import AccessError, DatabaseError
from filigree.model.files import Aspect, Difference, Evidence, FileRecord, LocalPolicy, Sort
from filigree.model.package import Package, State
from filigree.model.signatures import Signatures, SignatureVerdict
from filigree.questions.evidence.references import FoundArchive, References
from filigree.questions.evidence.vouching import Vouched, Vouching, same_package
from filigree.system import System

RANK = {Evidence.RECORD: 0, Evidence.ARCHIVE: 1, Evidence.SIGNED: 2}
_SAME = {".": "/", "/.": "/"}
_STATE_WORDS = {
    State.CONFIGURATION_LEFT: "by the record the package was removed, but for its configuration",
    State.HALF_INSTALLED: "by the record its installation was begun, and not ended",
    State.NOT_INSTALLED: "by the record the package is not installed",
}
_NOT_SET_UP = "by the record the package is unpacked, and its configuration not put in place"


class Expected(NamedTuple):
    """What the files of one package are held against.

    `changed` are differences between record and archive, by path; `signature` is the record's own, None
    where the family keeps none. `archive` is where the archive lies, None where the record alone
    counts. `reason` says what the evidence rests on, for people; `aspects` are what was told of each
    file.
    """

    records: Sequence[FileRecord]
    evidence: Evidence
    changed: Mapping[str, tuple[Difference, ...]]
    signature: Signatures | None
    archive: str | None
    reason: str
    aspects: frozenset[Aspect] = frozenset()
    vouched: Vouched | None = None


class Expecting:
    """Finds what packages are to be. Inherited by every worker: nothing of it is kept open."""

    def __init__(
        self, system: System, vouching: Vouching | None = None, references: References | None = None
    ) -> None:
        self._system = system
        self._vouching = vouching
        self._references = references

        # Whose keys count is settled before anybody shares the work.
        self.fetched = references.fetched if references is not None else 0
        if vouching is not None:
            _ = vouching.trust.keys, vouching.trust.held

    def of(self, package: Package) -> Expected:
        """What the files of a package are held against, on the best evidence that is at hand."""
        records = self._system.database.files(package)
        signature = self._vouching.trust.record_signature(package) if self._vouching else None
        by_record = _by_record(records, signature)._replace(aspects=self._system.database.aspects)
        if self._references is None or self._vouching is None:
            return by_record
        best: Expected | None = None
        for found in self._references.of(package):
            one = self._by_archive(package, records, found)
            if one is not None and (best is None or RANK[one.evidence] > RANK[best.evidence]):
                best = one
            if best is not None and best.evidence is Evidence.SIGNED:
                break
        if best is None:
            lack = self._references.lack(package)
            return by_record._replace(reason=f"{by_record.reason}; {lack}")
        if RANK[best.evidence] < RANK[by_record.evidence]:
            if best.changed and best.archive is not None:
                why = (
                    "it does not say what the record says, whose own signature is good: that counts"
                )
                self._system.report(Gap(best.archive, why))
            return by_record
        if best.evidence is not Evidence.SIGNED:
            best = best._replace(reason=f"{by_record.reason}; {best.reason}")
        return best._replace(signature=signature)

    def _by_archive(
        self, package: Package, records: Sequence[FileRecord], found: FoundArchive
    ) -> Expected | None:
        assert self._vouching is not None
        assert self._references is not None
        promises = self._references.promises.get(package, ())
        try:
            with self._system.looking_into(found.path, found.below) as archive:
                if not same_package(self._system, package, archive.package):
                    why = f"it is not of {package.label}, but of {archive.package.label}"
                    self._system.report(Gap(found.path, why))
                    return None
                vouched = self._vouching.weigh(archive, promises, found.below, found.given)
                if not vouched.usable:
                    self._system.report(Gap(found.path, f"not held against it: {vouched.reason}"))
                    return None
                shipped = archive.expected()
                told = archive.aspects
                return self._merged(package, records, shipped, told, vouched, found)
        except (AccessError, DatabaseError) as error:
            self._system.report(Gap(found.path, error.what))
            return None

    def _merged(
        self, package: Package, records: Sequence[FileRecord], shipped: Sequence[FileRecord],
        told: frozenset[Aspect], vouched: Vouched, found: FoundArchive,
    ) -> Expected:  # fmt: skip
        """What was shipped, with what is on record of it."""
        known = self._system.database.aspects
        partial = self._partial(package, _STATE_WORDS.get(package.state))
        unset = None
        if package.state is State.UNPACKED:
            unset = self._partial(package, _NOT_SET_UP)
        on_record = {_SAME.get(record.path, record.path): record for record in records}
        merged: list[FileRecord] = []
        changed: dict[str, tuple[Difference, ...]] = {}
        # Of a path that an archive holds twice the last counts, as it does where it is unpacked.
        for path, one in {_SAME.get(one.path, one.path): one for one in shipped}.items():
            record = on_record.pop(path, None)
            if record is None:
                one = one._replace(path=path, location=path)
                taken = self._taken(package, path)
                if taken is not None:
                    merged.append(_vacated(one, taken))
                    continue
                merged.append(_in_state(one, partial or (unset if one.config else None)))
                if path != "/" and partial is None:
                    kind = one.kind.value if one.kind else "something"
                    changed[path] = (Difference(Aspect.RECORD, f"a {kind}", "nothing"),)
                continue
            merged.append(
                _in_state(_with_policy(one, record), partial or (unset if one.config else None))
            )
            differences = tuple(_changed(self._system, record, one, known & told))
            if differences:
                changed[record.path] = differences
        for record in on_record.values():
            policy = partial or self._not_shipped(package, record)
            if policy is not None:
                record = record._replace(policies=(policy, *record.policies), plain=None)
            elif record.path not in _SAME.values():
                kind = record.kind.value if record.kind else "something"
                changed[record.path] = (Difference(Aspect.RECORD, "nothing", f"a {kind}"),)
            merged.append(record)
        return Expected(
            merged, vouched.evidence, changed, None, found.path, vouched.reason, told, vouched
        )

    def _taken(self, package: Package, path: str) -> LocalPolicy | None:
        """What the records say of a path at which another package's file takes this one's place."""
        takes_place = self._system.database.takes_place
        if takes_place is None:
            return None
        for other in self._system.owners_of(path):
            if other is not package and other.state.present and takes_place(other, package):
                where = self._system.database.place_of(other)
                words = f"by the records the file of {other.name} takes its place"
                return LocalPolicy(Sort.REPLACEMENT, where, words)
        return None

    def _partial(self, package: Package, words: str | None) -> LocalPolicy | None:
        """What the record says of a package whose files need not be there; None where they must."""
        if words is None:
            return None
        return LocalPolicy(Sort.STATE, self._system.database.place_of(package), words)

    def _not_shipped(self, package: Package, record: FileRecord) -> LocalPolicy | None:
        """What the record says of a path that was not shipped, where that is no change of the record."""
        if not record.config:
            return None
        where = self._system.database.place_of(package)
        return LocalPolicy(
            Sort.CONFIGURATION, where, "only the record says that it is configuration"
        )


def _in_state(record: FileRecord, partial: LocalPolicy | None) -> FileRecord:
    """What is expected of a path of a package whose files need not be there."""
    if partial is None:
        return record
    return record._replace(
        excuse=record.excuse or partial.words,
        policies=(partial, *record.policies),
        plain=record.plain or record,
    )


def _vacated(record: FileRecord, policy: LocalPolicy) -> FileRecord:
    """What is expected of a path at which another package's file takes this one's place."""
    return record._replace(moot=policy.words, policies=(policy,), plain=record)


def _by_record(records: Sequence[FileRecord], signature: Signatures | None) -> Expected:
    if signature is None:
        return Expected(records, Evidence.RECORD, {}, None, None, "the record is unsigned")
    if signature.verdict is SignatureVerdict.GOOD:
        return Expected(
            records, Evidence.SIGNED, {}, signature, None, "the record's own signature is good"
        )
    why = f"the record's own signature is: {signature.verdict.value}"
    why += f" ({signature.reason})" if signature.reason else ""
    return Expected(records, Evidence.RECORD, {}, signature, None, why)


def _with_policy(shipped: FileRecord, record: FileRecord) -> FileRecord:
    """What was shipped, with what the system's own policy declares of it; a record says nothing else."""
    plain = shipped._replace(path=record.path, location=record.path)
    policies = tuple(one for one in record.policies if one.sort in _APPLIED)
    if not policies:
        return plain
    sorts = {policy.sort for policy in policies}
    overridden = Sort.OVERRIDE in sorts
    return plain._replace(
        location=record.location if Sort.DIVERSION in sorts else plain.location,
        mode=record.mode if overridden else plain.mode,
        owner=record.owner if overridden else plain.owner,
        group=record.group if overridden else plain.group,
        excuse=record.excuse if sorts & {Sort.EXCLUSION, Sort.STATE} else plain.excuse,
        moot=record.moot if Sort.STATE in sorts else None,
        policies=policies,
        plain=plain,
    )


_APPLIED = frozenset({Sort.DIVERSION, Sort.OVERRIDE, Sort.EXCLUSION, Sort.STATE})
"""What is applied to what was shipped; what is configuration the packager says."""
_FIELDS = (
    ("kind", Aspect.KIND), ("digest", Aspect.CONTENT), ("size", Aspect.SIZE), ("mode", Aspect.MODE),
    ("owner", Aspect.OWNER), ("group", Aspect.GROUP), ("link_target", Aspect.LINK_TARGET),
    ("device", Aspect.DEVICE), ("modified", Aspect.MODIFIED), ("capabilities", Aspect.CAPABILITIES),
)  # fmt: skip


def _changed(
    system: System, record: FileRecord, shipped: FileRecord, aspects: frozenset[Aspect]
) -> list[Difference]:
    """In what a record does not say what the archive says, of what both tell."""
    found = []
    for name, aspect in _FIELDS:
        told, is_ = getattr(record, name), getattr(shipped, name)
        if aspect is Aspect.CONTENT and told is not None:
            is_ = _by_the_same(told, shipped)
        if aspect not in aspects or told is None or is_ is None or told == is_:
            continue
        if aspect is Aspect.OWNER and system.users.number(told) == system.users.number(is_):
            continue  # one tells the name, the other the number
        if aspect is Aspect.GROUP and system.groups.number(told) == system.groups.number(is_):
            continue
        if aspect is Aspect.KIND and record.digest is None and record.mode is None:
            continue  # it was not recorded, but guessed from what lies below it
        shown = _octal if aspect is Aspect.MODE else _text
        name = aspect.value.replace("-", " ")
        found.append(Difference(Aspect.RECORD, f"{name} {shown(is_)}", f"{name} {shown(told)}"))
    return found


def _by_the_same(digest: str, shipped: FileRecord) -> str | None:
    """What was shipped, by the algorithm of another digest: two cannot be held against each other."""
    algorithm = digest.partition(":")[0]
    told = (shipped.digest, *shipped.also)
    return next((one for one in told if one and one.partition(":")[0] == algorithm), None)


def _octal(value: int) -> str:
    return f"{value:04o}"


def _text(value: object) -> str:
    return getattr(value, "value", None) or str(value)
