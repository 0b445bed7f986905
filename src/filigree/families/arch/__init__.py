"""Systems of the `arch` family."""

from collections.abc import Iterable, Mapping
from functools import cached_property
from typing import TYPE_CHECKING

from filigree.access.trees.protocol import Tree
from filigree.families.arch.places import LOCAL
from filigree.families.protocol import ArchiveFamily, Family, Judging, Report, Sources
from filigree.families.shared.common_places import COMMON
from filigree.formats.arch.versions import compare_versions, sort_key
from filigree.formats.version_parts import split_version

if TYPE_CHECKING:
    from filigree.families.arch.database import ArchDatabase


class ArchFamily:
    """Packages recorded in a folder each: fields in blocks, paths, and a listing of every file."""

    name = "arch"
    url_types = ("alpm",)
    epoch_apart = False
    digests = ("md5", "sha256")
    places = (*COMMON, "/var/lib/pacman/", "/usr/share/pacman/", "/var/log/pacman.log")  # fmt: skip
    silent_on: Mapping[str, str] = {
        "vendor": "this family's record names the packager alone",
        "build_host": "this family's record does not say",
        "capabilities": "this family's listing does not record the capabilities of a file",
        "advisories": "this family's repositories do not tell what is for security",
        "record_signature": (
            "this family's records are unsigned: whoever could change a file could change its record; "
            "a signed archive would prove it"
        ),
    }

    @cached_property
    def rests_on(self) -> Mapping[str, str]:
        """What each thing that it knows rests on; loaded where that is told."""
        from filigree.families.arch.grounds import RESTS_ON

        return RESTS_ON

    @cached_property
    def archives(self) -> ArchiveFamily | None:
        """How its archives are read; loaded where one is asked for."""
        from filigree.families.arch.archive import ArchArchives

        return ArchArchives()

    def looked_for(self) -> Iterable[str]:
        return (LOCAL,)

    def recognises(self, tree: Tree) -> bool:
        return tree.is_directory(LOCAL)

    def open(self, tree: Tree, report: Report) -> "ArchDatabase":
        from filigree.families.arch.database import ArchDatabase

        return ArchDatabase(tree, report)

    def sources(self, database: "ArchDatabase", judging: Judging) -> Sources:
        from filigree.families.arch.sources import ArchSources

        return ArchSources(database, judging)

    split_version = staticmethod(split_version)
    compare_versions = order = staticmethod(compare_versions)
    sort_key = staticmethod(sort_key)


FAMILY: Family = ArchFamily()
