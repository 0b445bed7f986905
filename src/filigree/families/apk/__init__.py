"""Systems of the `apk` family."""

from collections.abc import Iterable, Mapping
from functools import cached_property
from typing import TYPE_CHECKING

from filigree.access.trees.protocol import Tree
from filigree.families.apk import places
from filigree.families.protocol import ArchiveFamily, Family, Judging, Report, Sources
from filigree.families.shared.common_places import COMMON
from filigree.formats.apk.versions import compare_versions, order, sort_key, split_version

if TYPE_CHECKING:
    from filigree.families.apk.database import ApkDatabase


class ApkFamily:
    """Packages recorded in one file: fields of a letter each, and the paths of each package."""

    name = "apk"
    url_types = ("apk",)
    epoch_apart = False
    digests = ("sha1", "sha256")
    places = (
        *COMMON, "/lib/apk/", "/usr/lib/apk/", "/usr/share/apk/", "/var/cache/apk/", places.LOG,
    )  # fmt: skip
    silent_on: Mapping[str, str] = {
        "vendor": "this family's record names the maintainer alone",
        "build_host": "this family's record does not say",
        "installed_at": "this family's record does not say when a package came",
        "section": "this family has no sections",
        "capabilities": "this family records the attributes of a file by a digest alone",
        "moved": "this family knows no diversions, and leaves nothing out",
        "paths_offered": "this family's indexes do not tell the paths of what is offered",
        "groups": "this family has no groups",
        "advisories": "this family's indexes do not tell what is for security",
        "record_signature": (
            "this family's records are unsigned: whoever could change a file could change its record; "
            "a signed archive would prove it"
        ),
    }

    @cached_property
    def rests_on(self) -> Mapping[str, str]:
        """What each thing that it knows rests on; loaded where that is told."""
        from filigree.families.apk.grounds import RESTS_ON

        return RESTS_ON

    @cached_property
    def archives(self) -> ArchiveFamily | None:
        """How its archives are read; loaded where one is asked for."""
        from filigree.families.apk.archive import ApkArchives

        return ApkArchives()

    def looked_for(self) -> Iterable[str]:
        return (f"{folder}/{places.INSTALLED}" for folder in places.RECORDS)

    def recognises(self, tree: Tree) -> bool:
        return any(tree.exists(path) for path in self.looked_for())

    def open(self, tree: Tree, report: Report) -> "ApkDatabase":
        from filigree.families.apk.database import ApkDatabase

        return ApkDatabase(tree, report)

    def sources(self, database: "ApkDatabase", judging: Judging) -> Sources:
        from filigree.families.apk.sources import ApkSources

        return ApkSources(database, judging)

    split_version = staticmethod(split_version)
    compare_versions = staticmethod(compare_versions)
    order = staticmethod(order)
    sort_key = staticmethod(sort_key)


FAMILY: Family = ApkFamily()
