"""Systems of the `rpm` family."""

from collections.abc import Iterable, Mapping
from functools import cached_property
from typing import TYPE_CHECKING

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import ArchiveFamily, Family, Judging, Report, Sources
from filigree.families.rpm import places
from filigree.families.rpm.finding import database_paths
from filigree.families.shared.common_places import COMMON
from filigree.formats.rpm.versions import compare_versions, sort_key
from filigree.formats.version_parts import split_version

if TYPE_CHECKING:
    from filigree.families.rpm.database import RpmDatabase


class RpmFamily:
    """Packages recorded as whole headers, in one of three containers."""

    name = "rpm"
    url_types = ("rpm",)
    epoch_apart = True
    digests = ("md5", "sha256")
    places = (
        *COMMON,
        "/var/lib/rpm/", "/usr/lib/sysimage/", "/usr/share/rpm/", "/var/lib/dnf/", "/var/lib/yum/",
        "/var/lib/alternatives/", "/var/cache/dnf/", "/var/cache/libdnf5/", "/var/log/dnf.rpm.log",
        "/var/log/yum.log",
    )  # fmt: skip
    silent_on: Mapping[str, str] = {}

    @cached_property
    def rests_on(self) -> Mapping[str, str]:
        """What each thing that it knows rests on; loaded where that is told."""
        from filigree.families.rpm.grounds import RESTS_ON

        return RESTS_ON

    @cached_property
    def archives(self) -> ArchiveFamily | None:
        """How its archives are read; loaded where one is asked for."""
        from filigree.families.rpm.archive import RpmArchives

        return RpmArchives()

    def looked_for(self) -> Iterable[str]:
        return tuple(
            f"{folder}/{name}" for folder in places.DATABASES for name in places.CONTAINERS
        )

    def recognises(self, tree: Tree) -> bool:
        return bool(database_paths(tree))

    def open(self, tree: Tree, report: Report) -> "RpmDatabase":
        from filigree.families.rpm.database import RpmDatabase

        return RpmDatabase(tree, report)

    def sources(self, database: "RpmDatabase", judging: Judging) -> Sources:
        from filigree.families.rpm.sources import RpmSources

        return RpmSources(database, judging)

    split_version = staticmethod(split_version)
    compare_versions = order = staticmethod(compare_versions)
    sort_key = staticmethod(sort_key)


FAMILY: Family = RpmFamily()
