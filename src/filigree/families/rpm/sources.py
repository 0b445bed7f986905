"""What an `rpm` system could install."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property, lru_cache

from filigree.access.jail import Jail
from filigree.families.protocol import FetchedCopies, Report
from filigree.families.rpm import offers, places
from filigree.families.rpm.choosing import choices, excluded
from filigree.families.rpm.database import capabilities_told, needs_told
from filigree.families.rpm.module_streams import followed_streams, needs_written
from filigree.families.rpm.policy import main_words, words_of
from filigree.families.rpm.repositories import RpmRepositories
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
    Advisory,
    Change,
    Group,
    IndexFile,
    ListedPath,
    Offer,
    Place,
    Repository,
)


class RpmSources(IndexReader):
    """Reads the configuration and the copies of indexes once, for one question."""

    any_machine = "noarch"
    compare = staticmethod(compare_versions)

    def __init__(
        self, jail: Jail, report: Report, configured: RpmRepositories, own: FetchedCopies
    ) -> None:
        super().__init__(jail, report, configured, own)
        self._opened = lru_cache(maxsize=64)(offers.told_in)
        self._globs: dict[str, Expressions] = {}
        self._follows: tuple[Sequence[str], tuple[dict[str, str], dict[str, str]]] | None = None

    # -- what indexes tell -----------------------------------------------------------------

    def offers(self, file: IndexFile, report: Report) -> Iterator[Offer]:  # noqa: ARG002
        return offers.read_offers(self._pieces(file))

    def paths(self, file: IndexFile, report: Report) -> Iterator[ListedPath]:  # noqa: ARG002
        return offers.read_paths(self._pieces(file))

    def advisories(self, file: IndexFile, report: Report) -> Iterator[Advisory]:  # noqa: ARG002
        return offers.read_advisories(self._pieces(file))

    def groups(self, file: IndexFile, report: Report) -> Iterator[Group]:  # noqa: ARG002
        return offers.read_groups(self._pieces(file))

    def changes(self, file: IndexFile, report: Report) -> Iterator[tuple[str, Change]]:  # noqa: ARG002
        return offers.read_changes(self._pieces(file))

    def streams(self, file: IndexFile, report: Report) -> Iterator[tuple[str, str]]:  # noqa: ARG002
        for one in read_modules(self._pieces(file)):
            if isinstance(one, Default):
                yield "", f"{one.module}:{one.stream}"
            else:
                yield from ((archive, f"{one.module}:{one.stream}") for archive in one.archives)
                yield from (("", text) for text in needs_written(one))

    # -- packages --------------------------------------------------------------------------

    def package(self, record: str, repository: str, brief: bool = False) -> Package | None:  # noqa: ARG002
        return offers.package_offered(offers.told_in(record), repository)

    def _relations(self, record: str) -> Callable[[str], Iterable[tuple[str, int, str]]]:
        relations = self._opened(record).relations
        return lambda kind: relations.get(kind, ())

    def needs(self, package: Package, record: str) -> tuple[Need, ...]:
        return needs_told(self._relations(record), package, self._report)

    def capabilities(self, package: Package, record: str) -> tuple[Capability, ...]:
        return capabilities_told(self._relations(record), package, self._report)

    def fields(self, package: Package, record: str) -> Mapping[str, str]:  # noqa: ARG002
        return offers.fields_of(self._opened(record))

    def place(self, record: str, repository: Repository) -> Place:
        return offers.place_of(self._opened(record), repository.addresses)

    def stream_key(self, package: Package) -> str | None:
        epoch, version, release = split_version(package.version)
        return f"{package.name}-{epoch or 0}:{version}-{release}.{package.architecture}"

    def holder(self, package: Package) -> str:
        return offers.holder_text(package.name, package.version, package.architecture)

    def held(self, holder: str) -> tuple[str, str | None, str | None]:
        name, version, architecture = holder.split("\t")
        return name, version, architecture

    # -- choosing --------------------------------------------------------------------------

    def barred(
        self, package: Package, repository: Repository, told: Sequence[str], defaults: Sequence[str]
    ) -> str | None:
        facts = repository.facts
        pattern = excluded(package, self._excluded) or excluded(
            package, self._named(repository, "excluded")
        )
        if pattern is not None:
            return f"the configuration leaves out {pattern}"
        included = self._named(repository, "included")
        if words_of(facts, "included") and excluded(package, included) is None:
            return "the configuration takes only other packages from there"
        if not told or not facts.get("streams"):
            return None
        if self._follows is None or self._follows[0] is not defaults:
            self._follows = (defaults, followed_streams(self._enabled, defaults))
        followed, lacking = self._follows[1]
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
        for name in names_in(self._jail, places.STREAMS, self._report):
            if name.endswith(".module"):
                path = f"{places.STREAMS}/{name}"
                sections, _ = read_sections(read_or_report(self._jail, path, self._report))
                for section in sections:
                    state = section.values.get("state", "")
                    if state in ("enabled", "1", "disabled", "0"):
                        on = state in ("enabled", "1")
                        found[section.name] = section.values.get("stream", "") if on else ""
        return found

    @cached_property
    def _excluded(self) -> Expressions:
        """What the configuration as a whole leaves out."""
        words = main_words(self._jail, self._report, "exclude", "excludepkgs")
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
