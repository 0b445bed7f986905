"""A family from elsewhere, whole: what a distribution package of its own brings.

It is copied into a folder of its own by the test, and knows of the product what every family may know.
Such a system keeps its records in one file of JSON. An archive, and a list of what is offered, is two
members of gzip: the first says who signed the second, and how, by a bare public key.
"""

import gzip
import hashlib
import json
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import (
    ADDED,
    Asked,
    Fetch,
    Judging,
    Listing,
    OfferRow,
    Provided,
    Reader,
    Report,
    RootKey,
)
from filigree.families.shared.choosing import Numbers, choices_by_number
from filigree.families.shared.defaults import DatabaseDefaults
from filigree.families.shared.indexes import IndexReader, Keys, best_of, copies_folder
from filigree.families.shared.listing import PathListing
from filigree.families.shared.looking import names_in
from filigree.families.shared.matching import conflicts, term_is_met
from filigree.families.shared.signatures import part_of, why_refused
from filigree.formats.gzip_members import gzip_members
from filigree.formats.public_keys import judge_by_name
from filigree.formats.random_access import Bytes, MemoryBytes
from filigree.formats.unpacking import UnpackError
from filigree.formats.version_parts import split_version
from filigree.model.answer import Gap
from filigree.model.archives import ArchiveFacts, NameParts
from filigree.model.choices import Choice, Offering
from filigree.model.errors import DatabaseError
from filigree.model.events import Action, Event
from filigree.model.files import Aspect, FileRecord, Kind
from filigree.model.keys import Key
from filigree.model.needs import Capability, Comparison, Need, Relation, Term
from filigree.model.package import Package, Reason, Script, State
from filigree.model.repositories import (
    IndexCopy,
    IndexFile,
    IndexKind,
    ListedPath,
    Offer,
    Place,
    Refreshed,
    Repository,
)
from filigree.model.signatures import Check, Signatures, SignatureVerdict

INSTALLED, SOURCES, KEYS, LISTS, ARCHIVES, LOG = (
    "/var/whelk/installed", "/etc/whelk/sources", "/etc/whelk/keys", "/var/whelk/lists",
    "/var/whelk/archives", "/var/whelk/log",
)  # fmt: skip
LIMIT = 1 << 20
TOLD = frozenset({Aspect.PRESENCE, Aspect.KIND, Aspect.CONTENT, Aspect.MODE, Aspect.SIZE})


def order(one: str, other: str) -> int:
    """By numbers between dots."""
    keys = [[int(part) for part in version.split(".")] for version in (one, other)]
    return (keys[0] > keys[1]) - (keys[0] < keys[1])


# -- one record -------------------------------------------------------------------------------


def package_of(told: Mapping[str, Any], state: State, **more: Any) -> Package:
    chosen = told.get("chosen")
    reason = None if chosen is None else Reason.CHOSEN if chosen else Reason.DEPENDENCY
    return Package(
        told["name"], told["version"], "any", "whelk", state, reason=reason,
        summary=told.get("summary"), installed_size=told.get("size"),
        fields={"record": json.dumps(told)}, **more,
    )  # fmt: skip


def told_of(package: Package) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(package.fields["record"])
    return found


def needs_of(told: Mapping[str, Any]) -> tuple[Need, ...]:
    return tuple(
        Need(kind, term_of(text), text)
        for field, kind in (
            ("needs", Relation.REQUIRES), ("replaces", Relation.REPLACES),
            ("conflicts", Relation.CONFLICTS),
        )
        for text in told.get(field, ())
    )  # fmt: skip


def term_of(text: str) -> Term:
    for sign in (Comparison.AT_LEAST, Comparison.PREFIX, Comparison.EQUAL):
        name, found, version = text.partition(sign.value)
        if found:
            return Term(name, sign, version)
    return Term(text)


def capabilities_of(told: Mapping[str, Any]) -> tuple[Capability, ...]:
    own = Capability(told["name"], told["version"])
    return (own, *(Capability(name) for name in told.get("provides", ())))


def files_of(told: Mapping[str, Any]) -> list[FileRecord]:
    return [
        FileRecord(
            path, path, Kind.FILE, one["digest"], one["size"], one["mode"],
            config=one.get("config", False),
        )
        for path, one in told["files"].items()
    ]  # fmt: skip


# -- signed in two members ---------------------------------------------------------------------


class Signed:
    """What stands in the second member, and what the first says of who signed it."""

    def __init__(self, source: Bytes) -> None:
        try:
            self._head, self._body = gzip_members(source, 2)
            front = gzip.decompress(source.at(0, self._head.size))
            self.told: dict[str, Any] = json.loads(
                gzip.decompress(source.at(self._body.start, self._body.size))
            )
            self.by: dict[str, str] = json.loads(front)
        except (UnpackError, ValueError, OSError) as error:
            raise DatabaseError(f"it is not two members: {error}") from error
        self._source = source

    def signature(self, keys: Sequence[Key]) -> Signatures:
        if "key" not in self.by:
            return Signatures(SignatureVerdict.NONE, reason="it is not signed")
        signed = part_of(self._source, self._body.start, self._body.size)
        return judge_by_name(
            signed, bytes.fromhex(self.by["signature"]), "sha256", self.by["key"], keys
        )


class WhelkArchive:
    aspects = TOLD

    def __init__(self, source: Bytes, path: str, _: Report) -> None:
        self._source = source
        self._signed = Signed(source)
        self._told = self._signed.told
        self.package = package_of(self._told, State.ARCHIVE, archive_size=source.size)
        self.facts = ArchiveFacts(path, source.size, "whelk", "gzip")

    def digest(self, algorithm: str) -> str:
        digest = hashlib.new(algorithm)
        for piece in part_of(self._source, 0):
            digest.update(piece)
        return f"{algorithm}:{digest.hexdigest()}"

    def expected(self) -> list[FileRecord]:
        return files_of(self._told)

    files = expected

    def signature(
        self, keys: Sequence[Key], now: datetime, beside: bytes | None = None
    ) -> Signatures:
        del now, beside  # a bare key has no time, and it carries its signature itself
        return self._signed.signature(keys)

    def checks(self) -> list[Check]:
        return []

    def listing(self) -> Listing:
        return PathListing(list(self._told["files"]))

    def configuration(self) -> list[FileRecord]:
        return [one for one in self.expected() if one.config]

    def needs(self) -> tuple[Need, ...]:
        return needs_of(self._told)

    def capabilities(self) -> tuple[Capability, ...]:
        return capabilities_of(self._told)

    def scripts(self) -> tuple[Script, ...]:
        return ()

    def fields(self) -> Mapping[str, str]:
        return self.package.fields


class WhelkArchives:
    recognises_whole = None

    def recognises(self, head: bytes) -> bool:
        return head.startswith(b"\x1f\x8b") and b"whelk" in head[:64]

    def parts_of_name(self, name: str) -> NameParts | None:
        front, _, version = name.removesuffix(".whelk").rpartition("-")
        return NameParts(front, version, "any") if name.endswith(".whelk") else None

    def name_of(self, package: Package) -> str:
        return f"{package.name}-{package.version}.whelk"

    open = WhelkArchive


# -- the system --------------------------------------------------------------------------------


class Rules:
    marks: frozenset[str] = frozenset()
    machines = ("any",)
    keeping = frozenset({Relation.REQUIRES})

    def satisfies(self, asked: Asked, provided: Provided) -> bool:
        return term_is_met(asked.term, provided.capability, order)

    def forbids(self, kind: Relation, asked: Asked, provided: Provided) -> bool:
        return conflicts(kind, asked.term, asked.asker, provided.holder, provided.capability, order)

    def rivals(self, one: Package, other: Package) -> str | None:
        return f"only one version of {one.name} can be there" if one is not other else None

    def machine_of(self, package: Package) -> str:
        return package.architecture

    def stays(self, package: Package) -> bool:
        return package.protected


class History:
    arrivals = True

    def __init__(self, tree: Tree) -> None:
        self._tree = tree

    def events(self, names: Iterable[str] | None = None) -> Iterator[Event]:
        for line in (self._tree.read_or_none(LOG, LIMIT) or b"").decode().splitlines():
            at, what, name, version = line.split()
            if names is None or name in names:
                moment = datetime.fromtimestamp(int(at), UTC)
                yield Event(moment, Action(what), name, version, "any", LOG)


class Database(DatabaseDefaults):
    aspects = TOLD
    architecture = "any"
    rules = Rules()
    kept_endings = (".kept",)

    def __init__(self, tree: Tree, report: Report) -> None:
        self.tree = tree
        self.report = report
        try:
            rows = json.loads(tree.read(INSTALLED, LIMIT))
            self._packages = [package_of(row, State.INSTALLED) for row in rows]
        except (ValueError, KeyError, TypeError) as error:
            raise DatabaseError(f"it makes no sense: {error}", INSTALLED) from error
        self.history = History(tree)

    def takes_place(self, one: Package, other: Package) -> bool:
        return other.name in told_of(one).get("replaces", ())

    def packages(self) -> Sequence[Package]:
        return self._packages

    def listings(self) -> Iterator[tuple[Package, Listing]]:
        return ((package, self.listing(package)) for package in self._packages)

    def listing(self, package: Package) -> Listing:
        return PathListing(list(told_of(package)["files"]))

    def path_count(self, package: Package) -> int:
        return len(told_of(package)["files"])

    def files(self, package: Package) -> list[FileRecord]:
        return files_of(told_of(package))

    def configuration(self, package: Package) -> list[FileRecord]:
        return [one for one in self.files(package) if one.config]

    def needs(self, package: Package) -> tuple[Need, ...]:
        return needs_of(told_of(package))

    def capabilities(self, package: Package) -> tuple[Capability, ...]:
        return capabilities_of(told_of(package))

    def scripts(self, package: Package) -> tuple[Script, ...]:
        return tuple(Script(name, None) for name in told_of(package).get("scripts", ()))

    def fields(self, package: Package) -> Mapping[str, str]:
        return package.fields

    def script_texts(self, package: Package) -> Iterator[str]:
        return iter(told_of(package).get("scripts", ()))

    def place_of(self, package: Package) -> str:
        del package  # all are in one file
        return INSTALLED

    def keeper_of(self, path: str) -> Package | None:
        return next((one for one in self._packages if path == f"/var/whelk/{one.name}"), None)

    def archive_folders(self) -> Sequence[str]:
        return (ARCHIVES,)

    def index_folders(self) -> Sequence[str]:
        return (LISTS,)


# -- what is offered ----------------------------------------------------------------------------


class Configured:
    native = "any"
    key_place = KEYS

    def __init__(self, tree: Tree, report: Report, judging: Judging) -> None:
        self._tree = tree
        self._report = report
        self._judging = judging
        self._keys = Keys(tree, report, judging.keyring)

    @cached_property
    def _held(self) -> list[Key]:
        names = names_in(self._tree, KEYS, self._report)
        return [key for name in sorted(names) for key in self._keys.held(f"{KEYS}/{name}")]

    def root_keys(self) -> Sequence[RootKey]:
        names = tuple(one.identity for one in self.all())
        return [RootKey(key, f"it lies in {KEYS}", names, True) for key in self._held]

    @property
    def _judges(self) -> list[Key]:
        return self._held if self._keys.own is None else self._keys.own

    def all(self) -> list[Repository]:
        return self._all

    @cached_property
    def _all(self) -> list[Repository]:
        lines = (self._tree.read_or_none(SOURCES, LIMIT) or b"").decode().splitlines()
        found = [(line, f"{SOURCES}:{number}") for number, line in enumerate(lines, 1) if line]
        found += [(address, ADDED) for address in self._judging.copies.addresses]
        return [self._repository(*one, number) for number, one in enumerate(found, 1)]

    def _repository(self, address: str, where: str, number: int) -> Repository:
        name = address.rstrip("/").rpartition("/")[2]
        copy = best_of(
            self._copy(tree, folder, name) for tree, folder in self._shelves(name, address)
        )
        return Repository(
            identity=name, name=name, enabled=True, addresses=(address,), suite=None,
            component=None, architecture=None, priority=number, configured_in=where, copy=copy,
            must_be_signed=True, facts={"priority_from": f"it is number {number}"},
        )  # fmt: skip

    def _shelves(self, name: str, address: str) -> Iterator[tuple[Tree, str]]:
        yield self._tree, LISTS
        if self._judging.copies.copies is not None:
            yield self._judging.copies.copies, f"/{copies_folder(name, (address,))}"

    def _copy(self, tree: Tree, folder: str, name: str) -> IndexCopy | None:
        path = f"{folder}/{name}.list"
        data = tree.read_or_none(path, LIMIT)
        if data is None:
            return None
        own = tree is not self._tree
        try:
            signed = Signed(MemoryBytes(data))
        except DatabaseError as error:
            self._report(Gap(path, error.what))
            return None
        made = datetime.fromtimestamp(signed.told["made_at"], UTC)
        file = IndexFile(
            IndexKind.PACKAGES, path, f"sha256:{hashlib.sha256(data).hexdigest()}", False, own
        )
        return IndexCopy(
            path, len(data), len(signed.told["packages"]), made, None, None,
            signed.signature(self._judges), None, listed=file, own=own,
            files=(file._replace(kind=IndexKind.PATHS),),
        )  # fmt: skip

    def refresh(self, repository: Repository, fetch: Fetch, paths: bool) -> Refreshed:
        del paths  # they stand in the same list
        got = fetch.get(f"{repository.addresses[0]}/{repository.identity}.list", LIMIT)
        with open(got, "rb") as file:
            signed = Signed(MemoryBytes(file.read()))
        signature = signed.signature(self._judges)
        refused = why_refused(signature, True)
        if refused is None:
            folder = copies_folder(repository.identity, repository.addresses)
            fetch.keep(got, f"/{folder}/{repository.identity}.list")
        made = datetime.fromtimestamp(signed.told["made_at"], UTC)
        return Refreshed(signature, made, None, refused)


class Sources(IndexReader):
    any_machine = "any"
    compare = staticmethod(order)

    def __init__(self, database: Database, judging: Judging) -> None:
        super().__init__(
            database.tree, database.report, Configured(database.tree, database.report, judging),
            judging,
        )  # fmt: skip

    @cached_property
    def readers(self) -> Mapping[IndexKind, Reader]:
        return {
            IndexKind.PACKAGES: self._told(
                lambda row: [
                    Offer(row["name"], row["version"], "any", row["summary"], None, json.dumps(row),
                          tuple(("provides", name) for name in row.get("provides", ())))
                ]
            ),
            IndexKind.PATHS: self._told(
                lambda row: [ListedPath(path, row["name"]) for path in row["files"]]
            ),
        }  # fmt: skip

    def _told(self, items: Callable[[Mapping[str, Any]], list[Any]]) -> Reader:
        def read(file: IndexFile, _: Report) -> Iterator[Any]:
            data = self._tree_of(file).read(file.path, LIMIT)
            for row in Signed(MemoryBytes(data)).told["packages"]:
                yield from items(row)

        return read

    def package(self, record: str, repository: str, _brief: bool) -> Package | None:
        row = json.loads(record)
        return package_of(row, State.AVAILABLE, repository=repository, archive_size=row["packed"])

    def needs(self, row: OfferRow) -> tuple[Need, ...]:
        return needs_of(json.loads(row.record))

    def capabilities(self, row: OfferRow) -> tuple[Capability, ...]:
        return capabilities_of(json.loads(row.record))

    def fields(self, row: OfferRow) -> Mapping[str, str]:
        return {"record": row.record}

    def place(self, row: OfferRow, repository: Repository) -> Place:
        told = json.loads(row.record)
        name = f"{told['name']}-{told['version']}.whelk"
        return Place(f"{repository.addresses[0]}/{name}", told["packed"], told["digest"])

    def holder(self, package: Package) -> str:
        return package.name

    def named(self, holder: str) -> tuple[str, str | None, str | None]:
        return holder, None, None

    def barred(self, *_: object) -> str | None:
        return None

    def choices(self, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
        return choices_by_number(installed, offered, Numbers(order, 99))


class WhelkFamily:
    name = "whelk"
    url_types = ("whelk",)
    epoch_apart = False
    digests = ("sha256",)
    places = ("/var/whelk/", "/etc/whelk/")
    silent_on: Mapping[str, str] = {
        "record_signature": "this family's records are unsigned; a signed archive would prove them",
        "moved": "this family knows no diversions",
        "advisories": "this family's repositories do not tell what is for security",
        "groups": "this family has no groups",
        "held": "this family holds nothing back",
        "license": "a record has no room for one",
    }
    rests_on: Mapping[str, str] = dict.fromkeys(
        ("packages", "state", "reason", "paths", "content", "aspects", "config", "needs"),
        f"`{INSTALLED}`",
    ) | {
        "archives": "both members", "offers": f"the lists in `{LISTS}`", "order": "numbers between dots",
        "paths_offered": "the same lists", "offers_signature": "the first member of a list",
        "keys": f"the public keys in `{KEYS}`", "choice": f"the order of `{SOURCES}`",
        "history": f"`{LOG}`",
    }  # fmt: skip
    archives = WhelkArchives()

    def looked_for(self) -> Iterable[str]:
        return (INSTALLED,)

    def recognises(self, tree: Tree) -> bool:
        return tree.exists(INSTALLED)

    def open(self, tree: Tree, report: Report) -> Database:
        return Database(tree, report)

    def sources(self, database: Database, judging: Judging) -> Sources:
        return Sources(database, judging)

    split_version = staticmethod(split_version)
    compare_versions = order = staticmethod(order)
    sort_key = None


FAMILY = WhelkFamily()
