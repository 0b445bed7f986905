"""Layers laid over each other: the tree that comes of it, in the form of a recorded tree.

Rules, before the code that keeps them (OCI image specification 1.1, layer.md, "Applying changesets"):

- What a layer hides goes first, of what lies below: then what it brings is laid down, whatever the
  order in the layer. A directory over a directory changes its form alone; anything else takes the place
  of what was there, with all that was in it.
- A directory that no entry tells of is made where a path needs it. Where links stand in its place it is
  where they lead, inside the root.
- A hard link is the file that it leads to, in this layer or below.
"""

import sqlite3
import stat
from collections.abc import Iterator, Sequence
from contextlib import closing
from typing import NamedTuple

from filigree.access.trees.directories import LINK_LIMIT
from filigree.access.trees.recorded_form import (
    COLUMNS,
    INSERT,
    SELECT,
    VERSION,
    Recorded,
    finish,
    make_form,
    split,
)

_BROUGHT = "SELECT 1 FROM layer.entries WHERE parent = ? AND name = ?"
_MADE = stat.S_IFDIR | 0o755
_COPIED = ", ".join(f"e.{name}" for name in COLUMNS[2:-3])


_JOURNAL = f"""
CREATE TEMP TABLE touched (parent BLOB, name BLOB, PRIMARY KEY (parent, name)) WITHOUT ROWID;
CREATE TEMP TABLE below AS SELECT * FROM entries WHERE 0;
CREATE UNIQUE INDEX temp.below_at ON below (parent, name);
CREATE INDEX content_at ON entries (source, place);
CREATE TEMP TRIGGER gone AFTER DELETE ON main.entries BEGIN
    INSERT INTO touched SELECT OLD.parent, OLD.name
        WHERE NOT EXISTS (SELECT 1 FROM touched WHERE parent = OLD.parent AND name = OLD.name);
    INSERT INTO below SELECT {", ".join(f"OLD.{name}" for name in COLUMNS)}
        WHERE NOT EXISTS (SELECT 1 FROM below WHERE parent = OLD.parent AND name = OLD.name);
END;
CREATE TEMP TRIGGER come AFTER INSERT ON main.entries BEGIN
    INSERT INTO touched SELECT NEW.parent, NEW.name
        WHERE NOT EXISTS (SELECT 1 FROM touched WHERE parent = NEW.parent AND name = NEW.name);
END;
"""
"""What a layer changes is noted by the store itself, whatever rule changed it: the first row that goes
is how it was below. Triggers take the outer statement's way out of conflicts, hence NOT EXISTS."""


class RowChange(NamedTuple):
    """A path as it was below a layer, and as it is with it; `hides` is whether no other path has the
    content that it had."""

    path: bytes
    before: Recorded | None
    after: Recorded | None
    hides: bool


class Overlay:
    """The tree in the making, a layer at a time, the lowest first. With a journal, what each changes is
    noted."""

    def __init__(self, path: str, journal: bool = False) -> None:
        self._made = make_form(path)
        self._made.execute("ATTACH ':memory:' AS other")
        self._made.execute(
            "CREATE TABLE other.real (parent BLOB PRIMARY KEY, real BLOB) WITHOUT ROWID"
        )
        self._made.execute("CREATE TABLE tricks (layer INTEGER, path BLOB, why TEXT)")
        self._layer = 0
        self._journal = journal
        self._real: dict[bytes, bytes | None] = {}
        self._put(b"", _made_here(0))
        if journal:
            self._made.execute("PRAGMA recursive_triggers = ON")  # what is replaced is deleted, too
            self._made.executescript(_JOURNAL)
            self._made.execute("INSERT INTO about VALUES ('whole', ?)", (str(VERSION),))

    def changes(self) -> Iterator[RowChange]:
        """What the layer that was laid last changed, by path. What it made and unmade is none."""
        told = ", ".join(f"b.{name}" for name in COLUMNS[2:])
        now = ", ".join(f"e.{name}" for name in COLUMNS[2:])
        rows = self._made.execute(
            f"SELECT t.parent, t.name, b.layer IS NOT NULL AND b.layer != ?, {told}, {now},"
            " NOT EXISTS (SELECT 1 FROM entries x WHERE x.source = b.source AND x.place = b.place)"
            " FROM touched t LEFT JOIN below b ON b.parent = t.parent AND b.name = t.name"
            " LEFT JOIN entries e ON e.parent = t.parent AND e.name = t.name ORDER BY 1, 2",
            (self._layer,),
        )
        wide = len(COLUMNS) - 2
        for parent, name, below, *rest in rows:
            before = Recorded(*rest[:wide]) if below else None
            after = None if rest[wide] is None else Recorded(*rest[wide : 2 * wide])
            if before is not None or after is not None:
                path = parent + b"/" + name if name else b""
                yield RowChange(path, before, after, bool(before and rest[-1]))

    def finish(self) -> None:
        """Say that it is whole."""
        finish(self._made)

    def close(self) -> None:
        """Let go of it as it is."""
        self._made.close()

    def lay(self, layer: int, path: str) -> None:
        """Lay the record of a layer over what is there."""
        self._layer = layer
        self._real = {}
        if self._journal:
            self._made.execute("DELETE FROM touched")
            self._made.execute("DELETE FROM below")
            self._made.commit()
        self._made.execute("ATTACH ? AS layer", (path,))
        try:
            self._hide()
            for parents in self._by_depth():
                self._lay(parents)
            self._join()
            self._made.execute("INSERT INTO tricks SELECT ?, path, why FROM layer.tricks", (layer,))
            self._made.commit()
        finally:
            self._made.execute("DETACH layer")

    # -- what is hidden --------------------------------------------------------------------

    def _hide(self) -> None:
        rows = self._made.execute("SELECT parent, name FROM layer.hidden").fetchall()
        for parent, name in rows:
            real = self._resolved(parent)
            if real is None or self._is_new(parent):
                continue
            if name:
                self._take(real, name)
            else:
                self._empty(real)
        self._real = {}

    def _is_new(self, path: bytes) -> bool:
        """Whether this layer puts a directory of its own where something else leads elsewhere."""
        while path:
            here = self._made.execute(_BROUGHT, split(path)).fetchone()
            row = self._row(path)
            if here is not None and row is not None and stat.S_ISLNK(row.mode):
                return True
            path = split(path)[0]
        return False

    def _take(self, parent: bytes, name: bytes) -> None:
        """Take away a path, with all that lies in it."""
        self._made.execute("DELETE FROM entries WHERE parent = ? AND name = ?", (parent, name))
        self._empty(parent + b"/" + name)

    def _empty(self, directory: bytes) -> None:
        self._made.execute(
            "DELETE FROM entries WHERE (parent = ? AND name != x'') OR (parent > ? AND parent < ?)",
            (directory, directory + b"/", directory + b"0"),
        )

    # -- what it brings --------------------------------------------------------------------

    def _by_depth(self) -> list[list[bytes]]:
        """The directories that it speaks of, by how deep they are."""
        found = self._made.execute(
            "SELECT DISTINCT parent FROM layer.entries UNION SELECT DISTINCT parent FROM layer.joined"
        )
        by_depth: dict[int, list[bytes]] = {}
        for (parent,) in found.fetchall():
            by_depth.setdefault(parent.count(b"/"), []).append(parent)
        return [by_depth[depth] for depth in sorted(by_depth)]

    def _lay(self, parents: Sequence[bytes]) -> None:
        """All paths of one depth: those above them are there by now."""
        moved = [(parent, self._directory(parent)) for parent in parents]
        self._made.execute("DELETE FROM other.real")
        self._made.executemany("INSERT INTO other.real VALUES (?, ?)", moved)
        self._clear()
        if b"" in parents:  # the root's own form
            self._made.execute(
                f"INSERT OR REPLACE INTO entries SELECT x'', x'', {_COPIED}, ?, ?, e.place"
                " FROM layer.entries e WHERE e.parent = x'' AND e.name = x''"
                f" AND (e.mode & {0o170000}) = {stat.S_IFDIR}",
                (self._layer, self._layer),
            )
        self._made.execute(
            f"INSERT OR REPLACE INTO entries SELECT r.real, e.name, {_COPIED}, ?, ?, e.place"
            " FROM other.real r JOIN layer.entries e ON e.parent = r.parent WHERE e.name != x''",
            (self._layer, self._layer),
        )

    def _clear(self) -> None:
        """What stands in the way: a directory where something else comes."""
        rows = self._made.execute(
            "SELECT r.real, e.name FROM other.real r JOIN layer.entries e ON e.parent = r.parent"
            " JOIN entries m ON m.parent = r.real AND m.name = e.name"
            f" WHERE (m.mode & {0o170000}) = {stat.S_IFDIR} AND (e.mode & {0o170000}) != {stat.S_IFDIR}"
        ).fetchall()
        for parent, name in rows:
            if name:
                self._take(parent, name)

    def _directory(self, path: bytes) -> bytes:
        """The real path of a directory that a path of this layer lies in; made where it is missing."""
        missing: list[bytes] = []
        while (real := self._resolved(path)) is None and path:
            missing.append(path)
            path = split(path)[0]
        real = real or b""
        for path in reversed(missing):
            real += b"/" + split(path)[1]
            row = self._row(real)
            if row is not None and not stat.S_ISDIR(row.mode):
                self._take(*split(real))
                self._trick(path, "something lies in what is no directory")
            if row is None or not stat.S_ISDIR(row.mode):
                self._put(real, _made_here(self._layer))
            self._real[path] = real
        return real

    def _resolved(self, path: bytes) -> bytes | None:
        """The real path of a directory, links resolved; None where there is none."""
        if path in self._real:
            return self._real[path]
        above, name = split(path)
        parent = self._real.get(above) if name not in (b"", b".", b"..") else None
        if parent is not None:  # most are asked for after the one that they lie in
            row = self._row(parent + b"/" + name)
            if row is not None and stat.S_ISDIR(row.mode):
                self._real[path] = real = parent + b"/" + name
                return real
        pending = path.split(b"/")
        pending.reverse()
        real, links = b"", 0
        while pending:
            name = pending.pop()
            if name in (b"", b"."):
                continue
            if name == b"..":
                real = real.rpartition(b"/")[0]
                continue
            child = real + b"/" + name
            row = self._row(child)
            if row is not None and stat.S_ISLNK(row.mode):
                links += 1
                if links > LINK_LIMIT:
                    return None
                target = row.target or b""
                if target.startswith(b"/"):
                    real = b""
                pending.extend(reversed(target.split(b"/")))
            elif row is not None and stat.S_ISDIR(row.mode):
                real = child
            else:
                return None
        self._real[path] = real
        return real

    # -- hard links ------------------------------------------------------------------------

    def _join(self) -> None:
        left: Sequence[tuple[bytes, bytes, bytes]] = self._made.execute(
            "SELECT parent, name, target FROM layer.joined"
        ).fetchall()
        while left:  # one may lead to another
            waiting = [row for row in left if not self._joined(*row)]
            if len(waiting) == len(left):
                break
            left = waiting
        for parent, name, _ in left:
            self._trick(parent + b"/" + name, "a hard link that leads to nothing")

    def _joined(self, parent: bytes, name: bytes, target: bytes) -> bool:
        above, last = split(target)
        real = self._resolved(above)
        row = None if real is None else self._row(real + b"/" + last)
        if row is None or stat.S_ISDIR(row.mode):
            return False
        here = self._directory(parent)
        there = self._row(here + b"/" + name)
        if there is not None and stat.S_ISDIR(there.mode):
            self._take(here, name)
        self._put(here + b"/" + name, row._replace(layer=self._layer))
        return True

    # -- rows ------------------------------------------------------------------------------

    def _row(self, real: bytes) -> Recorded | None:
        found = self._made.execute(SELECT, split(real)).fetchone()
        return None if found is None else Recorded(*found)

    def _put(self, real: bytes, row: Recorded) -> None:
        self._made.execute(INSERT, (*split(real), *row[: len(COLUMNS) - 2]))

    def _trick(self, path: bytes, why: str) -> None:
        self._made.execute("INSERT INTO tricks VALUES (?, ?, ?)", (self._layer, path, why))


def _made_here(layer: int) -> Recorded:
    """A directory that no entry tells of."""
    return Recorded(
        mode=_MADE, uid=0, gid=0, size=0, modified=0, changed=0, inode=0, device=0, target=None,
        capabilities=None, md5=None, sha1=None, sha256=None, layer=layer, source=layer, place=-1,
    )  # fmt: skip


def tricks_of(path: str) -> list[tuple[int, bytes, str]]:
    """The paths of layers that were told, and not taken as they say."""
    with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as made:
        return made.execute("SELECT layer, path, why FROM tricks").fetchall()
