"""The repositories that a `deb` system is configured to use, and the copies of their indexes."""

import hashlib
import re
from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime
from functools import cached_property, lru_cache
from typing import NamedTuple

from filigree.access.jail import Jail
from filigree.families.deb import places
from filigree.families.deb.choosing import Pin
from filigree.families.indexes import Keys, unpacked_pieces
from filigree.families.looking import names_in, os_release, read_or_report
from filigree.families.protocol import Report
from filigree.formats.damage import Damage
from filigree.formats.deb_configuration import read_configuration
from filigree.formats.deb_preferences import (
    Preference,
    first_general,
    read_preferences,
    release_conditions,
)
from filigree.formats.deb_release import Release, read_release
from filigree.formats.deb_sources import Source, read_lines, read_source_stanzas
from filigree.formats.openpgp import Key, judge_clear_signed, judge_detached
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError
from filigree.model.repositories import (
    IndexCopy,
    IndexFile,
    IndexKind,
    Repository,
    Seal,
    SealVerdict,
)

_ENDINGS = ("", ".lz4", ".gz", ".xz", ".bz2", ".zst")
_QUOTED = re.compile(r"[\\|{}\[\]<>\"^~_=!@#$%&*]")
_SCHEME = re.compile(r"^[a-z][a-z0-9+.-]*:(?://)?", re.IGNORECASE)
_FINGERPRINT = re.compile(r"(?:0x)?([0-9A-Fa-f]{16,64})!?")
_RELEASE_LIMIT = 64 << 20
_PART = re.compile(r"[A-Za-z0-9_.-]+")


class _Signed(NamedTuple):
    """The signed file of one suite: its facts, its seal, and when it was last asked for."""

    path: str | None
    release: Release | None
    seal: Seal
    fetched_at: datetime | None


def list_name(address: str) -> str:
    """What the copy of something at an address is called."""
    rest = _SCHEME.sub("", address)
    host, slash, path = rest.partition("/")
    quoted = _QUOTED.sub(lambda sign: f"%{ord(sign[0]):02x}", slash + path)
    return (host.rpartition("@")[2] + quoted).replace("/", "_")


class DebRepositories:
    """Reads them once, for one question."""

    def __init__(
        self, jail: Jail, report: Report, architectures: list[str], now: datetime,
        keyring: list[Key] | None = None,
    ) -> None:  # fmt: skip
        self._jail = jail
        self._report = report
        self._architectures = architectures
        self._now = now
        self._keys = Keys(jail, report, keyring)
        self._names = frozenset(names_in(jail, places.LISTS, report))
        self._signed = lru_cache(maxsize=None)(self._read_signed)
        self.pins = list(self._read_preferences())
        self.native = architectures[0] if architectures else ""

    def all(self) -> list[Repository]:
        """Every index of every entry, in the order of the configuration."""
        found: list[Repository] = []
        seen: dict[tuple[str, str, str | None, str | None], str] = {}
        for file, source in self._sources():
            if source.type != "deb":
                continue
            for architecture in source.architectures or self._architectures:
                one = self._repository(file, source, architecture)
                key = (source.uri, source.suite, source.component, architecture)
                if key in seen and one.enabled:
                    again = f"configured twice: also in {seen[key]}"
                    one = replace(one, remarks=(*one.remarks, again))
                seen.setdefault(key, one.configured_in)
                found.append(one)
        return found

    def _sources(self) -> Iterator[tuple[str, Source]]:
        files = [places.SOURCES]
        for name in names_in(self._jail, places.SOURCES_PARTS, self._report):
            if name.endswith((".list", ".sources")):
                files.append(f"{places.SOURCES_PARTS}/{name}")
        for file in files:
            data = read_or_report(self._jail, file, self._report)
            read = read_source_stanzas if file.endswith(".sources") else read_lines
            for entry in read(data):
                if isinstance(entry, Damage):
                    self._report(Gap(f"{file}, line {entry.line}", entry.why))
                else:
                    yield file, entry

    def _repository(self, file: str, source: Source, architecture: str) -> Repository:
        # All components of a suite share one signed file.
        signed = self._signed(source._replace(line=0, component=None, architectures=()))
        release = signed.release
        place = f"{source.uri.rstrip('/')} {source.suite}"
        remarks = list(self._remarks(source, signed, architecture))
        copy = self._copy(source, signed, architecture) if source.enabled else None
        if source.enabled and copy is None and signed.path is not None:
            remarks.append("its list of packages was never fetched")
        facts = self._facts(source, release, architecture)
        priority, facts["priority_from"] = self._priority(release, facts)
        title = " ".join(filter(None, (release.label, release.codename))) if release else ""
        return Repository(
            identity=_SCHEME.sub("", f"{place} {source.component}" if source.component else place),
            name=title or source.suite,
            enabled=source.enabled,
            addresses=(source.uri,),
            suite=source.suite,
            component=source.component,
            architecture=architecture,
            priority=priority,
            configured_in=f"{file}:{source.line}",
            keys=tuple("a key in the entry itself" if "\n" in k else k for k in source.signed_by),
            must_be_signed=not source.trusted,
            copy=copy,
            remarks=tuple(remarks),
            facts=facts,
            security=any("security" in facts[name].lower() for name in ("label", "suite")),
        )

    @staticmethod
    def _facts(source: Source, release: Release | None, architecture: str) -> dict[str, str]:
        """What preferences go by."""
        host = _SCHEME.sub("", source.uri).partition("/")[0].rpartition("@")[2].partition(":")[0]
        return {
            "host": "" if source.uri.startswith("file:") else host,
            "component": (source.component or "").rpartition("/")[2],
            "architecture": architecture,
            "suite": (release.suite if release else None) or source.suite,
            "codename": (release.codename if release else None) or "",
            "origin": (release.origin if release else None) or "",
            "label": (release.label if release else None) or "",
            "version": (release.version if release else None) or "",
        }

    def _priority(self, release: Release | None, facts: dict[str, str]) -> tuple[int, str]:
        """The priority of every package of it that no preference names, and where that comes from.

        The first general preference that fits counts; without one, 500, or less where the signed file
        asks for less (apt_preferences(5), on how priorities are interpreted).
        """
        for preference, place in self.pins:
            if first_general([preference], facts):
                return preference.priority, f"by {place}"
        wanted = self._default_release
        if wanted is not None and wanted.fits(facts):
            return 990, "of the release that the configuration prefers"
        if release is not None and release.not_automatic:
            if release.upgrades_though:
                return 100, "its signed file asks that only what came from it be upgraded"
            return 1, "its signed file asks that nothing be taken unasked"
        return 500, "no preference speaks of it"

    @cached_property
    def _default_release(self) -> Preference | None:
        """The release that is preferred where no preference says otherwise."""
        settings: dict[str, str] = {}
        parts = names_in(self._jail, places.SETTINGS_PARTS, self._report)
        files = [f"{places.SETTINGS_PARTS}/{name}" for name in parts if _PART.fullmatch(name)]
        for file in (*files, places.SETTINGS):
            settings |= read_configuration(read_or_report(self._jail, file, self._report))
        text = settings.get("apt::default-release")
        return Preference(("*",), 990, release_conditions(text)) if text else None

    def _read_preferences(self) -> Iterator[Pin]:
        files = [
            f"{places.PREFERENCES_PARTS}/{name}"
            for name in names_in(self._jail, places.PREFERENCES_PARTS, self._report)
            if re.fullmatch(r"[A-Za-z0-9_-]+(?:\.pref)?", name)
        ]
        for file in (*files, places.PREFERENCES):
            for found in read_preferences(read_or_report(self._jail, file, self._report)):
                if isinstance(found, Damage):
                    self._report(Gap(f"{file}, line {found.line}", found.why))
                else:
                    yield Pin(found, f"{file}:{found.line}")

    def _remarks(self, source: Source, signed: _Signed, architecture: str) -> Iterator[str]:
        for key in source.signed_by:
            if key.startswith("/") and self._keys.of_file(key) is None:
                yield f"its key file {key} is not there, or holds no keys"
        if not source.enabled:
            return
        release = signed.release
        if signed.path is None:
            yield "it was never fetched"
        elif release is not None:
            if source.suite not in (release.suite, release.codename) and not source.flat:
                yield f"the signed file calls itself {release.codename or release.suite}"
            parts = {part.rpartition("/")[2] for part in release.components}
            if source.component and source.component.rpartition("/")[2] not in parts:
                yield f"the signed file knows no component {source.component}"
            if release.architectures and architecture not in release.architectures:
                yield f"the signed file knows no architecture {architecture}"
            ours = self._codename
            if ours and release.codename and not release.codename.startswith(ours):
                yield f"it is of another release, {release.codename}: this system is {ours}"
        if source.trusted:
            yield "no seal is asked for: the entry says that it is to be trusted"

    @cached_property
    def _codename(self) -> str | None:
        return os_release(self._jail, self._report).get("VERSION_CODENAME")

    # -- what is signed --------------------------------------------------------------------

    def _base(self, source: Source) -> str:
        inner = source.suite if source.flat else f"dists/{source.suite}/"
        return list_name(f"{source.uri}{inner}".removesuffix("./"))

    def _read_signed(self, source: Source) -> _Signed:
        base = f"{places.LISTS}/{self._base(source)}"
        fetched = self._asked_for()
        try:
            for name in ("InRelease", "Release"):
                path = f"{base}{name}"
                data = self._jail.read_or_none(path, _RELEASE_LIMIT)
                if data is None:
                    continue
                seal, text = self._judged(source, path, data)
                release = read_release(text)
                if isinstance(release, Damage):
                    self._report(Gap(path, f"line {release.line}: {release.why}"))
                    return _Signed(path, None, seal, fetched)
                return _Signed(path, release, seal, fetched)
        except AccessError as error:
            self._report(Gap(base, error.what))
        return _Signed(None, None, Seal(SealVerdict.NONE, reason="it was never fetched"), None)

    def _judged(self, source: Source, path: str, data: bytes) -> tuple[Seal, bytes]:
        keys = self._allowed(source)
        if path.endswith("InRelease"):
            return judge_clear_signed(data, keys, self._now)
        beside = self._jail.read_or_none(f"{path}.gpg", _RELEASE_LIMIT)
        if beside is None:
            return Seal(SealVerdict.NONE, reason="there is no signature beside it"), data
        return judge_detached(data, beside, keys, self._now), data

    def _allowed(self, source: Source) -> list[Key]:
        """Exactly the keys that the entry allows; without any, those trusted for everything."""
        if not source.signed_by:
            return self._trusted
        found: list[Key] = []
        for one in source.signed_by:
            match = _FINGERPRINT.fullmatch(one)
            if "\n" in one:
                found += self._keys.of_text(one, "the entry itself")
            elif match:
                end = match[1].lower()
                found += (
                    key for key in self._trusted if any(p.endswith(end) for p in key.fingerprints)
                )
            else:
                found += self._keys.of_file(one) or []
        return found

    @cached_property
    def _trusted(self) -> list[Key]:
        files = [places.TRUSTED]
        for name in names_in(self._jail, places.TRUSTED_PARTS, self._report):
            if name.endswith((".gpg", ".asc")):
                files.append(f"{places.TRUSTED_PARTS}/{name}")
        every = [key for file in files for key in self._keys.of_file(file) or []]
        return list({key.fingerprints[0]: key for key in every}.values())

    def _asked_for(self) -> datetime | None:
        """When copies were last asked for: their own times are those of the other side."""
        try:
            return moment_of(self._jail.observe(f"{places.LISTS}/partial").modified // 10**9)
        except AccessError:
            return None

    # -- the copy --------------------------------------------------------------------------

    def _copy(self, source: Source, signed: _Signed, architecture: str) -> IndexCopy | None:
        inner = f"{source.component}/binary-{architecture}/Packages"
        if source.flat:
            inner = "Packages"
        stem = self._base(source) + list_name(f"/{inner}").removeprefix("_")
        name = next((stem + end for end in _ENDINGS if stem + end in self._names), None)
        if name is None:
            return None
        path = f"{places.LISTS}/{name}"
        release = signed.release
        promised = release.digests.get(inner) if release else None
        size, packages, matches, why, digest = self._counted(path, promised)
        expires = release.expires_at if release else None
        remarks = [why] if why else []
        if expires is not None and expires < self._now:
            remarks.append("it has expired")
        return IndexCopy(
            path, size, packages, release.made_at if release else None, signed.fetched_at, expires,
            signed.seal, matches, tuple(remarks),
            IndexFile(IndexKind.PACKAGES, path, digest, inner=True),
            tuple(self._others(source, release, architecture)),
        )  # fmt: skip

    def _others(
        self, source: Source, release: Release | None, architecture: str
    ) -> Iterator[IndexFile]:
        """The copies of the other indexes of a component."""
        front = "" if source.flat else f"{source.component}/"
        for kind, inner in (
            (IndexKind.PATHS, f"{front}Contents-{architecture}"),
            (IndexKind.PATHS, f"{front}Contents-all"),
            (IndexKind.PATHS, f"Contents-{architecture}"),
            (IndexKind.DESCRIPTIONS, f"{front}i18n/Translation-en"),
        ):
            stem = self._base(source) + list_name(f"/{inner}").removeprefix("_")
            for end in _ENDINGS:
                if stem + end not in self._names:
                    continue
                digests = release.digests if release else {}
                text = digests.get(inner)
                packed = digests.get(inner + end) if text is None else None
                promised = text or packed
                yield IndexFile(
                    kind, f"{places.LISTS}/{stem}{end}", promised[0] if promised else None,
                    inner=packed is None,
                )  # fmt: skip
                break

    def _counted(
        self, path: str, promised: tuple[str, int] | None
    ) -> tuple[int, int | None, bool | None, str | None, str | None]:
        """Size, packages, whether it is what was promised, what is to be said of that, the digest."""
        algorithm = promised[0].partition(":")[0] if promised else "sha256"
        digest = hashlib.new(algorithm, usedforsecurity=False)
        count, tail = 0, b"\n"
        try:
            size = self._jail.observe(path).size
            for piece in unpacked_pieces(self._jail, path):
                digest.update(piece)
                count += (tail + piece).count(b"\nPackage:")
                tail = piece[-8:]
        except AccessError as error:
            self._report(Gap(path, error.what))
            return 0, None, None, "it cannot be read", None
        except UnpackError as error:
            self._report(Gap(path, str(error)))
            return size, None, False, "it cannot be unpacked", None
        found = f"{algorithm}:{digest.hexdigest()}"
        if promised is None:
            return size, count, None, "the signed file does not speak of it", found
        if promised[0] != found:
            wrong = "it is not what the signed file says: it is not to be used"
            return size, count, False, wrong, found
        return size, count, True, None, found
