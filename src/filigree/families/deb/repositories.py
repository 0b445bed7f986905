"""The repositories that a `deb` system is configured to use, and the copies of their indexes."""

import re
from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property

from filigree.access.trees.protocol import Tree
from filigree.families.deb import places
from filigree.families.deb.choosing import Pin, Pins
from filigree.families.deb.copies import SCHEME, Copies, Signed
from filigree.families.deb.policy import read_settings
from filigree.families.protocol import ADDED, Fetch, Judging, Report, RootKey
from filigree.families.shared.indexes import Keys
from filigree.families.shared.looking import names_in, os_release, read_or_report
from filigree.formats.damage import Damage
from filigree.formats.deb.preferences import (
    Preference,
    pattern_of,
    read_preferences,
    release_conditions,
)
from filigree.formats.deb.release import Release
from filigree.formats.deb.sources import Source, read_lines, read_source_stanzas, sources_at
from filigree.formats.patterns import PatternError
from filigree.model.answer import Gap
from filigree.model.keys import Key
from filigree.model.repositories import IndexCopy, Refreshed, Repository, without_user
from filigree.model.signatures import SignatureVerdict

_FINGERPRINT = re.compile(r"(?:0x)?([0-9A-Fa-f]{16,64})!?")


def _stem(suite: str) -> str:
    """The release that a suite belongs to, by its name: that of `saltmarsh-updates` is `saltmarsh`."""
    return re.split("[-/]", suite, maxsplit=1)[0]


class DebRepositories:
    """Reads them once, for one question."""

    def __init__(
        self, tree: Tree, report: Report, architectures: list[str], judging: Judging
    ) -> None:
        now, keyring, own, remembered = judging
        self._tree = tree
        self._report = report
        self._architectures = architectures
        self._now = now
        self._keys = Keys(tree, report, keyring)
        self._root = Copies(tree, places.LISTS, report, now, self._allowed, remembered)
        self._fetched = None
        if own.copies is not None:
            self._fetched = Copies(own.copies, "", report, now, self._allowed, remembered, own=True)
        self._addresses = own.addresses
        self._known: list[Repository] | None = None
        self._entries: dict[int, tuple[Repository, Source, str]] = {}
        self.pins = Pins(self._read_preferences(), report)
        self.native = architectures[0] if architectures else ""

    def all(self) -> list[Repository]:
        """Every index of every entry, in the order of the configuration."""
        if self._known is None:
            self._known = self._read_all()
        return self._known

    def _read_all(self) -> list[Repository]:
        found: list[Repository] = []
        seen: dict[tuple[str, str, str | None, str | None], str] = {}
        for file, source in self._sources:
            if source.type != "deb":
                continue
            # What the auditor adds is asked for this machine alone.
            usual = self._architectures if source.line else self._architectures[:1]
            for architecture in source.architectures or usual:
                one = self._repository(file, source, architecture)
                key = (source.uri, source.suite, source.component, architecture)
                if key in seen and one.enabled:
                    again = f"configured twice: also in {seen[key]}"
                    one = replace(one, remarks=(*one.remarks, again))
                seen.setdefault(key, one.configured_in)
                self._entries[id(one)] = (one, source, architecture)
                found.append(one)
        return found

    def refresh(self, repository: Repository, fetch: Fetch, paths: bool) -> Refreshed:
        """Fetch what a repository of `all` offers. Raises FetchError."""
        from filigree.families.deb.refreshing import refresh

        _, source, architecture = self._entries[id(repository)]
        shelves = [shelf for shelf in (self._root, self._fetched) if shelf is not None]
        seen = [one for shelf in shelves if (one := shelf.signed(source).release) is not None]
        return refresh(source, architecture, fetch, self._allowed(source), seen, self._now, paths)

    @cached_property
    def _sources(self) -> list[tuple[str, Source]]:
        added = [(ADDED, source) for address in self._addresses for source in sources_at(address)]
        return [*self._configured(), *added]

    def _configured(self) -> Iterator[tuple[str, Source]]:
        files = [places.SOURCES]
        for name in names_in(self._tree, places.SOURCES_PARTS, self._report):
            if name.endswith((".list", ".sources")):
                files.append(f"{places.SOURCES_PARTS}/{name}")
        for file in files:
            data = read_or_report(self._tree, file, self._report)
            read = read_source_stanzas if file.endswith(".sources") else read_lines
            for entry in read(data):
                if isinstance(entry, Damage):
                    self._report(Gap(f"{file}, line {entry.line}", entry.why))
                else:
                    yield file, entry

    def _repository(self, file: str, source: Source, architecture: str) -> Repository:
        copy, signed = self._best_copy(source, architecture)
        release = signed.release
        place = f"{without_user(source.uri).rstrip('/')} {source.suite}"
        remarks = list(self._remarks(source, signed, architecture))
        if source.enabled and copy is None and signed.path is not None:
            remarks.append("its list of packages was never fetched")
        facts = self._facts(source, release, architecture)
        priority, facts["priority_from"] = self._priority(release, facts)
        title = " ".join(filter(None, (release.label, release.codename))) if release else ""
        return Repository(
            identity=SCHEME.sub("", f"{place} {source.component}" if source.component else place),
            name=title or source.suite,
            enabled=source.enabled,
            addresses=(source.uri,),
            suite=source.suite,
            component=source.component,
            architecture=architecture,
            priority=priority,
            configured_in=f"{file}:{source.line}" if source.line else file,
            keys=tuple("a key in the entry itself" if "\n" in k else k for k in source.signed_by),
            must_be_signed=not source.trusted,
            copy=copy,
            remarks=tuple(remarks),
            other_release=self._other_release(source, release),
            facts=facts,
            security=any("security" in facts[name].lower() for name in ("label", "suite")),
        )

    def _best_copy(self, source: Source, architecture: str) -> tuple[IndexCopy | None, Signed]:
        """The root's own copy; one that we fetched, where that counts and is as new."""
        asked_for = source.line == 0
        root = self._root.signed(source)
        copy = self._root.copy(source, architecture) if source.enabled and not asked_for else None
        if self._fetched is None or not source.enabled:
            return copy, root
        ours = self._fetched.copy(source, architecture)
        if ours is None or not ours.usable:
            return (ours, self._fetched.signed(source)) if asked_for else (copy, root)
        made = copy.made_at if copy is not None and copy.usable else None
        if made is None or (ours.made_at is not None and ours.made_at >= made):
            return ours, self._fetched.signed(source)
        return copy, root

    @staticmethod
    def _facts(source: Source, release: Release | None, architecture: str) -> dict[str, str]:
        """What preferences go by."""
        host = SCHEME.sub("", source.uri).partition("/")[0].rpartition("@")[2].partition(":")[0]
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
        for preference, place in self.pins.general:
            if preference.fits(facts):
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
        settings, _ = read_settings(self._tree, self._report)
        text = settings.get("apt::default-release")
        return Preference(("*",), 990, release_conditions(text)) if text else None

    def _read_preferences(self) -> Iterator[Pin]:
        files = [
            f"{places.PREFERENCES_PARTS}/{name}"
            for name in names_in(self._tree, places.PREFERENCES_PARTS, self._report)
            if re.fullmatch(r"[A-Za-z0-9_-]+(?:\.pref)?", name)
        ]
        for file in (*files, places.PREFERENCES):
            for found in read_preferences(read_or_report(self._tree, file, self._report)):
                if isinstance(found, Damage):
                    self._report(Gap(f"{file}, line {found.line}", found.why))
                elif self._is_sound(found, f"{file}, line {found.line}"):
                    yield Pin(found, f"{file}:{found.line}")

    def _is_sound(self, found: Preference, place: str) -> bool:
        try:
            for pattern in found.patterns():
                pattern_of(pattern)
        except PatternError as error:
            self._report(Gap(place, f"an expression that is not matched: {error}"))
            return False
        return True

    def _remarks(self, source: Source, signed: Signed, architecture: str) -> Iterator[str]:
        for key in source.signed_by:
            if key.startswith("/") and self._keys.of_file(key) is None:
                yield f"its key file {key} is not there, or holds no keys"
        if not source.enabled:
            return
        release = signed.release
        if signed.path is not None and signed.signature.verdict is SignatureVerdict.UNKNOWN_KEY:
            files = [key for key in source.signed_by if key.startswith("/")]
            yield f"the missing key would be put in {' or '.join(files) or places.TRUSTED_PARTS}"
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
            other = self._other_release(source, release)
            if other is not None:
                yield f"it is of another release, {other}: this system is {self._codename}"
        if source.trusted:
            yield "no signature is asked for: the entry says that it is to be trusted"

    def _other_release(self, source: Source, release: Release | None) -> str | None:
        """The release that a repository is of, where that is another than this system's: as its signed
        file says; before that was fetched by its suite, where the same address has ours, too."""
        ours = self._codename
        if not ours:
            return None
        told = release.codename if release is not None else None
        if told is None and not source.flat and any(
            one.uri == source.uri and one.enabled and _stem(one.suite) == ours
            for _, one in self._sources
        ):  # fmt: skip
            told = source.suite
        return None if told is None or _stem(told) == ours else told

    @cached_property
    def _codename(self) -> str | None:
        return os_release(self._tree, self._report).get("VERSION_CODENAME")

    # -- keys -------------------------------------------------------------------------------

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

    key_place = places.TRUSTED_PARTS

    def root_keys(self) -> list[RootKey]:
        """Every key of the root, with the entries that it may sign.

        An entry that names no key takes those that are trusted for everything.
        """
        entries = [(one, self._entries[id(one)][1]) for one in self.all()]
        open_ = tuple(
            dict.fromkeys(one.identity for one, source in entries if not source.signed_by)
        )
        named: dict[str, list[str]] = {}
        for one, source in entries:
            for key in source.signed_by:
                named.setdefault(key, []).append(one.identity)
        found = [
            RootKey(key, "trusted for every entry that names no key", open_, everything=True)
            for file in self._trusted_files
            for key in self._keys.held(file)
        ]
        found = [_narrowed(one, named) for one in found]
        found += self._named_keys(named)
        found += self._other_keys({one.key.file for one in found})
        return found

    def _named_keys(self, named: dict[str, list[str]]) -> Iterator[RootKey]:
        """The keys of the files that entries name, and of entries themselves."""
        for name, who in named.items():
            scope = tuple(dict.fromkeys(who))
            if "\n" in name:
                keys = Keys(self._tree, self._report).of_text(name, "the entry itself")
                yield from (RootKey(key, "stands in the entry itself", scope) for key in keys)
            elif name.startswith("/") and name not in self._trusted_files:
                how = "named by the entries that it may sign"
                yield from (RootKey(key, how, scope) for key in self._keys.held(name))

    def _other_keys(self, told: set[str]) -> Iterator[RootKey]:
        for folder in places.KEYRINGS:
            for name in names_in(self._tree, folder, self._report):
                path = f"{folder}/{name}"
                if path not in told and name.endswith((".gpg", ".asc", ".pgp")):
                    how = "lies there; no entry names it"
                    yield from (RootKey(k, how, archives=False) for k in self._keys.held(path))
        for name in names_in(self._tree, places.ARCHIVE_KEYS, self._report):
            folder = f"{places.ARCHIVE_KEYS}/{name}"
            for file in names_in(self._tree, folder, self._report):
                how = "for archives that are signed inside"
                yield from (RootKey(key, how) for key in self._keys.held(f"{folder}/{file}"))

    @cached_property
    def _trusted(self) -> list[Key]:
        every = [key for file in self._trusted_files for key in self._keys.of_file(file) or []]
        return list({key.fingerprints[0]: key for key in every}.values())

    @cached_property
    def _trusted_files(self) -> list[str]:
        names = names_in(self._tree, places.TRUSTED_PARTS, self._report)
        parts = [f"{places.TRUSTED_PARTS}/{n}" for n in names if n.endswith((".gpg", ".asc"))]
        return [places.TRUSTED, *parts]


def _narrowed(one: RootKey, named: dict[str, list[str]]) -> RootKey:
    """A trusted key, with the entries that name it by its fingerprint too."""
    more = [
        who
        for name, whose in named.items()
        if (match := _FINGERPRINT.fullmatch(name)) and one.key.made(match[1].lower())
        for who in whose
    ]
    return one._replace(scope=tuple(dict.fromkeys((*one.scope, *more))))
