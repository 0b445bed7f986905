"""The repositories that an `rpm` system is configured to use, and the copies of their indexes."""

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import cached_property
from typing import NamedTuple

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import ADDED, Fetch, Judging, Report, RootKey
from filigree.families.rpm import places
from filigree.families.rpm.kept_lists import list_in
from filigree.families.rpm.repository_settings import (
    ANSWERS,
    MACHINE_FAMILIES,
    NO,
    YES,
    beside,
    copy_name,
    expires_at,
    local_path,
)
from filigree.families.shared.indexes import Keys, packed_digest, unpacked_pieces
from filigree.families.shared.looking import names_in, os_release, read_or_report
from filigree.families.shared.releases import other_release
from filigree.formats.openpgp import judge_detached
from filigree.formats.rpm.repo_files import Section, read_sections
from filigree.formats.rpm.repomd import SIZE_LIMIT, RepoMd, XmlError, made_at, read_repomd
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError, words_of
from filigree.model.keys import Key
from filigree.model.package import Package
from filigree.model.repositories import (
    IndexCopy,
    IndexFile,
    IndexKind,
    Refreshed,
    Repository,
    without_user,
)
from filigree.model.signatures import Signatures, SignatureVerdict

_VARIABLE = re.compile(r"\$(?:\{(\w+)\}|(\w+))")
_NOT_SAID = "no entry says otherwise"
_PACKAGES = re.compile(rb'<metadata\b[^>]*\bpackages="(\d{1,9})"')
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


class RpmSystem(NamedTuple):
    """What the configuration of repositories goes by: the packages of a system, its machine and release.

    `imported` gives the keys that its database trusts.
    """

    packages: Sequence[Package]
    architecture: str | None
    release: str | None = None
    imported: Callable[[], list[Key]] = list


class RpmRepositories:
    """Reads them once, for one question."""

    def __init__(self, tree: Tree, report: Report, system: RpmSystem, judging: Judging) -> None:
        self._tree = tree
        self._report = report
        self._packages = system.packages
        self.native = system.architecture or ""
        self._now = judging.now
        self._keys = Keys(tree, report, judging.keyring)
        self._own = judging.copies
        self._told_release = system.release
        self._imported = system.imported
        self._known: list[Repository] | None = None
        self._entries: dict[int, tuple[Repository, dict[str, str]]] = {}

    def all(self) -> list[Repository]:
        """Every repository, in the order of the files."""
        if self._known is None:
            self._known = self._read_all()
        return self._known

    def _read_all(self) -> list[Repository]:
        found: list[Repository] = []
        seen: dict[str, str] = {}
        for file, section in (*self._sections(), *self._added()):
            values = {name: self._filled(value) for name, value in section.values.items()}
            one = self._repository(file, section, values)
            if one.identity in seen:
                again = f"configured twice: also in {seen[one.identity]}"
                one = replace(one, remarks=(*one.remarks, again))
            seen.setdefault(one.identity, one.configured_in)
            self._entries[id(one)] = one, values
            found.append(one)
        return found

    def refresh(self, repository: Repository, fetch: Fetch, paths: bool) -> Refreshed:
        """Fetch what a repository of `all` offers. Raises FetchError."""
        from filigree.families.rpm.refreshing import RpmRefresh, refresh

        _, values = self._entries[id(repository)]
        kept = copy_name(repository.identity, values)
        places_ = [
            (self._tree, self._folder(repository.identity)),
            (self._own.copies, f"/{kept}/repodata"),
        ]
        seen = [listed for tree, folder in places_ if (listed := list_in(tree, folder)) is not None]
        keys = self._allowed(tuple(values.get("gpgkey", "").split()))
        return refresh(RpmRefresh(values, kept, fetch, keys, seen, self._now, paths))

    def _added(self) -> Iterator[tuple[str, Section]]:
        """Repositories by their addresses alone: any key that the system keeps may sign them."""
        names = names_in(self._tree, places.KEYS, self._report)
        keys = " ".join(f"file://{places.KEYS}/{name}" for name in names)
        for address in self._own.addresses:
            place = without_user(address)
            name = re.sub(r"[^A-Za-z0-9.]+", "-", re.sub(r"^[a-z]+:/*", "", place)).strip("-")
            yield (
                ADDED,
                Section(name, {"baseurl": address, "name": place, "gpgkey": keys}, 0),
            )

    def _sections(self) -> Iterator[tuple[str, Section]]:
        for folder in places.REPOSITORIES:
            for name in names_in(self._tree, folder, self._report):
                if not name.endswith(".repo"):
                    continue
                path = f"{folder}/{name}"
                sections, damages = read_sections(read_or_report(self._tree, path, self._report))
                for damage in damages:
                    self._report(Gap(f"{path}, line {damage.line}", damage.why))
                yield from ((path, section) for section in sections if section.name != "main")

    def _repository(self, file: str, section: Section, values: dict[str, str]) -> Repository:
        enabled = values.get("enabled", "1").lower() not in NO
        addresses = [
            word
            for name in ("baseurl", "mirrorlist", "metalink")
            for word in values.get(name, "").replace(",", " ").split()
        ]
        key_files = tuple(values.get("gpgkey", "").split())
        copy = self._best_copy(section, values, key_files) if enabled else None
        remarks = list(self._remarks(values, addresses, key_files))
        if enabled and copy is None:
            remarks.append("it was never fetched")
        if copy is not None and copy.signature.verdict is SignatureVerdict.UNKNOWN_KEY:
            files = [path for key in key_files if (path := local_path(key)) is not None]
            remarks.append(f"the missing key would be put in {' or '.join(files) or places.KEYS}")
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
            configured_in=f"{file}:{section.line}" if section.line else file,
            keys=key_files,
            must_be_signed=None if not wanted else wanted in YES,
            archives_must_be_signed=ANSWERS.get(values.get("gpgcheck", "").lower()),
            copy=copy,
            remarks=tuple(remarks),
            other_release=other_release(addresses, self._release()),
            facts={
                "excluded": " ".join(values.get(name, "") for name in ("exclude", "excludepkgs")),
                "included": values.get("includepkgs", ""),
                "priority_from": f"by {file}:{section.line}" if priority else _NOT_SAID,
                "streams": "" if values.get("module_hotfixes", "").lower() in YES else "followed",
            },
        )

    def _remarks(
        self, values: dict[str, str], addresses: list[str], key_files: tuple[str, ...]
    ) -> Iterator[str]:
        if not addresses:
            yield "it has no address"
        other = other_release(addresses, self._release())
        if other is not None:
            yield f"it is of another release, {other}: this system is {self._release()}"
        for address in addresses:
            left = _VARIABLE.search(address)
            if left:
                yield f"nothing tells what {left[0]} in its address stands for"
        for key in key_files:
            path = local_path(key)
            if path is not None and self._keys.of_file(path) is None:
                yield f"its key file {path} is not there, or holds no keys"
        if values.get("gpgcheck", "").lower() in NO:
            yield "its packages need not be signed"
        elif not key_files and values.get("gpgcheck", "").lower() in YES:
            yield "its packages must be signed, but it names no key"

    # -- keys ------------------------------------------------------------------------------

    @property
    def key_place(self) -> str:
        return f"{places.KEYS}, and be imported into the package database"

    def root_keys(self) -> list[RootKey]:
        """Every key of the root.

        What was imported into the database is trusted for packages of whatever origin; a key that an
        entry names may sign its index, and is imported when it is first needed.
        """
        named: dict[str, list[str]] = {}
        every = []
        for one in self.all():
            every.append(one.identity)
            for address in one.keys:
                file = local_path(address)
                if file is not None:
                    named.setdefault(file, []).append(one.identity)
        found = [
            RootKey(key, "imported: trusted for packages of whatever origin", tuple(every), True)
            for key in self._imported()
        ]
        for file, who in named.items():
            how = "named by the entries that it may sign"
            found += (RootKey(key, how, tuple(who)) for key in self._keys.held(file))
        for name in names_in(self._tree, places.KEYS, self._report):
            path = f"{places.KEYS}/{name}"
            if path not in named:
                how = "lies there; no entry names it"
                found += (RootKey(k, how, archives=False) for k in self._keys.held(path))
        return found

    # -- variables -------------------------------------------------------------------------

    def _filled(self, text: str) -> str:
        """A value with its variables filled in; one that is not known stays as it is."""
        return _VARIABLE.sub(lambda v: self._variables.get(v[1] or v[2], v[0]), text)

    @cached_property
    def _variables(self) -> dict[str, str]:
        machine = self.native
        found = {"arch": machine, "basearch": MACHINE_FAMILIES.get(machine, machine)}
        release = self._release()
        if release:
            found["releasever"] = release
        for folder in places.VARIABLES:
            for name in names_in(self._tree, folder, self._report):
                text = read_or_report(self._tree, f"{folder}/{name}", self._report, 1 << 16)
                found[name] = text.decode("utf-8", "surrogateescape").split("\n")[0].strip()
        return {name: value for name, value in found.items() if value}

    def _release(self) -> str | None:
        """The release that the system is of: by the package that tells it, or its own name for itself."""
        return self._told_release or os_release(self._tree, self._report).get("VERSION_ID")

    # -- the copy --------------------------------------------------------------------------

    def _folder(self, identity: str) -> str | None:
        """The directory where the copies of a repository's indexes lie."""
        for cache in places.CACHES:
            for name in names_in(self._tree, cache, self._report):
                known = name == identity or re.fullmatch(
                    rf"{re.escape(identity)}-[0-9a-f]{{8,64}}", name
                )
                folder = f"{cache}/{name}/repodata"
                if known and self._tree.exists(f"{folder}/repomd.xml"):
                    return folder
        # The oldest form has a directory for each architecture and release, and no other below.
        for machine in names_in(self._tree, places.OLD_CACHE, self._report):
            for release in names_in(self._tree, f"{places.OLD_CACHE}/{machine}", self._report):
                folder = f"{places.OLD_CACHE}/{machine}/{release}/{identity}"
                if self._tree.exists(f"{folder}/repomd.xml"):
                    return folder
        return None

    def _best_copy(
        self, section: Section, values: dict[str, str], key_files: tuple[str, ...]
    ) -> IndexCopy | None:
        """The root's own copy; one that we fetched, where that counts and is as new."""
        folder = self._folder(section.name) if section.line else None
        copy = self._copy(self._tree, folder, values, key_files) if folder else None
        kept = f"/{copy_name(section.name, values)}/repodata"
        if self._own.copies is None or not self._own.copies.exists(f"{kept}/repomd.xml"):
            return copy
        ours = self._copy(self._own.copies, kept, values, key_files, own=True)
        if ours is None or not ours.usable:
            return copy if section.line else ours
        made = copy.made_at if copy is not None and copy.usable else None
        newer = made is None or (ours.made_at is not None and ours.made_at >= made)
        return ours if newer else copy

    def _copy(
        self,
        tree: Tree,
        folder: str,
        values: dict[str, str],
        key_files: tuple[str, ...],
        own: bool = False,
    ) -> IndexCopy | None:
        path = f"{folder}/repomd.xml"
        try:
            data = tree.read(path, SIZE_LIMIT)
            listed = read_repomd(data)
            fetched = moment_of(tree.observe(path).modified // 10**9)
        except (AccessError, XmlError) as error:
            self._report(Gap(path, words_of(error)))
            return None
        expires = expires_at(fetched, values.get("metadata_expire", ""))
        size, packages, matches, remarks = self._primary(tree, folder, listed)
        primary = listed.indexes.get("primary")
        if expires is not None and expires < self._now:
            remarks.append("it has expired")
        made = made_at(listed)
        signature = self._signature(tree, path, data, key_files)
        return IndexCopy(
            path=path,
            size=size,
            packages=packages,
            made_at=made,
            fetched_at=fetched,
            expires_at=expires,
            signature=signature,
            matches=matches,
            remarks=tuple(remarks),
            # Until it was compared, a digest is only text that somebody wrote.
            listed=IndexFile(
                IndexKind.PACKAGES,
                beside(folder, primary.place),
                primary.digest,
                False,
                own,
                primary.open_size,
            )
            if primary and matches
            else None,
            files=tuple(self._others(tree, folder, listed, own)),
            own=own,
        )

    def _others(self, tree: Tree, folder: str, listed: RepoMd, own: bool) -> Iterator[IndexFile]:
        """The copies of the other indexes, each kind once."""
        told: set[IndexKind] = set()
        for name, one in listed.indexes.items():
            kind = _OTHERS.get(name)
            path = beside(folder, one.place)
            if kind is not None and kind not in told and one.digest and tree.exists(path):
                told.add(kind)
                yield IndexFile(kind, path, one.digest, False, own, one.open_size)

    def _primary(
        self, tree: Tree, folder: str, listed: RepoMd
    ) -> tuple[int, int | None, bool | None, list[str]]:
        """Size, packages, and whether the list of packages is what the list of indexes says."""
        primary = listed.indexes.get("primary")
        if primary is None:
            return 0, None, None, ["it lists no packages"]
        path = beside(folder, primary.place)
        try:
            size = tree.observe(path).size
            head = next(unpacked_pieces(tree, path), b"")
            algorithm = (primary.digest or "sha256:").partition(":")[0]
            matches = packed_digest(tree, path, algorithm) == primary.digest
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

    def _signature(
        self, tree: Tree, path: str, data: bytes, key_files: tuple[str, ...]
    ) -> Signatures:
        signature = read_or_report(tree, f"{path}.asc", self._report, 1 << 20)
        if not signature:
            return Signatures(SignatureVerdict.NONE, reason="there is no signature beside it")
        return judge_detached(data, signature, self._allowed(key_files), self._now)

    def _allowed(self, key_files: tuple[str, ...]) -> list[Key]:
        """Exactly the keys that an entry names; the auditor's own instead, where there are."""
        if self._keys.own is not None:
            return self._keys.own
        return [
            key
            for name in key_files
            if (file := local_path(name)) is not None
            for key in self._keys.of_file(file) or []
        ]
