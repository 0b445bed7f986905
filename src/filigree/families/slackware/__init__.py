"""Systems of the `slackware` family."""

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import ArchiveFamily, Family, Judging, Report, Sources
from filigree.families.shared.common_places import COMMON
from filigree.families.slackware.places import RECORDS
from filigree.formats.slackware.versions import compare_versions, sort_key, sure_order
from filigree.formats.version_parts import split_version

if TYPE_CHECKING:
    from filigree.families.slackware.database import SlackwareDatabase


class SlackwareFamily:
    """Packages recorded in a text each: names, sizes, words and paths, and nothing else."""

    name = "slackware"
    url_types = ("slackware",)
    epoch_apart = False
    digests: Sequence[str] = ()
    places = (
        *COMMON,
        "/var/lib/pkgtools/", "/var/log/packages/", "/var/log/scripts/", "/var/log/pkgtools/",
        "/var/lib/slackpkg/", "/root/.gnupg/",
    )  # fmt: skip
    silent_on: Mapping[str, str] = {
        "reason": "this family does not record whether a person asked for a package",
        "needs": (
            "this family does not record what an installed package needs; lists of what is offered may "
            "tell it of the same build"
        ),
        "content": ("this family does not record what files hold; an archive would tell it"),
        "moved": "this family knows no diversions, and leaves nothing out",
        "license": "this family does not record a license",
        "maintainer": "this family's record tells the packager by a tag alone, if at all",
        "built_at": "this family's record does not say",
        "build_host": "this family's record does not say",
        "capabilities": "this family does not record the capabilities of a file",
        "order": (
            "versions of this family have no order of their own: that one is newer is a guess, unless "
            "they are builds of one version by one hand, or the list of changes tells it"
        ),
        "record_signature": (
            "this family's records are unsigned: whoever could change a file could change its record; "
            "an archive that the signed list of digests names would prove it"
        ),
    }

    @cached_property
    def rests_on(self) -> Mapping[str, str]:
        """What each thing that it knows rests on; loaded where that is told."""
        from filigree.families.slackware.grounds import RESTS_ON

        return RESTS_ON

    @cached_property
    def archives(self) -> ArchiveFamily | None:
        """How its archives are read; loaded where one is asked for."""
        from filigree.families.slackware.archive import SlackwareArchives

        return SlackwareArchives()

    def looked_for(self) -> Iterable[str]:
        return RECORDS

    def recognises(self, tree: Tree) -> bool:
        return any(tree.is_directory(folder) for folder in RECORDS)

    def open(self, tree: Tree, report: Report) -> "SlackwareDatabase":
        from filigree.families.slackware.database import SlackwareDatabase

        return SlackwareDatabase(tree, report)

    def sources(self, database: "SlackwareDatabase", judging: Judging) -> Sources:
        from filigree.families.slackware.sources import SlackwareSources

        return SlackwareSources(database, judging)

    split_version = staticmethod(split_version)
    compare_versions = staticmethod(compare_versions)
    order = staticmethod(sure_order)
    sort_key = staticmethod(sort_key)


FAMILY: Family = SlackwareFamily()
