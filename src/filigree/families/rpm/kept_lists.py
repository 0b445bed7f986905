"""The list of indexes that a copy of a repository was made of."""

from filigree.access.trees.protocol import Tree
from filigree.formats.rpm.repomd import SIZE_LIMIT, RepoMd, XmlError, read_repomd
from filigree.model.errors import AccessError


def list_in(tree: Tree | None, folder: str | None) -> RepoMd | None:
    """The list of indexes that lies in a folder; None where there is none that can be read."""
    if tree is None or folder is None:
        return None
    try:
        data = tree.read_or_none(f"{folder}/repomd.xml", SIZE_LIMIT)
        return read_repomd(data) if data is not None else None
    except (AccessError, XmlError):
        return None
