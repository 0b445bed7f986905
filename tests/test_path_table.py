"""The paths of an index as they are kept: each question against a plain search through all of them."""

import fnmatch
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.access import path_table
from filigree.access.path_table import PathTable
from filigree.access.store import Store
from filigree.model.errors import DatabaseError
from filigree.model.repositories import ListedPath

SIGNS = st.sampled_from("ab/.[]*?\\\t\n \udcff\udc80é\ue000\U0001f41f")
TEXTS = st.text(SIGNS, max_size=6)
ROWS = st.lists(
    st.builds(
        ListedPath,
        TEXTS.map(lambda text: f"/{text}"),
        TEXTS,
        st.sampled_from([None, "directory"]),
    ),
    max_size=40,
)


def table_of(store: Store, rows: list[ListedPath]) -> PathTable:
    return store.table(PathTable, "sha256:1", "an index", lambda _: rows)


def nothing_kept() -> Store:
    return Store(None, lambda _: None)


@given(rows=ROWS, more=TEXTS, block=st.sampled_from([1, 40, 1 << 18]))
def test_each_question_is_a_plain_search(rows: list[ListedPath], more: str, block: int) -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(path_table, "_BLOCK", block)
        patch.setattr("filigree.access.store.BATCH", 3)
        table = table_of(nothing_kept(), rows)
    paths = {row.path for row in rows} | {f"/{more}", "/"}
    for path in paths:
        assert table.at(path) == [row for row in rows if row.path == path]
        name = path.rpartition("/")[2]
        assert table.named(name) == [row for row in rows if row.path.rpartition("/")[2] == name]
    for holder in {row.holder for row in rows} | {more}:
        assert table.held_by(holder) == [row for row in rows if row.holder == holder]
    for pattern in (more, f"*{more}", f"/{more}*", "*", "/?", "*[ab]", "[!a]*"):
        assert list(table.glob(pattern)) == [
            row for row in rows if fnmatch.fnmatchcase(row.path, pattern)
        ]
    table.close()


def many(count: int) -> list[ListedPath]:
    return [
        ListedPath(f"/usr/share/tide{at % 97:02d}/grain-{at:06d}", f"tide{at % 97:02d}")
        for at in range(count)
    ]


def test_what_is_kept_is_what_was_made(tmp_path: Path) -> None:
    rows = many(30_000)
    store = Store(str(tmp_path / "cache"), lambda _: None)
    for kept in (False, True):
        table = table_of(store, rows)
        assert table.kept is kept
        assert table.at(rows[20_001].path) == [rows[20_001]]
        assert table.named("grain-000007") == [rows[7]]
        assert len(table.held_by("tide03")) == len([row for row in rows if row.holder == "tide03"])
        assert list(table.glob("*/grain-0000?5")) == [rows[at] for at in range(5, 100, 10)]
        assert len(list(table.glob("*"))) == len(rows)
        table.close()
    (file,) = (tmp_path / "cache").iterdir()
    text = sum(len(row.path) + len(row.holder) + 3 for row in rows)
    assert file.stat().st_size < text / 3


def test_one_path_is_looked_for_where_it_can_be(monkeypatch: pytest.MonkeyPatch) -> None:
    """Of an index in the order of its paths one block is unpacked."""
    monkeypatch.setattr(path_table, "_BLOCK", 1000)
    rows = sorted(many(5000))
    table = table_of(nothing_kept(), rows)
    blocks = table.connection.execute("SELECT count(*) FROM blocks").fetchone()[0]
    unpacked = 0
    real = table._unpacked

    def counted(*asked: str) -> object:
        nonlocal unpacked
        for text in real(*asked):
            unpacked += 1
            yield text

    monkeypatch.setattr(table, "_unpacked", counted)
    assert table.at(rows[2500].path) == [rows[2500]]
    assert unpacked <= 2 < blocks
    assert table.named("grain-000007") == [ListedPath("/usr/share/tide07/grain-000007", "tide07")]
    assert unpacked >= blocks


def cut(connection: sqlite3.Connection) -> None:
    """The last block is gone."""
    connection.execute("DELETE FROM blocks WHERE id = (SELECT max(id) FROM blocks)")


def empty(connection: sqlite3.Connection) -> None:
    connection.execute("DELETE FROM blocks")


@pytest.mark.parametrize("damage", [cut, empty])
def test_a_table_with_fewer_paths_than_were_read_is_made_anew(
    tmp_path: Path, damage: Callable[[sqlite3.Connection], None]
) -> None:
    store = Store(str(tmp_path / "cache"), lambda _: None)
    rows = many(20_000)
    table_of(store, rows).close()
    (file,) = (tmp_path / "cache").iterdir()
    with sqlite3.connect(file) as connection:
        damage(connection)
    table = table_of(store, rows)
    assert not table.kept
    assert len(list(table.glob("*"))) == len(rows)


def test_a_block_that_cannot_be_unpacked_is_told_with_its_file(tmp_path: Path) -> None:
    store = Store(str(tmp_path / "cache"), lambda _: None)
    rows = many(10)
    table_of(store, rows).close()
    (file,) = (tmp_path / "cache").iterdir()
    with sqlite3.connect(file) as connection:
        connection.execute("UPDATE blocks SET data = x'00'")
    with pytest.raises(DatabaseError, match="cannot be unpacked") as told:
        table_of(store, rows).named("grain-000001")
    assert told.value.where == str(file)
    assert told.value.advice is not None
