"""The records of packages of a `deb` system: in one file, or a file each as minimal images keep them."""

from collections.abc import Callable, Iterator
from datetime import datetime

from filigree.access.trees.protocol import Tree
from filigree.families.deb import places
from filigree.families.deb.stanza import package_of
from filigree.families.protocol import Report
from filigree.families.shared.damaged import report_damages
from filigree.families.shared.looking import names_in
from filigree.families.shared.not_a_package import NotAPackage
from filigree.formats.damage import Damage
from filigree.formats.stanzas import Stanza, read_stanzas
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, DatabaseError
from filigree.model.package import Package, Reason

ListTime = Callable[[str, str], datetime | None]
"""When the list of the paths of a package, by name and architecture, was written."""


def read_packages(tree: Tree, report: Report, list_time: ListTime) -> list[Package]:
    """Every package on record. Raises DatabaseError where no place of the records can be read."""
    automatic = _automatic(tree, report)
    found: list[Package] = []
    places_read = 0
    why = "there is no such file"
    for path in _status_files(tree, report):
        try:
            for stanza in _stanzas(tree, path, report):
                found += _packages(stanza, path, automatic, list_time, report)
            places_read += 1
        except AccessError as error:
            report(Gap(path, error.what))
            why = error.what
    if not places_read:
        raise DatabaseError(
            f"the package database cannot be read: {why}",
            places.STATUS,
            "run as a user who may read it, or check that the disk is mounted whole",
        )
    if not found:
        report(Gap(places.STATUS, "the package database is empty"))
    return found


def _status_files(tree: Tree, report: Report) -> list[str]:
    files = [places.STATUS] if tree.exists(places.STATUS) else []
    parts = names_in(tree, places.STATUS_PARTS, report)
    return files + [
        f"{places.STATUS_PARTS}/{name}" for name in parts if not name.endswith(".md5sums")
    ]


def _stanzas(tree: Tree, path: str, report: Report) -> Iterator[Stanza]:
    """The stanzas of a file; what is damaged is reported."""
    for stanza in read_stanzas(_whole_lines(tree, path, report)):
        if isinstance(stanza, Damage):
            report_damages(report, path, [stanza])
        else:
            report_damages(report, path, stanza.damages)
            yield stanza


def _whole_lines(tree: Tree, path: str, report: Report) -> Iterator[bytes]:
    """A file in pieces; reports one that ends in the middle of a line."""
    last = b"\n"
    for piece in tree.pieces(path):
        last = piece or last
        yield piece
    if not last.endswith(b"\n"):
        report(Gap(path, "it ends in the middle of a line: it may have been cut off"))


def _packages(
    stanza: Stanza,
    path: str,
    automatic: frozenset[str] | None,
    list_time: ListTime,
    report: Report,
) -> Iterator[Package]:
    """The package of a stanza; none where it describes none, which is reported."""
    fields = stanza.fields
    name = fields.get("Package") or ""
    architecture = fields.get("Architecture") or ""
    reason = None
    if automatic is not None:
        # A package for all architectures is marked under the system's own.
        mark = name if architecture == "all" else f"{name}:{architecture}"
        reason = Reason.DEPENDENCY if mark in automatic else Reason.CHOSEN
    try:
        yield package_of(fields, reason, list_time(name, architecture))
    except NotAPackage as error:
        report_damages(report, path, [Damage(stanza.line, str(error))])


def _automatic(tree: Tree, report: Report) -> frozenset[str] | None:
    """`name` and `name:architecture` of every dependency; None where nothing tells."""
    if not tree.exists(places.AUTOMATIC):
        return None
    marked = set()
    try:
        for stanza in read_stanzas(tree.pieces(places.AUTOMATIC)):
            if isinstance(stanza, Damage):
                report_damages(report, places.AUTOMATIC, [stanza])
            elif stanza.fields.get("Auto-Installed") == "1":
                name = stanza.fields.get("Package") or ""
                marked |= {name, f"{name}:{stanza.fields.get('Architecture')}"}
    except AccessError as error:
        report(Gap(places.AUTOMATIC, error.what))
        return None
    return frozenset(marked)
