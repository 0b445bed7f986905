"""What an `rpm` system could install."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property, lru_cache

from filigree.families.protocol import Judging, Kept, OfferRow, Reader
from filigree.families.rpm import offers, places
from filigree.families.rpm.choosing import choices, excluded
from filigree.families.rpm.database import RpmDatabase, capabilities_told, needs_told
from filigree.families.rpm.module_streams import followed_streams, needs_written
from filigree.families.rpm.policy import main_words, words_of
from filigree.families.shared.expressions import Expressions, Told
from filigree.families.shared.indexes import IndexReader
from filigree.families.shared.looking import names_in, read_or_report
from filigree.formats.patterns import glob
from filigree.formats.rpm.modules import Default, read_modules
from filigree.formats.rpm.repo_files import read_sections
from filigree.formats.rpm.versions import compare_versions
from filigree.formats.version_parts import split_version
from filigree.model.choices import Choice, Offering
from filigree.model.needs import Capability, Need
from filigree.model.package import Package
from filigree.model.repositories import (
    IndexKind,
    Place,
    Repository,
)


class RpmSources(IndexReader):
    """Reads the configuration and the copies of indexes once, for one question."""

    any_machine = "noarch"
    compare = staticmethod(compare_versions)

    def __init__(self, database: RpmDatabase, judging: Judging) -> None:
        configured = database.repositories(judging)
        super().__init__(database.tree, database.report, configured, judging)
        self._opened = lru_cache(maxsize=64)(offers.told_in)
        self._globs: dict[str, Expressions] = {}
        self._follows: tuple[dict[str, str], dict[str, str]] | None = None

    # -- what indexes tell -----------------------------------------------------------------

    @cached_property
    def readers(self) -> Mapping[IndexKind, Reader]:
        return {
            IndexKind.PACKAGES: self._plain_reader(offers.read_offers),
            IndexKind.PATHS: self._plain_reader(offers.read_paths),
            IndexKind.ADVISORIES: self._plain_reader(offers.read_advisories),
            IndexKind.GROUPS: self._plain_reader(offers.read_groups),
            IndexKind.CHANGES: self._plain_reader(offers.read_changes),
            IndexKind.STREAMS: self._plain_reader(read_streams),
        }

    # -- packages --------------------------------------------------------------------------

    def package(self, record: str, repository: str, *_: bool) -> Package | None:
        return offers.package_offered(offers.told_in(record), repository)

    def _relations(self, record: str) -> Callable[[str], Iterable[tuple[str, int, str]]]:
        relations = self._opened(record).relations
        return lambda kind: relations.get(kind, ())

    def needs(self, row: OfferRow) -> tuple[Need, ...]:
        return needs_told(self._relations(row.record), row.package, self._report)

    def capabilities(self, row: OfferRow) -> tuple[Capability, ...]:
        return capabilities_told(self._relations(row.record), row.package, self._report)

    def fields(self, row: OfferRow) -> Mapping[str, str]:
        return offers.fields_of(self._opened(row.record))

    def place(self, row: OfferRow, repository: Repository) -> Place:
        return offers.place_of(self._opened(row.record), repository.addresses)

    def holder(self, package: Package) -> str:
        return offers.holder_text(package.name, package.version, package.architecture)

    def named(self, holder: str) -> tuple[str, str | None, str | None]:
        name, version, architecture = holder.split("\t")
        return name, version, architecture

    # -- choosing --------------------------------------------------------------------------

    def barred(self, package: Package, repository: Repository, kept: Kept) -> str | None:
        facts = repository.facts
        pattern = excluded(package, self._excluded) or excluded(
            package, self._named(repository, "excluded")
        )
        if pattern is not None:
            return f"the configuration leaves out {pattern}"
        included = self._named(repository, "included")
        if words_of(facts, "included") and excluded(package, included) is None:
            return "the configuration takes only other packages from there"
        return self._not_followed(package, kept) if facts.get("streams") else None

    def _not_followed(self, package: Package, kept: Kept) -> str | None:
        """Why what is of a stream is not taken; None where it is of none, or of one that is followed."""
        told = kept(IndexKind.STREAMS, _stream_key(package))
        if not told:
            return None
        if self._follows is None:
            self._follows = followed_streams(self._enabled, kept(IndexKind.STREAMS, ""))
        followed, lacking = self._follows
        for one in told:
            module, _, stream = one.partition(":")
            if followed.get(module) == stream:
                if one in lacking:
                    return f"its stream {one} needs {lacking[one]}, which is not followed here"
                return None
        return f"it is of the stream {told[0]}, which is not followed here"

    @cached_property
    def _enabled(self) -> dict[str, str]:
        """The stream that is followed, by module; empty where it is switched off."""
        found = {}
        for name in names_in(self._tree, places.STREAMS, self._report):
            if name.endswith(".module"):
                path = f"{places.STREAMS}/{name}"
                sections, _ = read_sections(read_or_report(self._tree, path, self._report))
                for section in sections:
                    state = section.values.get("state", "")
                    if state in ("enabled", "1", "disabled", "0"):
                        on = state in ("enabled", "1")
                        found[section.name] = section.values.get("stream", "") if on else ""
        return found

    @cached_property
    def _excluded(self) -> Expressions:
        """What the configuration as a whole leaves out."""
        words = main_words(self._tree, self._report, "exclude", "excludepkgs")
        told = (Told(word, "the configuration") for word in words)
        return Expressions(told, glob, "what is left out", self._report)

    def _named(self, repository: Repository, fact: str) -> Expressions:
        """The globs of a setting of a repository, made sense of once."""
        words = repository.facts.get(fact, "")
        if words not in self._globs:
            told = (
                Told(word, repository.configured_in) for word in words_of(repository.facts, fact)
            )
            what = f"what is {fact} of {repository.identity}"
            self._globs[words] = Expressions(told, glob, what, self._report)
        return self._globs[words]

    def choices(self, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
        return choices(installed, offered)


def _stream_key(package: Package) -> str:
    """How a package is named where streams are told."""
    epoch, version, release = split_version(package.version)
    return f"{package.name}-{epoch or 0}:{version}-{release}.{package.architecture}"


def read_streams(pieces: Iterator[bytes]) -> Iterator[tuple[str, str]]:
    """Streams, by the packages that are of them; by no name the defaults, and what streams need."""
    for one in read_modules(pieces):
        if isinstance(one, Default):
            yield "", f"{one.module}:{one.stream}"
        else:
            yield from ((archive, f"{one.module}:{one.stream}") for archive in one.archives)
            yield from (("", text) for text in needs_written(one))
