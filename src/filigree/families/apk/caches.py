"""Where an `apk` system keeps what it fetched."""

from collections.abc import Sequence

from filigree.access.trees.protocol import Tree
from filigree.families.apk import places
from filigree.families.protocol import Report
from filigree.model.answer import Gap
from filigree.model.errors import AccessError


def cache_folders(tree: Tree, report: Report) -> Sequence[str]:
    """Where indexes and archives are kept: the usual folder, and the one that a link leads to."""
    folders = [places.CACHE]
    try:
        if tree.is_directory(places.CACHE_LINK):
            folders.append(tree.real_path(places.CACHE_LINK))
    except AccessError as error:
        report(Gap(places.CACHE_LINK, error.what))
    return tuple(dict.fromkeys(folders))
