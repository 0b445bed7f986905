"""What stands behind an archive: its own signature, and the index whose signed file tells its digest.

Rules, before the code that keeps them:

- An archive that is not what an index tells of that version, or whose signature is bad, vouches for
  nothing.
- A good signature of its own, or a digest that a signed index tells: `signed`.
- A digest that an unsigned index tells, or an archive that the auditor gave: `archive`.
- An archive that lies below the root and that nobody vouches for rests on no more than the record: who
  could change the one could change the other.
"""

from collections.abc import Sequence
from contextlib import ExitStack
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

from filigree.families.protocol import Archive
from filigree.model.files import Evidence
from filigree.model.package import Package
from filigree.model.repositories import Place, Repository
from filigree.model.signatures import Signatures, SignatureVerdict
from filigree.questions.evidence.trust import Trust
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.offers.catalogue import Catalogue


class Promise(NamedTuple):
    """What one index tells of the archive of a package."""

    repository: Repository
    place: Place

    @property
    def signature(self) -> Signatures:
        """The signature of the file that tells the index's digest."""
        copy = self.repository.copy
        return copy.signature if copy is not None else Signatures(SignatureVerdict.NONE)

    @property
    def signed(self) -> bool:
        """Whether its index is what a file says that a key of the right ones has signed."""
        copy = self.repository.copy
        return (
            copy is not None
            and copy.matches is True
            and self.signature.verdict is SignatureVerdict.GOOD
        )

    @property
    def proves(self) -> bool:
        """Whether it is signed, and told by a digest that nobody can make a second archive of."""
        return self.signed and not self.place.is_weak

    @property
    def words(self) -> str:
        """Which index it is, and what stands behind that, for people."""
        who = next(
            (s.identity for s in self.signature.signers if s.verdict is SignatureVerdict.GOOD), None
        )
        if self.signed:
            return f"the index of {self.repository.identity}, signed by {who or 'a trusted key'}"
        verdict = self.signature.verdict.value
        return f"the index of {self.repository.identity}, whose signature is: {verdict}"


class Vouched(NamedTuple):
    """What an archive rests on. `reason` says why, for people; unless `usable` it vouches for nothing.

    `digest` is the archive's, by the algorithm of the promise; `promise` is the one that it keeps, and
    `broken` the one that it does not.
    """

    evidence: Evidence
    signature: Signatures
    usable: bool
    reason: str
    digest: str | None = None
    promise: Promise | None = None
    broken: Promise | None = None


class Vouching:
    """Asks indexes and keys what they say of archives. The indexes are opened when first needed."""

    def __init__(self, system: System, options: RepositoryOptions = EVERYTHING) -> None:
        self._system = system
        self.options = options
        self._open = ExitStack()
        self.trust = Trust(system, options)

    @cached_property
    def _offered(self) -> "Catalogue":
        from filigree.questions.offers.catalogue import open_catalogue
        from filigree.questions.offers.fetched_copies import fetch_added

        if self.options.addresses:
            fetch_added(self._system, self.options)
        # An index that nothing is looked up in need not be complained of.
        quiet = self.options._replace(quiet=True)
        return self._open.enter_context(open_catalogue(self._system, quiet))

    def close(self) -> None:
        """Let go of the indexes."""
        self._open.close()

    @property
    def notes(self) -> list[str]:
        """What is to be said of repositories that were asked for, and are none."""
        return self._offered.notes if "_offered" in self.__dict__ else []

    def promises(self, packages: Sequence[Package]) -> dict[Package, list[Promise]]:
        """What indexes tell of the archives of packages, signed ones first, by the package's id."""
        by_name: dict[str, list[Package]] = {}
        offers = self._offered.called(package.name for package in packages)
        confirmed = self._offered.confirmed(offers)
        for offer in offers:
            if offer in confirmed:
                by_name.setdefault(offer.name, []).append(offer)
        found = {}
        for package in packages:
            told = [
                Promise(self._offered.repository_of(offer), self._offered.place(offer))
                for offer in by_name.get(package.name, ())
                if same_package(self._system, package, offer)
            ]
            found[package] = sorted(told, key=lambda promise: not promise.signed)
        return found

    def weigh(
        self, archive: Archive, promises: Sequence[Promise], below: bool, given: bool
    ) -> Vouched:
        """What an archive rests on. `below` is whether it lies below the root, `given` by the auditor."""
        told = [one for one in promises if one.place.promised is not None]
        digests = {
            name: archive.digest(name)
            for name in {(one.place.promised or "").partition(":")[0] for one in told}
        }
        kept = [one for one in told if one.place.promised in digests.values()]
        # A signature that an index carries is of the archive whose digest it tells.
        signature = self.trust.archive_signature(
            archive, below, kept[0].place.signature if kept else None
        )
        digest = kept[0].place.promised if kept else next(iter(digests.values()), None)
        if signature.verdict is SignatureVerdict.BAD:
            why = f"its signature is bad: {signature.reason}"
            promise = kept[0] if kept else None
            broken = told[0] if told and not kept else None
            return Vouched(Evidence.RECORD, signature, False, why, digest, promise, broken)
        if kept and kept[0].proves:
            why = f"its digest is in {kept[0].words}"
            return Vouched(Evidence.SIGNED, signature, True, why, digest, kept[0])
        if signature.verdict is SignatureVerdict.GOOD:
            why = f"signed by {_who(signature)}"
            promise = kept[0] if kept else None
            broken = told[0] if told and not kept else None
            return Vouched(Evidence.SIGNED, signature, True, why, digest, promise, broken)
        if kept:
            why = f"its digest is in {kept[0].words}"
            return Vouched(Evidence.ARCHIVE, signature, True, why, digest, kept[0])
        if told:
            why = f"its digest is {digest}, and {told[0].words}, tells {told[0].place.promised}"
            return Vouched(Evidence.RECORD, signature, False, why, digest, None, told[0])
        words = f"no index tells its digest, and its own signature is: {signature.verdict.value}"
        if given:
            return Vouched(Evidence.ARCHIVE, signature, True, f"you gave it; {words}")
        why = f"it lies below the root itself, {words}" if below else words
        return Vouched(Evidence.RECORD, signature, True, why)


def same_package(system: System, one: Package, other: Package) -> bool:
    """Whether two records are of one build: name, architecture and version."""
    return (
        one.name == other.name
        and one.architecture == other.architecture
        and system.family.compare_versions(one.version, other.version) == 0
    )


def _who(signature: Signatures) -> str:
    signer = next(one for one in signature.signers if one.verdict is SignatureVerdict.GOOD)
    return signer.identity or signer.fingerprint
