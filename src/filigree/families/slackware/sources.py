"""What a `slackware` system could install."""

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property

from filigree.families.protocol import Judging, OfferRow, Reader, Report
from filigree.families.shared import matching
from filigree.families.shared.choosing import Numbers, choices_by_number
from filigree.families.shared.indexes import IndexReader
from filigree.families.slackware import described, offers, places
from filigree.families.slackware.database import SlackwareDatabase, needs_told
from filigree.families.slackware.lists import Lists, archive_path
from filigree.families.slackware.scripts import digest_of_tree, scripts_in
from filigree.formats.slackware.changes import LoggedChange, read_changes
from filigree.formats.slackware.names import split_label
from filigree.formats.slackware.versions import compare_versions, sure_order
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap
from filigree.model.choices import Choice, Offering
from filigree.model.errors import AccessError, words_of
from filigree.model.needs import Capability, Need
from filigree.model.package import Package
from filigree.model.repositories import (
    IndexFile,
    IndexKind,
    Offer,
    Place,
    Repository,
)

_LAST = 1 << 20
_PER_REPOSITORY = 100


class SlackwareSources(IndexReader):
    """Reads the configuration and the copies of lists once, for one question."""

    any_machine = "noarch"
    compare = staticmethod(compare_versions)

    def __init__(self, database: SlackwareDatabase, judging: Judging) -> None:
        configured = database.repositories(judging)
        super().__init__(database.tree, database.report, configured, judging)
        self._configured = configured

    def digest_of(self, file: IndexFile) -> str | None:
        if file.path == places.BUILD_SCRIPTS:
            return digest_of_tree(self._tree, file.path, self._report)
        return super().digest_of(file)

    def kind_of_machine(self, package: Package) -> str:
        anywhere = (*described.ANYWHERE, described.SOURCE)
        return matching.machine_of(package.architecture, self._configured.native, anywhere)

    # -- what lists tell -------------------------------------------------------------------

    @cached_property
    def readers(self) -> Mapping[IndexKind, Reader]:
        return {
            IndexKind.PACKAGES: self._offers,
            IndexKind.PATHS: self._reader(offers.read_paths),
            IndexKind.ADVISORIES: lambda file, _: offers.read_advisories(self._told(file)),
            IndexKind.CHANGES: lambda file, _: offers.read_builds(self._told(file)),
        }

    def _offers(self, file: IndexFile, report: Report) -> Iterator[Offer]:
        if file.path == places.BUILD_SCRIPTS:
            for fields in scripts_in(self._tree, file.path, report):
                offer = offers.script_offer(fields)
                if offer is not None:
                    yield offer
        elif file.path.endswith(places.SCRIPT_LIST):
            yield from offers.read_scripts(self._pieces(file))
        else:
            yield from offers.read_offers(self._pieces(file), file.path, report)

    def _told(self, file: IndexFile) -> Iterator[LoggedChange]:
        """The changes of a list; what is told of everything in a directory, of each package in it."""
        lists = Lists(self._tree_of(file), file.path.rpartition("/")[0], self._report, file.own)
        every: list[str] | None = None
        for one in read_changes(self._pieces(file)):
            if not one.path.endswith("/*"):
                yield one
                continue
            if every is None:
                every = [archive_path(stanza) for stanza in lists.usable_stanzas()]
            place = f"/{one.path[:-1].removeprefix('./')}"
            yield from (one._replace(path=path) for path in every if place in path)

    # -- packages --------------------------------------------------------------------------

    def package(self, record: str, repository: str, *_: bool) -> Package | None:
        return offers.package_offered(record, repository)

    def needs(self, row: OfferRow) -> tuple[Need, ...]:
        texts = offers.needs_in(row.record)
        if texts is None:
            self._report_needs(row.package.repository or "")
            return ()
        return needs_told(texts, row.package, self._report)

    def _report_needs(self, repository: str) -> None:
        self._report(Gap(f"what packages of {repository} need", "its lists do not tell it"))

    def capabilities(self, row: OfferRow) -> tuple[Capability, ...]:
        return described.capabilities_of(row.package)

    def fields(self, row: OfferRow) -> Mapping[str, str]:
        return row.package.fields

    def place(self, row: OfferRow, repository: Repository) -> Place:
        path = offers.path_in(row.record)
        lists = self._configured.lists_of(repository)
        if path is None or lists is None:
            return Place(None, None, None)
        base = repository.addresses[0].rstrip("/") if repository.addresses else None
        unsafe = ".." in path.split("/")
        return Place(
            f"{base}/{path.removeprefix('./')}" if base and not unsafe else None,
            lists.sizes.get(path),
            lists.promised.get(path),
        )

    def holder(self, package: Package) -> str:
        return described.called(package)

    def named(self, holder: str) -> tuple[str, str | None, str | None]:
        label = split_label(holder)
        if label is None:
            return holder, None, None
        return label.name, label.full_version, label.architecture

    def barred(self, *_: object) -> str | None:
        """What is left out stays as it is: nothing that is offered is never taken."""
        return None

    def choices(self, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
        numbers = Numbers(compare_versions, _LAST, self._number, self.order)
        return choices_by_number(installed, offered, numbers)

    def _number(self, one: Offering) -> int:
        """By the repository, and within it by the part that the archive lies in."""
        base = (one.repository.priority or 0) * _PER_REPOSITORY
        location = one.package.fields.get("PACKAGE LOCATION", "")
        words = [word for word in location.split("/") if word not in ("", ".")]
        parts = self._configured.parts
        return base + (parts.index(words[0]) if words and words[0] in parts else len(parts))

    # -- order -----------------------------------------------------------------------------

    def order(self, here: Package, other: Package) -> int | None:
        """Sure where both are builds of one version by one hand, or the list of changes has both."""
        sure = sure_order(here.version, other.version)
        if sure is not None:
            return sure
        mine, theirs = (self._ages.get(described.called(one)) for one in (here, other))
        if mine is None or theirs is None or mine == theirs:
            return None
        return -1 if mine > theirs else 1

    @cached_property
    def _ages(self) -> dict[str, int]:
        """How far down in a list of changes each build stands: the newest stand first."""
        found: dict[str, int] = {}
        for repository in self._configured.all():
            files = repository.copy.files if repository.copy else ()
            for file in (one for one in files if one.kind is IndexKind.CHANGES):
                digest = self.digest_of(file)
                if digest is None:
                    continue
                try:
                    told = offers.read_builds(self._told(file._replace(digest=digest)))
                    for number, (label, _) in enumerate(told):
                        found.setdefault(label, number)
                except (AccessError, UnpackError) as error:
                    self._report(Gap(file.path, words_of(error)))
        return found
