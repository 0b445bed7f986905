"""The repositories that an `rpm` system is configured to use, and the copies of their indexes."""

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from functools import cached_property

from filigree.access.jail import Jail
from filigree.families.indexes import Keys, packed_digest, unpacked_pieces
from filigree.families.looking import names_in, os_release, read_or_report
from filigree.families.protocol import Report
from filigree.families.rpm import places
from filigree.formats.openpgp import Key, judge_detached
from filigree.formats.repo_files import Section, read_sections
from filigree.formats.repomd import SIZE_LIMIT, RepoMd, XmlError, read_repomd
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError, words_of
from filigree.model.package import Package
from filigree.model.repositories import (
    IndexCopy,
    IndexFile,
    IndexKind,
    Repository,
    Seal,
    SealVerdict,
)

_VARIABLE = re.compile(r"\$(?:\{(\w+)\}|(\w+))")
_TIMES = {"": 1, "s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}
_DURATION = re.compile(r"(\d{1,9})([smhdw]?)", re.IGNORECASE)
_PACKAGES = re.compile(rb'<metadata\b[^>]*\bpackages="(\d{1,9})"')
_NO = frozenset({"0", "no", "false", "off"})
_YES = frozenset({"1", "yes", "true", "on"})
_FAMILIES = {"i386": "i386", "i486": "i386", "i586": "i386", "i686": "i386", "athlon": "i386"}
_EXPIRE = 48 * 3600
PRIORITY = 99
_OTHERS = {
    "filelists": IndexKind.PATHS,
    "updateinfo": IndexKind.ADVISORIES,
    "group": IndexKind.GROUPS,
    "group_gz": IndexKind.GROUPS,
    "group_xz": IndexKind.GROUPS,
    "group_zst": IndexKind.GROUPS,
    "modules": IndexKind.STREAMS,
    "other": IndexKind.CHANGES,
}


class RpmRepositories:
    """Reads them once, for one question."""

    def __init__(
        self,
        jail: Jail,
        report: Report,
        packages: Sequence[Package],
        architecture: str | None,
        now: datetime,
        keyring: list[Key] | None = None,
    ) -> None:
        self._jail = jail
        self._report = report
        self._packages = packages
        self.native = architecture or ""
        self._now = now
        self._keys = Keys(jail, report, keyring)

    def all(self) -> list[Repository]:
        """Every repository, in the order of the files."""
        found: list[Repository] = []
        seen: dict[str, str] = {}
        for file, section in self._sections():
            one = self._repository(file, section)
            if one.identity in seen:
                again = f"configured twice: also in {seen[one.identity]}"
                one = replace(one, remarks=(*one.remarks, again))
            seen.setdefault(one.identity, one.configured_in)
            found.append(one)
        return found

    def _sections(self) -> Iterator[tuple[str, Section]]:
        for folder in places.REPOSITORIES:
            for name in names_in(self._jail, folder, self._report):
                if not name.endswith(".repo"):
                    continue
                path = f"{folder}/{name}"
                sections, damages = read_sections(read_or_report(self._jail, path, self._report))
                for damage in damages:
                    self._report(Gap(f"{path}, line {damage.line}", damage.why))
                yield from ((path, section) for section in sections if section.name != "main")

    def _repository(self, file: str, section: Section) -> Repository:
        values = {name: self._filled(value) for name, value in section.values.items()}
        enabled = values.get("enabled", "1").lower() not in _NO
        addresses = [
            word
            for name in ("baseurl", "mirrorlist", "metalink")
            for word in values.get(name, "").replace(",", " ").split()
        ]
        key_files = tuple(values.get("gpgkey", "").split())
        folder = self._folder(section.name)
        copy = self._copy(folder, values, key_files) if folder and enabled else None
        remarks = list(self._remarks(values, addresses, key_files))
        if enabled and copy is None:
            remarks.append("it was never fetched")
        wanted = values.get("repo_gpgcheck", "").lower()
        priority = values.get("priority", "")
        return Repository(
            identity=section.name,
            name=values.get("name") or section.name,
            enabled=enabled,
            addresses=tuple(addresses),
            suite=None,
            component=None,
            architecture=None,
            priority=int(priority) if priority.isdecimal() and len(priority) < 6 else PRIORITY,
            configured_in=f"{file}:{section.line}",
            keys=key_files,
            must_be_signed=None if not wanted else wanted in _YES,
            copy=copy,
            remarks=tuple(remarks),
            facts={
                "excluded": " ".join(values.get(name, "") for name in ("exclude", "excludepkgs")),
                "included": values.get("includepkgs", ""),
                "priority_from": f"by {file}:{section.line}"
                if priority
                else "no entry says otherwise",
                "streams": "" if values.get("module_hotfixes", "").lower() in _YES else "followed",
            },
        )

    def _remarks(
        self, values: dict[str, str], addresses: list[str], key_files: tuple[str, ...]
    ) -> Iterator[str]:
        if not addresses:
            yield "it has no address"
        for address in addresses:
            left = _VARIABLE.search(address)
            if left:
                yield f"nothing tells what {left[0]} in its address stands for"
        for key in key_files:
            path = _local(key)
            if path is not None and self._keys.of_file(path) is None:
                yield f"its key file {path} is not there, or holds no keys"
        if values.get("gpgcheck", "").lower() in _NO:
            yield "its packages need not be signed"
        elif not key_files and values.get("gpgcheck", "").lower() in _YES:
            yield "its packages must be signed, but it names no key"

    # -- variables -------------------------------------------------------------------------

    def _filled(self, text: str) -> str:
        """A value with its variables filled in; one that is not known stays as it is."""
        return _VARIABLE.sub(lambda v: self._variables.get(v[1] or v[2], v[0]), text)

    @cached_property
    def _variables(self) -> dict[str, str]:
        machine = self.native
        found = {"arch": machine, "basearch": _FAMILIES.get(machine, machine)}
        release = self._release()
        if release:
            found["releasever"] = release
        for folder in places.VARIABLES:
            for name in names_in(self._jail, folder, self._report):
                text = read_or_report(self._jail, f"{folder}/{name}", self._report, 1 << 16)
                found[name] = text.decode("utf-8", "surrogateescape").split("\n")[0].strip()
        return {name: value for name, value in found.items() if value}

    def _release(self) -> str | None:
        """The release that the system says it is of: by its own name for itself."""
        return os_release(self._jail, self._report).get("VERSION_ID")

    # -- the copy --------------------------------------------------------------------------

    def _folder(self, identity: str) -> str | None:
        """The directory where the copies of a repository's indexes lie."""
        for cache in places.CACHES:
            for name in names_in(self._jail, cache, self._report):
                known = name == identity or re.fullmatch(
                    rf"{re.escape(identity)}-[0-9a-f]{{8,64}}", name
                )
                folder = f"{cache}/{name}/repodata"
                if known and self._jail.exists(f"{folder}/repomd.xml"):
                    return folder
        # The oldest form has a directory for each architecture and release, and no other below.
        for machine in names_in(self._jail, places.OLD_CACHE, self._report):
            for release in names_in(self._jail, f"{places.OLD_CACHE}/{machine}", self._report):
                folder = f"{places.OLD_CACHE}/{machine}/{release}/{identity}"
                if self._jail.exists(f"{folder}/repomd.xml"):
                    return folder
        return None

    def _copy(
        self, folder: str, values: dict[str, str], key_files: tuple[str, ...]
    ) -> IndexCopy | None:
        path = f"{folder}/repomd.xml"
        try:
            data = self._jail.read(path, SIZE_LIMIT)
            listed = read_repomd(data)
            fetched = moment_of(self._jail.observe(path).modified // 10**9)
        except (AccessError, XmlError) as error:
            self._report(Gap(path, words_of(error)))
            return None
        expires = self._expires(fetched, values.get("metadata_expire", ""))
        size, packages, matches, remarks = self._primary(folder, listed)
        primary = listed.indexes.get("primary")
        if expires is not None and expires < self._now:
            remarks.append("it has expired")
        times = [one.timestamp for one in listed.indexes.values() if one.timestamp]
        made = moment_of(max(times, default=None))
        seal = self._seal(path, data, key_files)
        return IndexCopy(
            path,
            size,
            packages,
            made,
            fetched,
            expires,
            seal,
            matches,
            tuple(remarks),
            # Until it was compared, a digest is only text that somebody wrote.
            IndexFile(
                IndexKind.PACKAGES, _beside(folder, primary.place), primary.digest, inner=False
            )
            if primary and matches
            else None,
            tuple(self._others(folder, listed)),
        )

    def _others(self, folder: str, listed: RepoMd) -> Iterator[IndexFile]:
        """The copies of the other indexes, each kind once."""
        told: set[IndexKind] = set()
        for name, one in listed.indexes.items():
            kind = _OTHERS.get(name)
            path = _beside(folder, one.place)
            if kind is not None and kind not in told and one.digest and self._jail.exists(path):
                told.add(kind)
                yield IndexFile(kind, path, one.digest, inner=False)

    @staticmethod
    def _expires(fetched: datetime | None, text: str) -> datetime | None:
        if fetched is None or text.strip().lower() in ("-1", "never"):
            return None
        match = _DURATION.fullmatch(text.strip())
        seconds = int(match[1]) * _TIMES[match[2].lower()] if match else _EXPIRE
        try:
            return fetched + timedelta(seconds=seconds)
        except OverflowError:
            return None

    def _primary(
        self, folder: str, listed: RepoMd
    ) -> tuple[int, int | None, bool | None, list[str]]:
        """Size, packages, and whether the list of packages is what the list of indexes says."""
        primary = listed.indexes.get("primary")
        if primary is None:
            return 0, None, None, ["it lists no packages"]
        path = _beside(folder, primary.place)
        try:
            size = self._jail.observe(path).size
            head = next(unpacked_pieces(self._jail, path), b"")
            algorithm = (primary.digest or "sha256:").partition(":")[0]
            matches = packed_digest(self._jail, path, algorithm) == primary.digest
        except AccessError as error:
            if error.absent:
                return 0, None, None, ["its list of packages was never fetched"]
            self._report(Gap(path, error.what))
            return 0, None, None, ["its list of packages cannot be read"]
        except (UnpackError, ValueError) as error:
            self._report(Gap(path, str(error)))
            return size, None, False, ["its list of packages cannot be unpacked"]
        found = _PACKAGES.search(head)
        wrong = "its list of packages is not what the list of indexes says: it is not to be used"
        return size, int(found[1]) if found else None, matches, [] if matches else [wrong]

    def _seal(self, path: str, data: bytes, key_files: tuple[str, ...]) -> Seal:
        signature = read_or_report(self._jail, f"{path}.asc", self._report, 1 << 20)
        if not signature:
            return Seal(SealVerdict.NONE, reason="there is no signature beside it")
        keys = [
            key
            for name in key_files
            if (file := _local(name)) is not None
            for key in self._keys.of_file(file) or []
        ]
        return judge_detached(data, signature, keys, self._now)


def _beside(folder: str, place: str) -> str:
    """Where the copy of an index lies, whatever place in the repository it is from."""
    return f"{folder}/{place.rpartition('/')[2]}"


def _local(address: str) -> str | None:
    """The path of a key that lies on the system itself."""
    if address.startswith("file://"):
        return address.removeprefix("file://")
    return address if address.startswith("/") else None
