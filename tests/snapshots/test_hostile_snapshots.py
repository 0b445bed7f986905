"""Snapshots that somebody made to deceive, and damaged ones: what is not sound is never called clean."""

import random
import shutil
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from filigree.access.snapshots.form import TABLES, VERSION
from filigree.access.snapshots.opening import open_snapshot
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, FiligreeError, NoSystem, Obstacle
from filigree.questions.keeping.taking import Taking, snapshot
from filigree.system import open_system
from tests.conftest import Run
from tests.making import DebRoot

Change = Callable[[sqlite3.Connection], Any]


@pytest.fixture(scope="module")
def sound(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A snapshot of a small root. Shared: no test may change it."""
    top = tmp_path_factory.mktemp("sound")
    root = DebRoot(top / "root")
    root.package("chart", files={"/usr/bin/plot": b"chart", "/usr/share/chart/data": b"data"})
    root.package("rope", files={"/usr/bin/rope": b"rope"})
    root.link("usr/bin/again", "plot")
    snapshot(open_system(root.path), str(top / "out"), Taking("a test", "0"))
    return top / "out"


def changed(sound: Path, out: Path, change: Change) -> Path:
    """The same, and something of it is another."""
    shutil.copy(sound, out)
    made = sqlite3.connect(out)
    made.execute("PRAGMA writable_schema = ON")
    change(made)
    made.commit()
    made.close()
    return out


def _sql(*told: str) -> Change:
    return lambda made: [made.execute(one) for one in told]


_PLOT = "name = CAST('plot' AS BLOB)"
_STATUS = "(SELECT sha256 FROM entries WHERE name = CAST('status' AS BLOB))"

NO_SNAPSHOTS: dict[str, Change] = {
    "another table": _sql("CREATE TABLE more (x)"),
    "a table less": _sql("DROP TABLE gaps"),
    "a column more": _sql("ALTER TABLE entries ADD COLUMN more"),
    "a view in the place of a table": _sql(
        "ALTER TABLE unlisted RENAME TO x", "CREATE VIEW unlisted AS SELECT * FROM x"
    ),
    "a view of its own contents": _sql(
        "DROP TABLE gaps", "CREATE VIEW gaps AS SELECT * FROM entries, entries b, entries c"
    ),
    "a trigger": _sql("CREATE TRIGGER t AFTER INSERT ON gaps BEGIN DELETE FROM entries; END"),
    "an index": _sql("CREATE INDEX i ON entries (size)"),
    "a virtual table": _sql("CREATE VIRTUAL TABLE v USING fts5(x)"),
    "an expression as a column": _sql(
        "DROP TABLE changed",
        "CREATE TABLE changed (path BLOB PRIMARY KEY, x AS (zeroblob(9999))) WITHOUT ROWID",
    ),
    "no form": _sql("DELETE FROM about WHERE name = 'form'"),
    "a form that is no number": _sql("UPDATE about SET value = 'x' WHERE name = 'form'"),
    "a form that is no text": _sql("UPDATE about SET value = x'31' WHERE name = 'form'"),
    "form zero": _sql("UPDATE about SET value = '0' WHERE name = 'form'"),
    "a newer form": _sql(f"UPDATE about SET value = '{VERSION + 1}' WHERE name = 'form'"),
    "a form of many digits": _sql(f"UPDATE about SET value = '{'9' * 5000}' WHERE name = 'form'"),
    "a table that is made otherwise": _sql(
        "UPDATE sqlite_master SET sql = replace(sql, 'mode INTEGER', 'mode TEXT') WHERE name = 'entries'"
    ),
    "a schema that makes no sense": _sql("UPDATE sqlite_master SET sql = 'x' WHERE name = 'gaps'"),
    "a root page elsewhere": _sql("UPDATE sqlite_master SET rootpage = 99999 WHERE name = 'about'"),
}
"""What is no snapshot, or none of this form."""


@pytest.mark.parametrize("name", NO_SNAPSHOTS)
def test_what_is_no_snapshot_is_none(sound: Path, tmp_path: Path, name: str) -> None:
    path = changed(sound, tmp_path / "out", NO_SNAPSHOTS[name])
    with pytest.raises(NoSystem) as raised:
        open_snapshot(str(path))
    newer = name in ("a newer form", "a form of many digits")
    assert ("newer" in raised.value.what) is newer


@pytest.mark.parametrize("size", [0, 10, 16, 100, 5000, -1, -4096])
def test_a_snapshot_that_is_cut_off(call: Run, sound: Path, tmp_path: Path, size: int) -> None:
    path = tmp_path / "out"
    path.write_bytes(sound.read_bytes()[:size])
    done = call("verify", "--quiet", "--root", str(path))
    assert done.returncode in (1, 2, 3)


ODD_ROWS: dict[str, str] = {
    "a mode of no kind": "mode = 0",
    "a mode of more bits": "mode = mode + 65536 * 16",
    "a mode below zero": "mode = -1",
    "a mode that is text": "mode = 'x'",
    "a mode that is a fraction": "mode = 33188.5",
    "a size below zero": "size = -5",
    "a size that is bytes": "size = x'00'",
    "an owner below zero": "uid = -1",
    "a group that is text": "gid = 'root'",
    "a digest that is short": "sha256 = x'00'",
    "a digest that is long": "sha256 = zeroblob(33)",
    "a digest that is text": "sha256 = 'x'",
    "another digest that is short": "md5 = x'00'",
    "another digest that is a number": "md5 = 5",
    "a target that is a number": "target = 5",
    "attributes that are bytes": "attributes = x'7b7d'",
    "capabilities that are text": "capabilities = 'x'",
    "another algorithm's digest that is bytes": "other = x'00'",
    "times that are text": "modified = 'yesterday'",
    "an inode that is text": "inode = 'x'",
    "a file system that is text": "file_system = 'x'",
}


@pytest.mark.parametrize("name", ODD_ROWS)
def test_a_row_that_makes_no_sense_is_a_gap(
    call: Run, sound: Path, tmp_path: Path, name: str
) -> None:
    told = f"UPDATE entries SET {ODD_ROWS[name]} WHERE {_PLOT}"
    path = changed(sound, tmp_path / "out", _sql(told))
    tree = open_snapshot(str(path))
    with pytest.raises(AccessError) as raised:
        tree.observe("/usr/bin/plot", "md5")
    assert raised.value.obstacle is Obstacle.FAILED
    assert call("verify", "--quiet", "--root", str(path)).returncode in (1, 3)
    assert call("strays", "--root", str(path)).returncode in (0, 1, 3)


_NOT_COMPARED = ("attributes", "other", "inode", "file_system")


@pytest.mark.parametrize(
    "name", [name for name, told in ODD_ROWS.items() if not told.startswith(_NOT_COMPARED)]
)
def test_what_makes_no_sense_is_not_compared(
    call: Run, sound: Path, tmp_path: Path, name: str
) -> None:
    told = f"UPDATE entries SET {ODD_ROWS[name]} WHERE {_PLOT}"
    path = changed(sound, tmp_path / "out", _sql(told))
    for one, other in ((sound, path), (path, sound)):
        assert call("compare", str(one), str(other)).returncode in (1, 2, 3)
    if name != "a mode of no kind":  # it is the same in both, whatever it is
        assert call("compare", str(path), str(path)).returncode in (2, 3)


LIES: dict[str, Change] = {
    "another content under the digest": _sql(
        f"UPDATE contents SET packed = (SELECT packed FROM contents WHERE sha256 != {_STATUS} LIMIT 1)"
        f" WHERE sha256 = {_STATUS}"
    ),
    "no content": _sql(f"DELETE FROM contents WHERE sha256 = {_STATUS}"),
    "a content that is no text of the packer": _sql(
        f"UPDATE contents SET packed = x'00' WHERE sha256 = {_STATUS}"
    ),
    "a content that is text": _sql(f"UPDATE contents SET packed = 'x' WHERE sha256 = {_STATUS}"),
    "a part that is missing": _sql(f"UPDATE contents SET part = 1 WHERE sha256 = {_STATUS}"),
    "a part below zero": _sql(f"UPDATE contents SET part = -1 WHERE sha256 = {_STATUS}"),
    "a part that is text": _sql(f"UPDATE contents SET part = 'x' WHERE sha256 = {_STATUS}"),
    "a part too many": _sql(
        f"INSERT INTO contents SELECT sha256, 1, packed FROM contents WHERE sha256 = {_STATUS}"
    ),
    "another size": _sql("UPDATE entries SET size = 5 WHERE name = CAST('status' AS BLOB)"),
    "a size beyond all": _sql(
        "UPDATE entries SET size = 9000000000000000000 WHERE name = CAST('status' AS BLOB)"
    ),
    "a digest of nothing": _sql(
        "UPDATE entries SET sha256 = zeroblob(32) WHERE name = CAST('status' AS BLOB)"
    ),
    "no digest": _sql("UPDATE entries SET sha256 = NULL WHERE name = CAST('status' AS BLOB)"),
}


@pytest.mark.parametrize("name", LIES)
def test_a_content_that_is_not_the_files_is_not_read(
    call: Run, sound: Path, tmp_path: Path, name: str
) -> None:
    path = changed(sound, tmp_path / "out", LIES[name])
    tree = open_snapshot(str(path))
    with pytest.raises(AccessError) as raised:
        tree.read("/var/lib/dpkg/status")
    assert not raised.value.absent
    done = call("verify", "--root", str(path))
    assert done.returncode == 2
    assert "the package database cannot be read" in done.stderr


def test_a_bomb_is_bounded(sound: Path, tmp_path: Path) -> None:
    from zstandard import ZstdCompressor

    big = ZstdCompressor().compress(bytes(1 << 28))

    def change(made: sqlite3.Connection) -> None:
        made.execute(f"UPDATE contents SET packed = ? WHERE sha256 = {_STATUS}", (big,))

    tree = open_snapshot(str(changed(sound, tmp_path / "out", change)))
    with pytest.raises(AccessError):
        tree.read("/var/lib/dpkg/status")


NAMES = {
    "a name with a slash": b"a/b", "one that climbs": b"..", "a dot": b".", "one with a zero": b"a\0b",
    "a name that is text": "plot2", "a name that is a number": 5,
}  # fmt: skip


@pytest.mark.parametrize("name", NAMES)
def test_names_that_no_file_can_have(call: Run, sound: Path, tmp_path: Path, name: str) -> None:
    def change(made: sqlite3.Connection) -> None:
        made.execute(f"UPDATE entries SET name = ? WHERE {_PLOT}", (NAMES[name],))

    path = changed(sound, tmp_path / "out", change)
    tree = open_snapshot(str(path))
    with pytest.raises(AccessError):
        tree.names("/usr/bin")
    assert call("strays", "--root", str(path)).returncode in (1, 2, 3)
    assert call("verify", "--quiet", "--root", str(path)).returncode in (1, 3)


def test_directories_in_a_circle_come_to_an_end(call: Run, sound: Path, tmp_path: Path) -> None:
    def change(made: sqlite3.Connection) -> None:
        (number,) = made.execute(
            "SELECT id FROM directories WHERE path = CAST('/usr/bin' AS BLOB)"
        ).fetchone()
        for depth in range(1, 400):
            made.execute(
                "INSERT INTO directories VALUES (?, ?)", (b"/usr/bin" + b"/d" * depth, number)
            )
        made.execute(
            "INSERT INTO entries SELECT parent, CAST('d' AS BLOB), 16877, 0, 0, 0, 0, 0, 7, 0,"
            f" file_system, NULL, NULL, NULL, NULL, NULL, NULL, NULL FROM entries WHERE {_PLOT}"
        )

    path = changed(sound, tmp_path / "out", change)
    done = call("strays", "--root", str(path))
    assert done.returncode in (1, 3)
    assert "directories deep" in done.stderr


def test_what_is_taken_out_of_it_is_missing(call: Run, sound: Path, tmp_path: Path) -> None:
    path = changed(sound, tmp_path / "out", _sql(f"DELETE FROM entries WHERE {_PLOT}"))
    assert call("verify", "--quiet", "--root", str(path)).returncode == 1


def test_a_place_that_nobody_looked_at_is_a_gap_and_not_missing(
    call: Run, sound: Path, tmp_path: Path
) -> None:
    told = (
        "INSERT INTO unlisted VALUES (CAST('/usr/bin' AS BLOB), 'the door was shut')",
        "DELETE FROM entries WHERE name IN (CAST('plot' AS BLOB), CAST('rope' AS BLOB))",
    )
    path = changed(sound, tmp_path / "out", _sql(*told))
    done = call("verify", "--root", str(path))
    assert done.returncode == 3
    assert "the door was shut" in done.stdout + done.stderr
    tree = open_snapshot(str(path))
    assert tree.exists("/usr/bin/plot")
    with pytest.raises(AccessError):
        tree.names("/usr/bin")
    assert call("owner", "/usr/bin/rope", "--root", str(path)).returncode in (0, 3)


def _asked(path: Path) -> None:
    """Every way to read a snapshot, and no fault of our own."""
    try:
        tree = open_snapshot(str(path))
    except NoSystem:
        return
    try:
        _ = tree.taken
        for found in tree.walk("/", others=True):
            where = found.what if isinstance(found, Gap) else found.path
            for look in (tree.observe, tree.read, tree.names, tree.portray):
                try:
                    look(where, "sha256") if look == tree.observe else look(where)
                except AccessError:
                    continue
    except FiligreeError:
        pass
    finally:
        tree.close()


@given(st.integers(0, 2**32))
@settings(deadline=None)
def test_bytes_that_chance_has_changed(
    sound: Path, tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    chance = random.Random(seed)
    data = bytearray(sound.read_bytes())
    for _ in range(chance.randint(1, 20)):
        at = chance.randrange(len(data))
        match chance.randrange(3):
            case 0:
                data[at] = chance.randrange(256)
            case 1:
                data[at : at + chance.randrange(64)] = b""
            case _:
                data[at:at] = chance.randbytes(chance.randrange(16))
    path = tmp_path_factory.getbasetemp() / "by-chance"
    path.write_bytes(bytes(data))
    _asked(path)


def test_every_table_is_told_of() -> None:
    page = (Path(__file__).parents[2] / "docs/snapshot.md").read_text()
    for name in TABLES:
        assert f"`{name}`" in page
