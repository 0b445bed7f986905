"""The copies of the indexes of `deb` repositories: those below the root, or those that we fetched."""

import hashlib
import re
from collections.abc import Callable, Iterator
from datetime import datetime
from functools import lru_cache
from typing import NamedTuple

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Remembered, Report, found_anew
from filigree.families.shared.indexes import (
    LargerThanPromised,
    found_by_unpacking,
    packed_digest,
)
from filigree.families.shared.looking import names_in
from filigree.formats.damage import Damage
from filigree.formats.deb.release import Release, read_release
from filigree.formats.deb.sources import Source
from filigree.formats.openpgp import judge_clear_signed, judge_detached
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError
from filigree.model.keys import Key
from filigree.model.repositories import IndexCopy, IndexFile, IndexKind
from filigree.model.signatures import Signatures, SignatureVerdict

ENDINGS = ("", ".lz4", ".gz", ".xz", ".bz2", ".zst")
_QUOTED = re.compile(r"[\\|{}\[\]<>\"^~_=!@#$%&*]")
SCHEME = re.compile(r"^[a-z][a-z0-9+.-]*:(?://)?", re.IGNORECASE)
RELEASE_LIMIT = 64 << 20
_WRONG = "it is not what the signed file says: it is not to be used"


class Signed(NamedTuple):
    """The signed file of one suite: its facts, its signature, and when it was last asked for."""

    path: str | None
    release: Release | None
    signature: Signatures
    fetched_at: datetime | None


def list_name(address: str) -> str:
    """What the copy of something at an address is called."""
    rest = SCHEME.sub("", address)
    host, slash, path = rest.partition("/")
    quoted = _QUOTED.sub(lambda sign: f"%{ord(sign[0]):02x}", slash + path)
    return (host.rpartition("@")[2] + quoted).replace("/", "_")


def address_of(source: Source) -> str:
    """Where the signed file of a suite is, and all that it speaks of."""
    inner = source.suite if source.flat else f"dists/{source.suite}/"
    return f"{source.uri}{inner}".removesuffix("./")


def copy_name(source: Source, inner: str) -> str:
    """What the copy of something that the signed file speaks of is called."""
    return list_name(address_of(source)) + list_name(f"/{inner}").removeprefix("_")


def packages_path(source: Source, architecture: str) -> str:
    """How the signed file names the list of packages."""
    return "Packages" if source.flat else f"{source.component}/binary-{architecture}/Packages"


def other_paths(source: Source, architecture: str) -> tuple[tuple[IndexKind, str], ...]:
    """How the signed file names the other indexes of a component."""
    front = "" if source.flat else f"{source.component}/"
    return (
        (IndexKind.DESCRIPTIONS, f"{front}i18n/Translation-en"),
        (IndexKind.PATHS, f"{front}Contents-{architecture}"),
        (IndexKind.PATHS, f"{front}Contents-all"),
        (IndexKind.PATHS, f"Contents-{architecture}"),
    )


class Copies:
    """The copies in one folder. `own` is whether we fetched them."""

    def __init__(
        self,
        tree: Tree,
        folder: str,
        report: Report,
        now: datetime,
        allowed: Callable[[Source], list[Key]],
        remembered: Remembered = found_anew,
        own: bool = False,
    ) -> None:
        self._tree = tree
        self._folder = folder
        self._report = report
        self._now = now
        self._allowed = allowed
        self._remembered = remembered
        self.own = own
        self._names = frozenset(names_in(tree, folder or "/", report))
        self._signed = lru_cache(maxsize=None)(self._read_signed)

    def signed(self, source: Source) -> Signed:
        """The signed file of a source; all components of a suite share one."""
        return self._signed(source._replace(line=0, component=None, architectures=()))

    def _read_signed(self, source: Source) -> Signed:
        base = f"{self._folder}/{list_name(address_of(source))}"
        try:
            for name in ("InRelease", "Release"):
                path = f"{base}{name}"
                data = self._tree.read_or_none(path, RELEASE_LIMIT)
                if data is None:
                    continue
                signature, text = self._judged(source, path, data)
                release = read_release(text)
                if isinstance(release, Damage):
                    self._report(Gap(path, f"line {release.line}: {release.why}"))
                    return Signed(path, None, signature, self._asked_for(path))
                return Signed(path, release, signature, self._asked_for(path))
        except AccessError as error:
            self._report(Gap(base, error.what))
        return Signed(
            None, None, Signatures(SignatureVerdict.NONE, reason="it was never fetched"), None
        )

    def _judged(self, source: Source, path: str, data: bytes) -> tuple[Signatures, bytes]:
        keys = self._allowed(source)
        if path.endswith("InRelease"):
            return judge_clear_signed(data, keys, self._now)
        beside = self._tree.read_or_none(f"{path}.gpg", RELEASE_LIMIT)
        if beside is None:
            return Signatures(SignatureVerdict.NONE, reason="there is no signature beside it"), data
        return judge_detached(data, beside, keys, self._now), data

    def _asked_for(self, path: str) -> datetime | None:
        """When copies were last asked for: below a root their own times are those of the other side."""
        place = path if self.own else f"{self._folder}/partial"
        try:
            return moment_of(self._tree.observe(place).modified // 10**9)
        except AccessError:
            return None

    # -- the copy --------------------------------------------------------------------------

    def copy(self, source: Source, architecture: str) -> IndexCopy | None:
        """The copy of the list of packages; None where there is none."""
        found = self._file(source, IndexKind.PACKAGES, packages_path(source, architecture))
        if found is None:
            return None
        signed = self.signed(source)
        release = signed.release
        size, packages, matches, why, digest = self._counted(found)
        expires = release.expires_at if release else None
        remarks = [why] if why else []
        if expires is not None and expires < self._now:
            remarks.append("it has expired")
        others = (self._file(source, *one) for one in other_paths(source, architecture))
        return IndexCopy(
            path=found.path, size=size, packages=packages,
            made_at=release.made_at if release else None, fetched_at=signed.fetched_at,
            expires_at=expires, signature=signed.signature, matches=matches, remarks=tuple(remarks),
            listed=found._replace(digest=digest),
            files=tuple(one for one in others if one is not None), own=self.own,
        )  # fmt: skip

    def _file(self, source: Source, kind: IndexKind, inner: str) -> IndexFile | None:
        """The copy of an index, and what is promised of it: of its text, or else as it was sent."""
        stem = copy_name(source, inner)
        end = next((end for end in ENDINGS if stem + end in self._names), None)
        if end is None:
            return None
        release = self.signed(source).release
        digests = release.digests if release else {}
        text, packed = digests.get(inner), digests.get(inner + end)
        promised = text or packed
        digest = promised[0] if promised else None
        path = f"{self._folder}/{stem}{end}"
        inner_too = text is not None or packed is None
        return IndexFile(kind, path, digest, inner_too, self.own, text[1] if text else None)

    def _counted(
        self, file: IndexFile
    ) -> tuple[int, int | None, bool | None, str | None, str | None]:
        """Size, packages, whether it is what was promised, what is to be said of that, the digest."""
        path, promised = file.path, file.digest
        algorithm = (promised or "sha256").partition(":")[0]

        def both(pieces: Iterator[bytes]) -> str:
            digest = hashlib.new(algorithm, usedforsecurity=False)
            count, tail = 0, b"\n"
            for piece in pieces:
                digest.update(piece)
                count += (tail + piece).count(b"\nPackage:")
                tail = piece[-8:]
            return f"{algorithm}:{digest.hexdigest()} {count}"

        try:
            size = self._tree.observe(path).size
            told = found_by_unpacking(
                self._tree, file, self._remembered, f"{algorithm}-packages", both
            )
            found, _, number = told.partition(" ")
            count = int(number)
            if not file.inner:
                found = packed_digest(self._tree, path, algorithm)
        except AccessError as error:
            self._report(Gap(path, error.what))
            return 0, None, None, "it cannot be read", None
        except LargerThanPromised:
            return size, None, False, _WRONG, None
        except UnpackError as error:
            self._report(Gap(path, str(error)))
            return size, None, False, "it cannot be unpacked", None
        if promised is None:
            return size, count, None, "the signed file does not speak of it", found
        if promised != found:
            return size, count, False, _WRONG, found
        return size, count, True, None, found
