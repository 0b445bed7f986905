"""Systems of the `deb` family."""

from collections.abc import Iterable, Mapping
from functools import cached_property
from typing import TYPE_CHECKING

from filigree.access.trees.protocol import Tree
from filigree.families.deb.places import STATUS, STATUS_PARTS
from filigree.families.protocol import ArchiveFamily, Family, Judging, Report, Sources
from filigree.families.shared.common_places import COMMON
from filigree.formats.deb.versions import compare_versions, sort_key
from filigree.formats.version_parts import split_version

if TYPE_CHECKING:
    from filigree.families.deb.database import DebDatabase


class DebFamily:
    """Packages recorded in stanzas, their paths in lists, their digests beside those."""

    name = "deb"
    url_types = ("deb",)
    epoch_apart = False
    digests = ("md5",)
    places = (
        *COMMON,
        "/var/lib/dpkg/", "/var/lib/apt/", "/usr/share/keyrings/", "/usr/share/debsig/",
        "/var/log/dpkg.log",
    )  # fmt: skip
    silent_on: Mapping[str, str] = {
        "size": "this family's database does not record the size of a file",
        "mode": "this family's database records no mode, but for declared overrides",
        "owner": "this family's database records no owner, but for declared overrides",
        "link-target": "this family's database does not record where a link points",
        "license": "this family's record names none; see the files of role license",
        "record_signature": (
            "this family's records are unsigned: whoever could change a file could change its record; "
            "an archive whose digest a signed index tells would prove it"
        ),
        "built_at": "this family's record does not say",
    }

    @cached_property
    def rests_on(self) -> Mapping[str, str]:
        """What each thing that it knows rests on; loaded where that is told."""
        from filigree.families.deb.grounds import RESTS_ON

        return RESTS_ON

    @cached_property
    def archives(self) -> ArchiveFamily | None:
        """How its archives are read; loaded where one is asked for."""
        from filigree.families.deb.archive import DebArchives

        return DebArchives()

    def looked_for(self) -> Iterable[str]:
        return (STATUS, STATUS_PARTS)

    def recognises(self, tree: Tree) -> bool:
        return tree.exists(STATUS) or tree.is_directory(STATUS_PARTS)

    def open(self, tree: Tree, report: Report) -> "DebDatabase":
        from filigree.families.deb.database import DebDatabase

        return DebDatabase(tree, report)

    def sources(self, database: "DebDatabase", judging: Judging) -> Sources:
        from filigree.families.deb.sources import DebSources

        return DebSources(database, judging)

    split_version = staticmethod(split_version)
    compare_versions = order = staticmethod(compare_versions)
    sort_key = staticmethod(sort_key)


FAMILY: Family = DebFamily()
