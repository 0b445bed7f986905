"""Whose keys signatures are judged with: the root's own, or the auditor's in their place.

The root's may have been tampered with by whoever could change its files. With the auditor's alone a
signature that only the root could judge is by an unknown key, and that the root holds the key is told.
"""

from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime
from functools import cached_property

from filigree.families.protocol import Archive, Judging, RootKey, Sources
from filigree.model.keys import Key
from filigree.model.package import Package
from filigree.model.signatures import Signatures, SignatureVerdict
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System


class Trust:
    """The keys of one question. `keys_of` is `root` or `auditor`."""

    def __init__(
        self,
        system: System,
        options: RepositoryOptions = EVERYTHING,
        sources: Sources | None = None,
    ) -> None:
        self._system = system
        self._given = sources
        self.now = options.now or datetime.now(UTC)
        self.own = system.own_keys(options.keyring) if options.keyring else None
        self.keys_of = "auditor" if options.keyring else "root"

    @cached_property
    def _sources(self) -> Sources | None:
        return self._given or self._system.sources(Judging(self.now, self.own))

    @cached_property
    def held(self) -> Sequence[RootKey]:
        """Every key that the root holds, whosever count."""
        return self._sources.root_keys() if self._sources is not None else ()

    @cached_property
    def keys(self) -> list[Key]:
        """The keys that archives and records are judged with."""
        if self.own is not None:
            return self.own
        found: dict[str, Key] = {}
        for one in self.held:
            if one.archives:
                found.setdefault(one.key.fingerprint, one.key)
        return list(found.values())

    def archive_signature(
        self, archive: Archive, below: bool = False, told: bytes | None = None
    ) -> Signatures:
        """The signature of an archive, by what it carries and what lies beside it, or else what is
        `told`.
        """
        beside = self._system.beside(archive.facts.path, below) or told
        return self.completed(archive.signature(self.keys, self.now, beside))

    def record_signature(self, package: Package) -> Signatures | None:
        """The signature of a package's own record; None where the family keeps none."""
        signatures = self._system.database.signatures
        if signatures is None:
            return None  # told without asking for keys: those take reading the configuration
        return self.completed(signatures.judged(package, self.keys, self.now))

    def completed(self, signature: Signatures) -> Signatures:
        """A signature with what is to be said of a key that is not at hand."""
        if signature.verdict is not SignatureVerdict.UNKNOWN_KEY:
            return signature
        names = dict.fromkeys(one.fingerprint for one in signature.signers)
        told = [words for name in names if (words := self._where(name))]
        if not told and self._sources is not None:
            told = [f"such a key would be put in {self._sources.key_place}"]
        return replace(signature, reason="; ".join(filter(None, (signature.reason, *told))))

    def _where(self, issuer: str) -> str | None:
        """Where the root has a key that does not count here."""
        if self.own is None:
            return None
        for one in self.held:
            if one.key.made(issuer):
                who = one.key.identity or "nobody known"
                return f"only the root holds it, in {one.key.file}: of {who}"
        return None
