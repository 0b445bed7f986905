"""Logs of a family below a root: with those that were rotated, and packed."""

from collections.abc import Callable, Collection, Iterable, Iterator

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Report
from filigree.families.shared.indexes import unpacked_pieces
from filigree.families.shared.looking import names_in
from filigree.formats.change_logs import Logged
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, words_of
from filigree.model.events import Event

LOG_LIMIT = 256 << 20
Reader = Callable[[bytes, Collection[str] | None], Iterable[Logged]]


def logged(
    tree: Tree, path: str, read: Reader, names: Collection[str] | None, report: Report
) -> Iterator[Event]:
    """What a log tells of packages of these names, or of all."""
    folder, _, called = path.rpartition("/")
    for name in names_in(tree, folder, report):
        if name != called and not name.startswith((f"{called}.", f"{called}-")):
            continue
        place = f"{folder}/{name}"
        pieces, size = [], 0
        try:
            for piece in unpacked_pieces(tree, place):
                pieces.append(piece)
                size += len(piece)
                if size > LOG_LIMIT:
                    report(Gap(place, f"what follows after {LOG_LIMIT:,} bytes was not read"))
                    break
        except (AccessError, UnpackError) as error:
            report(Gap(place, words_of(error)))
        for one in read(b"".join(pieces), names):
            yield Event(one.at, one.action, one.name, one.version, one.architecture, place)


class LoggedHistory:
    """A history that a family writes as a log."""

    def __init__(self, tree: Tree, path: str, read: Reader, report: Report) -> None:
        self._tree = tree
        self._path = path
        self._read = read
        self._report = report

    def events(self, names: Collection[str] | None = None) -> Iterator[Event]:
        return logged(self._tree, self._path, self._read, names, self._report)
