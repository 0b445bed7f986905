"""Finds families: our own by name, those of other distributions by the entry point group.

A distribution adds a family by an entry point in the group `filigree.families` that names an object
which satisfies `protocol.Family`.
"""

from collections.abc import Iterator
from importlib import import_module

from filigree.access.roots import RecordsOfFamilies
from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Archive, ArchiveFamily, Family, Report
from filigree.formats.random_access import Bytes
from filigree.formats.unpacking import compression_of
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, BadQuestion, NoSystem, NotAnArchive
from filigree.model.hints import Hint

GROUP = "filigree.families"
_OWN = {
    "deb": "filigree.families.deb", "rpm": "filigree.families.rpm", "arch": "filigree.families.arch",
    "slackware": "filigree.families.slackware", "apk": "filigree.families.apk",
}  # fmt: skip
_HEAD = 512
_LONGER = 192 << 10
"""What is packed as a whole shows what it is only once its first block is unpacked."""


def families() -> Iterator[Family]:
    """Every family, our own first; those from elsewhere are loaded only when ours are exhausted."""
    for module in _OWN.values():
        yield import_module(module).FAMILY
    from importlib.metadata import entry_points

    for entry in entry_points(group=GROUP):
        yield entry.load()


def family_of(tree: Tree) -> Family:
    """The family of a root. Raises NoSystem, with all that was looked for, where there is none."""
    looked: list[str] = []
    for family in families():
        if family.recognises(tree):
            return family
        looked += (f"{path} ({family.name})" for path in family.looked_for())
    hidden = [
        why for family in families() for path in family.looked_for() if (why := _hidden(tree, path))
    ]
    raise NoSystem(
        "no package database of a known family is below this root; looked for "
        + "; ".join([", ".join(looked), *dict.fromkeys(hidden)]),
        tree.root,
        Hint.NAME_THE_TOP,
    )


def family_or_none(tree: Tree, report: Report) -> Family:
    """As `family_of`; but an image may have no record at all: then that is reported as a gap, and so is
    what other families have there."""
    try:
        found = family_of(tree)
    except NoSystem as error:
        if tree.layered is None:
            raise
        report(Gap(tree.root, error.what))
        return family_named("none")
    for other, path in _others(tree, found):
        # Whoever puts records of another family there would have its own overlooked.
        report(Gap(path, f"records of the {other} family lie there, too: they were not looked at"))
    return found


def _others(tree: Tree, found: Family) -> Iterator[tuple[str, str]]:
    """Which other families of ours have records there, and where."""
    for module in _OWN.values():
        family: Family = import_module(module).FAMILY
        if family.name != found.name:
            place = next((path for path in family.looked_for() if _is_there(tree, path)), None)
            if place is not None and family.recognises(tree):
                yield family.name, place


def _is_there(tree: Tree, path: str) -> bool:
    try:
        return tree.observe(path) is not None
    except AccessError:
        return False


def _hidden(tree: Tree, path: str) -> str | None:
    """Why nobody can tell whether anything is at a path; None where that was told."""
    try:
        tree.observe(path)
    except AccessError as error:
        return None if error.absent else f"{path}: {error.what}"
    return None


def family_named(name: str) -> Family:
    """The family of that name; `none` is no system at all. Raises BadQuestion where there is none."""
    if name == "none":
        from filigree.families.nothing import FAMILY

        return FAMILY
    for family in families():
        if family.name == name:
            return family
    raise BadQuestion(f"no family is called {name!r}")


def archive_families() -> Iterator[ArchiveFamily]:
    """How every family's archives are read."""
    for family in families():
        if family.archives is not None:
            yield family.archives


def records_of_families() -> RecordsOfFamilies:
    """Where systems of all families keep their records, and how those tell contents."""
    places: dict[str, None] = {}
    digests: dict[str, None] = {}
    for family in families():
        places.update(dict.fromkeys(family.places))
        digests.update(dict.fromkeys(family.digests))
    return RecordsOfFamilies(tuple(places), tuple(sorted(digests)))


def is_archive_name(path: str) -> bool:
    """Whether some family's archives are called so."""
    name = path.rpartition("/")[2]
    if "." not in name:
        return False  # told without loading every family: most paths are no archives
    return any(family.parts_of_name(name) is not None for family in archive_families())


def open_archive(source: Bytes, path: str, report: Report) -> Archive:
    """An archive of whatever family, told by its contents. Raises DatabaseError."""
    head = source.at(0, _HEAD)
    for size in (_HEAD, _LONGER) if compression_of(head) != "none" else (_HEAD,):
        start = source.at(0, size)
        for family in archive_families():
            if family.recognises(start):
                return family.open(source, path, report)
    for family in archive_families():
        if head and family.recognises_whole is not None and family.recognises_whole(source):
            return family.open(source, path, report)
    raise NotAnArchive(
        "it is empty" if not head else "it is no archive of a known family",
        path,
        "check that it was fetched whole",
    )
