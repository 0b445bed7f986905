"""What the repositories of a system offer, out of the copies of their indexes that may be believed."""

import fnmatch
import hashlib
import json
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from functools import cached_property
from typing import TYPE_CHECKING, Any, Protocol, TypeVar

from filigree.access.jail import Jail
from filigree.access.private_folder import make_private
from filigree.access.store import BlobTable, KeptOffer, OfferTable, PathTable, Store, Table, keyed
from filigree.families.protocol import Own, Report, Sources
from filigree.families.shared.listing import PathListing
from filigree.formats.keys import Key
from filigree.model.answer import Gap, moment_of
from filigree.model.choices import Choice, Offering
from filigree.model.errors import AccessError, BadQuestion, words_of
from filigree.model.files import Aspect, FileRecord, Kind
from filigree.model.limits import why_too_long
from filigree.model.needs import Capability, Need
from filigree.model.package import Package, Script
from filigree.model.repositories import (
    Advisory,
    Change,
    Group,
    IndexFile,
    IndexKind,
    Listed,
    Membership,
    Offer,
    Place,
    Reference,
    Repository,
)
from filigree.questions.asking.keeping import needed_cache, usable_cache
from filigree.questions.asking.scopes import EVERYTHING, RepositoryOptions, Working
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.dependencies.offer_graph import Web

K = TypeVar("K", bound=Table[Any])
T = TypeVar("T")
PACE = 1000
"""After so many items it is told how far it has come."""
_NO_RECORD = KeptOffer(0, "", "", "", None, None, "")
_Descriptions = keyed("descriptions")
_Advisories = keyed("advisories")
_Groups = keyed("groups")
_Changes = keyed("changes")
_Streams = keyed("streams")


class Available:
    """The usable indexes of one system, of all its repositories or of some.

    An enabled index that was never fetched, or that may not be believed, is a gap. It stands for the
    records of the packages that it returns, too.
    """

    aspects: frozenset[Aspect] = frozenset()

    def __init__(self, system: System, options: RepositoryOptions = EVERYTHING) -> None:
        self._system = system
        self._store = Store(usable_cache(system, options.cache), system.report, system.say)
        self._made: dict[tuple[int, int], Package] = {}
        self._known: dict[Package, tuple[Repository, OfferTable, KeptOffer]] = {}
        self._places: dict[Package, tuple[int, int]] = {}
        self._opened: list[Table[Any]] = []
        self.tables: list[tuple[Repository, OfferTable]] = []
        self.unknown: list[str] = []
        self.now = options.now or datetime.now(UTC)
        self.keys_of = "auditor" if options.keyring else "root"
        keys: list[Key] | None = system.own_keys(options.keyring) if options.keyring else None
        self._quiet = options.quiet
        self._working = options.working
        own = own_of(system, options)
        self._read = system.database.sources(self.now, keys, own)
        if self._read is None:
            system.report(Gap("what could be installed", "no repositories of this family are read"))
            return
        for repository in self._chosen(self._read.repositories(), options.repositories):
            if repository.enabled:
                self._open(repository)
        system.offered = self

    @property
    def _sources(self) -> Sources:
        assert self._read is not None, "there are no packages of any repository"
        return self._read

    def _chosen(self, every: Iterable[Repository], wanted: Sequence[str]) -> list[Repository]:
        found = list(every)
        if not wanted:
            return found
        options = [one for one in found if any(is_called(one, name) for name in wanted)]
        self.unknown = [name for name in wanted if not any(is_called(one, name) for one in found)]
        return options

    def _open(self, repository: Repository) -> None:
        copy = repository.copy
        if copy is None or copy.listed is None or not copy.usable:
            why = "; ".join((*repository.remarks, *(copy.remarks if copy else ())))
            gap = Gap(f"what {repository.identity} offers", why or "no copy to believe")
            if not self._quiet:
                self._system.report(gap)
            return
        table = self._table(OfferTable, copy.listed, self._sound_offers)
        self.tables.append((repository, table))

    def _sound_offers(self, file: IndexFile, report: Report) -> Iterator[Offer]:
        """What an index offers, without names and versions that are none."""
        for offer in self._sources.offers(file, report):
            why = why_too_long(offer.name, offer.version, offer.architecture)
            if why is None:
                yield offer
            else:
                report(Gap(f"{file.path}, {offer.name[:80]}", why))

    def _table(self, kind: type[K], file: IndexFile, read: Callable[..., Iterable[Any]]) -> K:
        def items(report: Report) -> Iterator[Any]:
            return self._watched(f"parsing {os.path.basename(file.path)}", read(file, report))

        table = self._store.table(kind, file.digest or "", file.path, items)
        self._opened.append(table)
        return table

    def _watched(self, what: str, items: Iterable[T], total: int = 0) -> Iterator[T]:
        """The items, and now and then word of how many they are."""
        if self._working is None:
            yield from items
            return
        done = 0
        for done, item in enumerate(items, 1):
            yield item
            if done % PACE == 0:
                self._working(Working(what, done, total))
        self._working(Working(what, done, done))

    def _others(
        self,
        kind: IndexKind,
        layout: type[K],
        reader: Callable[[Sources], Callable[..., Iterable[Any]]],
    ) -> list[tuple[Repository, K]]:
        """The tables of other indexes of one kind; one index that several repositories share once."""
        found: dict[str, tuple[Repository, K]] = {}
        for repository, _ in self.tables:
            for file in repository.copy.files if repository.copy else ():
                if file.kind is kind and file.path not in found:
                    digest = self._sources.digest_of(file)
                    if digest is not None:
                        whole = file._replace(digest=digest)
                        table = self._table(layout, whole, reader(self._sources))
                        found[file.path] = repository, table
        return list(found.values())

    @property
    def empty(self) -> bool:
        """Whether there is no index that may be believed."""
        return not self.tables

    def close(self) -> None:
        """Let go of the tables. What was returned can be asked nothing more."""
        self._system.offered = None
        for table in self._opened:
            table.close()

    # -- packages --------------------------------------------------------------------------

    def names(self) -> frozenset[str]:
        """Every name that is offered."""
        return frozenset(name for _, table in self.tables for _, name in table.names())

    def known(self, names: Iterable[str]) -> set[str]:
        """Those of the names that are offered."""
        wanted = list(dict.fromkeys(names))
        return {name for _, table in self.tables for name in table.known(wanted)}

    def packages(self, chooses: Callable[[str], bool] | None = None) -> Iterator[Package]:
        """The packages whose name is chosen, or all; what several indexes offer comes several times."""
        for at, (repository, table) in enumerate(self.tables):
            if chooses is None:
                # Of these there are tens of thousands: none is kept.
                for offer in table.offers():
                    package = self._sources.package(offer.record, repository.identity, brief=True)
                    if package is not None:
                        yield package
                continue
            numbers = [number for number, name in table.names() if chooses(name)]
            yield from self._each(at, table.offers(numbers))

    def called(self, names: Iterable[str]) -> list[Package]:
        """Every offer of these names."""
        wanted = list(dict.fromkeys(names))
        return [
            package
            for at, (_, table) in enumerate(self.tables)
            for package in self._each(at, table.called(wanted))
        ]

    def known_as(self, kind: str, names: Iterable[str]) -> list[tuple[str, Package]]:
        """Every offer that stands under one of these names: that `provides` or `obsoletes` it."""
        wanted = list(dict.fromkeys(names))
        return [
            (name, package)
            for at, (_, table) in enumerate(self.tables)
            for name, offer in table.known_as(kind, wanted)
            for package in self._each(at, (offer,))
        ]

    def holding(self, words: Sequence[str]) -> Iterator[tuple[Package, list[str]]]:
        """Every offer in whose words all of these are found, and the names that it provides.

        ASCII letters of either case; descriptions that are kept apart are not looked into.
        """
        for at, (_, table) in enumerate(self.tables):
            found = list(table.holding(words))
            provided = table.provided({offer.number for offer in found})
            for offer in found:
                for package in self._each(at, (offer,)):
                    yield package, provided.get(offer.number, [])

    def chosen_by(
        self, chooses: Callable[[KeptOffer, Sequence[str]], bool]
    ) -> Iterator[tuple[Package, list[str]]]:
        """Every offer that is chosen, by itself and the names that it provides."""
        for at, (_, table) in enumerate(self.tables):
            provided = table.provided()
            for offer in table.offers():
                names = provided.get(offer.number, [])
                if chooses(offer, names):
                    for package in self._each(at, (offer,)):
                        yield package, names

    def confirmed(self, packages: Iterable[Package]) -> set[Package]:
        """Those of the offers, by id, that their index really makes: it is read once more.

        What lies in a table that an earlier run made is that run's word; where more than a hint rests on
        it, the index itself has to say it, whose digest is checked again as it is read.
        """
        found: set[Package] = set()
        by_table: dict[int, list[Package]] = {}
        for package in packages:
            at, _ = self._places[package]
            if self.tables[at][1].kept:
                by_table.setdefault(at, []).append(package)
            else:
                found.add(package)
        for at, asked in by_table.items():
            found |= self._told_again(at, asked)
        return found

    def _told_again(self, at: int, packages: Sequence[Package]) -> set[Package]:
        repository, _ = self.tables[at]
        listed = repository.copy.listed if repository.copy else None
        assert listed is not None
        wanted: dict[tuple[str, str], list[Package]] = {}
        for package in packages:
            offer = self._known[package][2]
            wanted.setdefault((offer.name, offer.record), []).append(package)
        found: set[Package] = set()
        try:
            for told in self._sources.offers(listed, lambda _: None):
                found.update(wanted.get((told.name, told.record), ()))
        except (AccessError, ValueError) as error:
            self._system.report(Gap(listed.path, words_of(error)))
            return set()
        left = sum(package not in found for package in packages)
        if left:
            why = f"{left:,} of what was kept of it is not in it: that is not believed"
            self._system.report(Gap(listed.path, why))
            self._store.forget(OfferTable, listed.digest or "")
        return found

    def _each(self, at: int, offers: Iterable[KeptOffer]) -> Iterator[Package]:
        """The package of each offer: always the same object for the same offer."""
        repository, table = self.tables[at]
        for offer in offers:
            package = self._made.get((at, offer.number))
            if package is None:
                package = self._sources.package(offer.record, repository.identity)
                if package is None:
                    continue
                self._made[at, offer.number] = package
                self._known[package] = repository, table, offer
                self._places[package] = at, offer.number
            yield package

    def repository_of(self, package: Package) -> Repository:
        """The repository that offers a package."""
        return self._known[package][0]

    def place(self, package: Package) -> Place:
        """Where the archive of an offer can be fetched."""
        return self._sources.place(self._record(package), self.repository_of(package))

    def described(self, package: Package) -> Package:
        """A package with its long description, where that is kept apart."""
        key = self._sources.description_key_of(self._record(package))
        if package.description is not None or key is None:
            return package
        for _, table in self._description_tables:
            for _, text in table.of([key]):
                _, _, rest = text.partition("\n")
                lines = ["" if line.strip() == "." else line[1:] for line in rest.split("\n")]
                return replace(package, description="\n".join(lines))
        return package

    @cached_property
    def _description_tables(self) -> list[tuple[Repository, Any]]:
        return self._others(
            IndexKind.DESCRIPTIONS, _Descriptions, lambda sources: sources.descriptions
        )

    def longer_descriptions(self) -> Callable[[KeptOffer], str] | None:
        """What tells the long description of an offer, where those are kept apart."""
        tables = self._description_tables
        if not tables:
            return None
        texts = {key: text for _, table in tables for key, text in table.all()}
        key_of = self._sources.description_key_of
        return lambda offer: texts.get(key_of(offer.record) or "", "")

    # -- choosing --------------------------------------------------------------------------

    def offering(self, package: Package) -> Offering:
        """A package with its repository, and why it is never taken, if it is not."""
        repository = self.repository_of(package)
        key = self._sources.stream_key(package)
        told = [] if key is None else self._streams_of(key)
        defaults = [] if key is None else self._default_streams
        return Offering(
            package, repository, self._sources.barred(package, repository, told, defaults)
        )

    def _streams_of(self, key: str) -> list[str]:
        return [text for _, table in self._stream_tables for _, text in table.of([key])]

    @cached_property
    def _default_streams(self) -> list[str]:
        return self._streams_of("")

    @cached_property
    def _stream_tables(self) -> list[tuple[Repository, Any]]:
        return self._others(IndexKind.STREAMS, _Streams, lambda sources: sources.streams)

    def kind_of_machine(self, package: Package) -> str:
        """What makes packages of one name take each other's place."""
        return self._sources.kind_of_machine(package)

    def choices(
        self, installed: Iterable[Package], offered: Iterable[Package]
    ) -> Iterator[tuple[list[Package], list[Choice]]]:
        """For each name and kind of machine: what is installed of it, and every version."""
        if self._read is None:
            return
        kind = self._read.kind_of_machine
        here: dict[tuple[str, str], list[Package]] = {}
        there: dict[tuple[str, str], list[Offering]] = {}
        for package in installed:
            here.setdefault((package.name, kind(package)), []).append(package)
        for package in offered:
            key = (package.name, kind(package))
            there.setdefault(key, []).append(self.offering(package))
        for key in dict.fromkeys((*here, *there)):
            present = here.get(key, [])
            yield present, self._sources.choices(present, there.get(key, []))

    def order(self, here: Package, other: Package) -> int | None:
        """Negative, 0 or positive as a package is older than another of its name; None for a guess."""
        return self._sources.order(here, other)

    # -- the graph -------------------------------------------------------------------------

    @cached_property
    def web(self) -> "Web":
        """The graph of all that is offered, kept under the digests of all indexes that it is made of."""
        from filigree.questions.dependencies.offer_graph import Web, is_whole, weave

        files = [repository.copy.listed for repository, _ in self.tables if repository.copy]
        told = [file.digest or "" for file in files if file is not None]
        # Who holds a path that is needed is told by indexes of paths.
        told += (
            f"{file.path} {file.digest}"
            for repository, _ in self.tables
            for file in (repository.copy.files if repository.copy else ())
            if file.kind is IndexKind.PATHS
        )
        told.append(self._system.family.name + str(self._system.database.architecture))
        key = hashlib.sha256("\n".join(told).encode("utf-8", "surrogateescape")).hexdigest()
        blobs: dict[str, bytes] = {}
        for _ in range(2):
            table = self._store.table(BlobTable, key, "the graph", lambda _: self._woven())
            self._opened.append(table)
            blobs = table.whole()
            if not blobs or is_whole(blobs):
                break
            self._store.forget(BlobTable, key)
        if not blobs:  # it broke off, and that is a gap: nothing is known to be tied to anything
            blobs = dict(weave((), self._system.database, lambda _: ()))
        return Web(blobs)

    def _woven(self) -> Iterator[tuple[str, bytes]]:
        from filigree.questions.dependencies.offer_graph import Told, weave

        def told() -> Iterator[Told]:
            for at, (repository, table) in enumerate(self.tables):
                for offer in table.offers():
                    package = self._sources.package(offer.record, repository.identity)
                    if package is not None:
                        needs = self._sources.needs(package, offer.record)
                        capabilities = self._sources.capabilities(package, offer.record)
                        yield Told(at, offer.number, package, needs, capabilities)

        def owners(path: str) -> Iterator[tuple[int, int]]:
            return (self.place_of(package) for _, package in self.at(path))

        count = sum(table.count() for _, table in self.tables)
        return weave(
            self._watched("making the graph", told(), count), self._system.database, owners
        )

    def introduce(self, package: Package, table: int) -> None:
        """Let a package of the graph be judged as an offer of an index; its record is not known."""
        repository, offers = self.tables[table]
        self._known[package] = repository, offers, _NO_RECORD

    def at_place(self, table: int, offer: int) -> Package | None:
        """The package of an offer, by the number of its index and its own in there."""
        found = self._each(table, self.tables[table][1].offers([offer]))
        return next(found, None)

    def place_of(self, package: Package) -> tuple[int, int]:
        """The number of the index that offers a package, and its own in there."""
        return self._places[package]

    # -- paths -----------------------------------------------------------------------------

    @cached_property
    def _path_tables(self) -> list[tuple[Repository, PathTable]]:
        return self._others(IndexKind.PATHS, PathTable, lambda sources: sources.paths)

    def report_pathless(self) -> None:
        """Say of which repositories no index of paths is there."""
        told = {repository.identity for repository, _ in self._path_tables}
        for repository, _ in self.tables:
            if repository.identity not in told:
                what = f"the paths that {repository.identity} offers"
                self._system.report(Gap(what, "its index of paths was never fetched"))

    def at(self, path: str) -> list[tuple[Listed, Package]]:
        """The packages that would bring a path."""
        return self._holders(lambda table: table.at(path), path)

    def named(self, name: str) -> list[tuple[Listed, Package]]:
        """The packages that would bring a path whose last part is a name."""
        return self._holders(lambda table: table.named(name))

    def glob(self, pattern: str) -> list[tuple[Listed, Package]]:
        """The packages that would bring a path that a glob matches."""
        return self._holders(lambda table: table.glob(pattern))

    def _holders(
        self,
        ask: Callable[[PathTable], Iterable[Listed]],
        exact: str | None = None,
    ) -> list[tuple[Listed, Package]]:
        """What the indexes of paths tell; and of an exact path what packages tell of themselves."""
        found: dict[tuple[str, str], Listed] = {}
        for _, table in self._path_tables:
            for listed in ask(table):
                found.setdefault((listed.path, listed.holder), listed)
        rows: list[tuple[Listed, Package]] = []
        parts = {holder: self._sources.held(holder) for _, holder in found}
        by_name: dict[str, list[Package]] = {}
        for package in self.called(name for name, _, _ in parts.values()):
            by_name.setdefault(package.name, []).append(package)
        for listed in found.values():
            name, version, architecture = parts[listed.holder]
            rows += (
                (listed, package)
                for package in by_name.get(name, ())
                if version in (None, package.version)
                and architecture in (None, package.architecture)
            )
        if exact is not None:
            told = {(listed.path, package) for listed, package in rows}
            rows += (
                (Listed(path, "", None), package)
                for path, package in self.known_as("path", [exact])
                if (path, package) not in told
            )
        return rows

    # -- what belongs to repositories as a whole -------------------------------------------

    def advisories(self, names: Sequence[str]) -> dict[str, list[Advisory]]:
        """The advisories that speak of packages of these names."""
        found: dict[str, list[Advisory]] = {}
        for _, table in self._advisory_tables:
            for name, text in table.of(names):
                advisory = _advisory_of(text)
                if advisory not in found.setdefault(name, []):
                    found[name].append(advisory)
        return found

    @property
    def tells_advisories(self) -> bool:
        """Whether there is any index of advisories."""
        return bool(self._advisory_tables)

    @cached_property
    def _advisory_tables(self) -> list[tuple[Repository, Any]]:
        def rows(file: IndexFile, report: Any) -> Iterator[tuple[str, str]]:
            for advisory in self._sources.advisories(file, report):
                for name in dict.fromkeys(name for name, _, _ in advisory.fixed):
                    yield name, _text_of(advisory, name)

        return self._others(IndexKind.ADVISORIES, _Advisories, lambda _: rows)

    def groups(self) -> list[tuple[Group, str]]:
        """Every group, with the repository that tells it."""

        def rows(file: IndexFile, report: Any) -> Iterator[tuple[str, str]]:
            for group in self._sources.groups(file, report):
                members = [[name, kind.value] for name, kind in group.members]
                fields = [group.name, group.summary, members, group.groups]
                yield group.identity, json.dumps(fields, ensure_ascii=False)

        found: list[tuple[Group, str]] = []
        for repository, table in self._others(IndexKind.GROUPS, _Groups, lambda _: rows):
            for identity, text in table.all():
                name, summary, members, groups = json.loads(text)
                kinds = tuple((one, Membership(kind)) for one, kind in members)
                group = Group(identity, name, summary, kinds, tuple(groups))
                found.append((group, repository.identity))
        for repository, offers in self.tables:
            told = list(offers.other_names("group"))
            if told:
                names = dict(offers.names())
                pairs = [(group, names[number]) for group, number in told]
                found += (
                    (group, repository.identity) for group in self._sources.groups_told(pairs)
                )
        return found

    def changes(self, package: Package) -> list[Change] | None:
        """What changed in a package, the newest first; None where no index tells."""

        def rows(file: IndexFile, report: Any) -> Iterator[tuple[str, str]]:
            for holder, change in self._sources.changes(file, report):
                at = int(change.at.timestamp()) if change.at else None
                yield holder, json.dumps([at, change.who, change.what], ensure_ascii=False)

        tables = self._others(IndexKind.CHANGES, _Changes, lambda _: rows)
        if not tables:
            return None
        holder = self._sources.holder(package)
        found = dict.fromkeys(text for _, table in tables for _, text in table.of([holder]))
        changes = [Change(moment_of(at), who, what) for at, who, what in map(json.loads, found)]
        return sorted(
            changes, key=lambda one: one.at or datetime.min.replace(tzinfo=UTC), reverse=True
        )

    # -- the records of what is offered ----------------------------------------------------

    def needs(self, package: Package) -> tuple[Need, ...]:
        return self._sources.needs(package, self._record(package))

    def capabilities(self, package: Package) -> tuple[Capability, ...]:
        return self._sources.capabilities(package, self._record(package))

    def fields(self, package: Package) -> Mapping[str, str]:
        return self._sources.fields(package, self._record(package))

    def _record(self, package: Package) -> str:
        return self._known[package][2].record

    def listed(self, package: Package) -> list[Listed]:
        """The paths of a package, by the indexes of paths."""
        holder = self._sources.holder(package)
        found: dict[str, Listed] = {}
        for _, table in self._path_tables:
            for listed in table.held_by(holder):
                found.setdefault(listed.path, listed)
        return sorted(found.values())

    def listing(self, package: Package) -> PathListing:
        return PathListing([listed.path for listed in self.listed(package)])

    def files(self, package: Package) -> list[FileRecord]:
        return [
            FileRecord(one.path, one.path, Kind.DIRECTORY if one.kind == "directory" else None)
            for one in self.listed(package)
        ]

    def configuration(self, package: Package) -> list[FileRecord]:  # noqa: ARG002
        return []

    def scripts(self, package: Package) -> tuple[Script, ...]:  # noqa: ARG002
        return ()


def _text_of(advisory: Advisory, name: str) -> str:
    """An advisory as it is kept for the packages of one name."""
    issued = int(advisory.issued_at.timestamp()) if advisory.issued_at else None
    fixed = [one for one in advisory.fixed if one[0] == name]
    fields = [
        advisory.identity, advisory.kind, advisory.severity, advisory.title, issued,
        advisory.references, fixed,
    ]  # fmt: skip
    return json.dumps(fields, ensure_ascii=False)


def _advisory_of(text: str) -> Advisory:
    identity, kind, severity, title, issued, references, fixed = json.loads(text)
    return Advisory(
        identity, kind, severity, title, moment_of(issued),
        tuple(Reference(*one) for one in references), tuple((n, v, a) for n, v, a in fixed),
    )  # fmt: skip


class Called(Protocol):
    """What has the names of a repository."""

    @property
    def identity(self) -> str: ...

    @property
    def name(self) -> str: ...

    @property
    def suite(self) -> str | None: ...


def is_called(repository: Called, name: str) -> bool:
    """Whether a name, or a glob, is of a repository: of its identity, its name or its suite."""
    texts = (repository.identity, repository.name, repository.suite or "")
    return any(text == name or fnmatch.fnmatchcase(text, name) for text in texts)


COPIES = "copies"


def copies_folder(system: System, cache: str) -> str:
    """Where the copies of indexes lie that were fetched for systems of this family."""
    return os.path.join(cache, COPIES, system.family.name)


def own_of(system: System, options: RepositoryOptions) -> Own:
    """What the auditor adds to the system's configuration: copies, and addresses, fetched first.

    Raises BadQuestion where something is to be fetched and nothing is to be kept.
    """
    if not options.refreshed and not options.addresses:
        return Own()
    if not all(address.strip() for address in options.addresses):
        raise BadQuestion(
            "the address of a repository is empty", None, "give an address or a folder"
        )
    addresses = tuple(options.addresses)
    if addresses or options.cache is None:
        needed_cache(options.cache)
    if options.addresses and not options.quiet:
        from filigree.questions.commands.refresh import bring

        bring(system, options)
    cache = usable_cache(system, options.cache, COPIES, whole=True)
    if cache is None:
        return Own(None, addresses)
    folder = copies_folder(system, cache)
    make_private(folder)
    return Own(Jail(folder), addresses)
