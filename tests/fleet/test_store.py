"""A store: whatever ends a writer, whoever writes beside it, and whatever becomes of its files."""

import json
import multiprocessing
import os
import tarfile
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.access.shelves import FolderShelf
from filigree.fleet.asked import FleetWish, asked
from filigree.fleet.engines import DuckEngine, write_table
from filigree.fleet.form import BUILDS, SNAPSHOTS, VERSION
from filigree.fleet.gate import Gathering, take_in
from filigree.fleet.questions.ask import ask
from filigree.fleet.questions.behind import fleet_behind
from filigree.fleet.questions.census import fleet_census
from filigree.fleet.questions.hosts import hosts
from filigree.fleet.store import LISTS, File, FileList, FleetStore, list_text, read_list
from filigree.fleet.taking import Taken
from filigree.fleet.tidying import LOOSE, Keeping, kept_of, merged, tidy
from filigree.model.errors import BadQuestion

NOW = datetime(2026, 3, 9, 12, tzinfo=UTC)
HOW = Gathering(now=NOW)
DATA = Path(__file__).parents[1] / "data"


def named(taken: Taken, host: str, days: int = 0) -> Taken:
    """The same rows as another host, or later."""
    parts = dict(taken.parts)
    return Taken(
        host, taken.taken_at + days * 86400, taken.family, taken.label, taken.builds, parts
    )


def counted(store: FleetStore) -> dict[str, int]:
    """How many rows each table has, as the engine counts them; and that each build stands once."""
    text = (
        "SELECT (SELECT count(*) FROM snapshots), (SELECT count(*) FROM builds), (SELECT count(*) FROM "
        "build_files), (SELECT count(*) FROM sets), (SELECT count(DISTINCT build) FROM builds)"
    )
    (row,) = [list(one.values()) for one in ask(FleetStore(store.address), text).records]
    assert row[1] == row[4]
    return dict(zip(("snapshots", "builds", "build_files", "sets"), row, strict=False))


@pytest.fixture
def store(tmp_path: Path) -> FleetStore:
    return FleetStore(str(tmp_path / "store"), make=True)


@pytest.fixture
def form_1(tmp_path: Path) -> FleetStore:
    """A store that was written in the first form: two hosts."""
    with tarfile.open(DATA / "fleet-form-1.tar.xz") as kept:
        kept.extractall(tmp_path, filter="data")
    for folder, _, files in os.walk(tmp_path / "form1"):
        os.chmod(folder, 0o700)
        for name in files:
            os.chmod(os.path.join(folder, name), 0o600)
    return FleetStore(str(tmp_path / "form1"))


def test_a_store_of_the_first_form_is_asked_as_it_is(form_1: FleetStore) -> None:
    """And nothing is written: what it does not have is a gap, and not an answer."""
    assert form_1.list.form == 1
    with asked(form_1, FleetWish()) as fleet:
        answer = fleet_behind(fleet)
        assert len(hosts(fleet).records) == 2
    assert answer.records == []
    assert "what is behind at 2 hosts" in [gap.what for gap in answer.gaps]
    assert FleetStore(form_1.address).list == form_1.list


def test_it_is_brought_up_when_it_is_gathered_into(
    form_1: FleetStore, taken: dict[str, Taken]
) -> None:
    before = ask(form_1, "SELECT host, taken_at, sets, deviations FROM snapshots ORDER BY host")
    builds = {row["build"] for row in ask(form_1, "SELECT build FROM builds").records}
    take_in(form_1, [named(taken["curlew"], "third")], HOW)
    store = FleetStore(form_1.address)
    assert store.list.form == VERSION
    told = ask(store, "SELECT host, taken_at, sets, deviations FROM snapshots ORDER BY host")
    assert told.records[:2] == before.records
    assert builds < {row["build"] for row in ask(store, "SELECT build FROM builds").records}
    with asked(store, FleetWish()) as fleet:
        answer = fleet_behind(fleet)
    assert {row.first_host for row in answer.records} == {"third"}
    assert "what is behind at 2 hosts" in [gap.what for gap in answer.gaps]
    tidy(store, Keeping(days=0))
    assert ask(store, "SELECT count(*) AS n FROM snapshots").records == [{"n": 3}]


def test_two_that_bring_it_up_at_once_lose_nothing(
    form_1: FleetStore, taken: dict[str, Taken]
) -> None:
    other = FleetStore(form_1.address)
    take_in(form_1, [named(taken["curlew"], "third")], HOW)
    take_in(other, [named(taken["curlew"], "fourth")], HOW)  # read when it was of the first form
    told = ask(FleetStore(form_1.address), "SELECT host FROM snapshots ORDER BY host").records
    assert [row["host"] for row in told] == ["a0", "a1", "fourth", "third"]


def test_what_is_put_in_comes_out_once(store: FleetStore, taken: dict[str, Taken]) -> None:
    heron, curlew = taken["heron"], taken["curlew"]
    assert take_in(store, [heron, curlew, named(heron, "another")], HOW) == 3
    assert counted(store) == {
        "snapshots": 3, "builds": len(heron.builds) + len(curlew.builds),
        "build_files": heron.paths + curlew.paths, "sets": heron.packages + curlew.packages,
    }  # fmt: skip
    assert take_in(FleetStore(store.address), [heron], HOW) == 0  # it is known
    assert counted(store)["snapshots"] == 3


class _Killed(BaseException):
    """Stands for the end of a process at any moment: nothing may catch it."""


STEPS = ("open_private", "copy_private", "os.link", "os.replace", "os.fsync")


@pytest.mark.parametrize("step", STEPS)
@pytest.mark.parametrize("number", [1, 3])
def test_a_writer_that_is_ended_at_any_step_costs_nothing_that_was_there(
    store: FleetStore,
    taken: dict[str, Taken],
    monkeypatch: pytest.MonkeyPatch,
    step: str,
    number: int,
) -> None:
    take_in(store, [taken["curlew"]], HOW)
    before = counted(store)
    names = step.split(".")
    target = f"filigree.access.shelves.{step}" if len(names) == 1 else step
    module = __import__("filigree.access.shelves", fromlist=["x"])
    real = getattr(module if len(names) == 1 else os, names[-1])
    calls = 0

    def ended(*args: object, **named_: object) -> object:
        nonlocal calls
        calls += 1
        if calls == number:
            raise _Killed
        return real(*args, **named_)

    with monkeypatch.context() as patched:
        patched.setattr(target, ended)
        try:
            take_in(FleetStore(store.address), [taken["heron"]], HOW)
            ended_early = False
        except _Killed:
            ended_early = True
    there = counted(store)
    if ended_early and there["snapshots"] == before["snapshots"]:
        assert there == before  # nothing of it, or all of it
    assert take_in(FleetStore(store.address), [taken["heron"]], HOW) in (0, 1)
    assert counted(store)["snapshots"] == 2


def _gather(
    address: str, taken: Taken, first: int, barrier: "multiprocessing.synchronize.Barrier"
) -> None:
    barrier.wait()
    for number in range(first, first + 3):
        take_in(FleetStore(address, make=True), [named(taken, f"host-{number}")], HOW)


def test_two_that_gather_at_once_lose_nothing_and_double_nothing(
    store: FleetStore, taken: dict[str, Taken]
) -> None:
    fork = multiprocessing.get_context("fork")
    barrier = fork.Barrier(2)
    crew = [
        fork.Process(target=_gather, args=(store.address, taken["heron"], 10 * number, barrier))
        for number in range(2)
    ]
    for one in crew:
        one.start()
    for one in crew:
        one.join(60)
        assert one.exitcode == 0
    heron = taken["heron"]
    assert counted(store) == {
        "snapshots": 6, "builds": len(heron.builds), "build_files": heron.paths, "sets": heron.packages,
    }  # fmt: skip


def test_the_gate_compacts_by_itself_and_changes_nothing(
    store: FleetStore, taken: dict[str, Taken]
) -> None:
    for number in range(LOOSE + 2):
        take_in(store, [named(taken["curlew"], f"host-{number}")], HOW)
        assert len(store.list.of("snapshots")) <= LOOSE + 1
    assert counted(store)["snapshots"] == LOOSE + 2
    before = ask(FleetStore(store.address), "SELECT * FROM snapshots ORDER BY host").records
    merged(store, 1)
    assert len(store.list.of("snapshots")) == 1
    assert ask(FleetStore(store.address), "SELECT * FROM snapshots ORDER BY host").records == before


def test_tidying_keeps_what_the_rule_says_and_what_that_needs(
    store: FleetStore, taken: dict[str, Taken]
) -> None:
    heron, curlew = taken["heron"], taken["curlew"]
    days = [0, 1, 2]
    take_in(store, [named(heron, "heron", day) for day in days] + [curlew], HOW)
    answer = tidy(FleetStore(store.address), Keeping(days=0, now=NOW))
    assert answer.summary.dropped == 2  # the last one of a host stays in any case
    assert counted(store) == {
        "snapshots": 2, "builds": len(heron.builds) + len(curlew.builds),
        "build_files": heron.paths + curlew.paths, "sets": heron.packages + curlew.packages,
    }  # fmt: skip


@given(
    st.lists(st.tuples(st.sampled_from("ab"), st.integers(0, 400)), min_size=1, max_size=12, unique=True),
    st.integers(0, 90) | st.none(), st.integers(0, 14) | st.none(),
)  # fmt: skip
def test_what_is_kept_is_what_the_plain_rule_says(
    told: list[tuple[str, int]], days: int | None, monthly: int | None
) -> None:
    if days is None and monthly is None:
        return
    rows = [
        (f"{host}{ago}", host, int((NOW - timedelta(days=ago)).timestamp())) for host, ago in told
    ]
    expected = set()
    for name, host, at in rows:
        when = datetime.fromtimestamp(at, UTC)
        of_host = [one for one in rows if one[1] == host]
        later = [one for one in of_host if one[2] > at]
        in_month = [
            one for one in later
            if datetime.fromtimestamp(one[2], UTC).strftime("%Y%m") == when.strftime("%Y%m")
        ]  # fmt: skip
        ago = (NOW.year - when.year) * 12 + NOW.month - when.month
        young = days is not None and (NOW - when) <= timedelta(days=days)
        of_the_month = monthly is not None and ago < monthly and not in_month
        if not later or young or of_the_month:
            expected.add(name)
    assert kept_of(rows, Keeping(days, monthly, NOW)) == expected


# -- what becomes of files ----------------------------------------------------------------------


def _first(store: FleetStore, table: str) -> Path:
    return Path(store.address, store.list.of(table)[0].name)


def _cut(path: Path) -> None:
    path.write_bytes(path.read_bytes()[:-9])


def _flip(path: Path) -> None:
    data = bytearray(path.read_bytes())
    data[len(data) // 2] ^= 1
    path.write_bytes(data)


def _folder(path: Path) -> None:
    path.unlink()
    path.mkdir()


def _linked(path: Path) -> None:
    path.rename(path.parent / "real")
    path.symlink_to(path.parent / "real")


DAMAGES: dict[str, Callable[[Path], object]] = {
    "gone": Path.unlink, "empty": lambda path: path.write_bytes(b""), "cut off": _cut,
    "longer": lambda path: path.write_bytes(path.read_bytes() + b"more"), "another": _flip,
    "to be written by others": lambda path: path.chmod(0o666), "a directory": _folder, "a link": _linked,
}  # fmt: skip


@pytest.mark.parametrize("table", ["snapshots", "sets", "builds", "deviations"])
@pytest.mark.parametrize("damage", DAMAGES)
def test_a_file_that_is_not_what_it_was_is_told_and_nothing_is_lost(
    store: FleetStore, taken: dict[str, Taken], table: str, damage: str
) -> None:
    take_in(store, [taken["heron"]], HOW)
    DAMAGES[damage](_first(store, table))
    again = FleetStore(store.address)
    answer = tidy(again, Keeping(days=0, now=NOW + timedelta(days=900)))
    assert answer.exit_status == 1
    assert answer.summary.damaged == 1
    assert again.list.files == store.list.files  # nothing is dropped, nothing written anew
    try:
        with asked(again, FleetWish()) as fleet:
            told = fleet_census(fleet, ["*"])
    except BadQuestion:
        return  # the engine itself says that it is none
    if damage != "another":  # that nobody sees but whoever digests it
        assert any("of the store" in gap.what for gap in told.gaps)


_FORM = {"store": "filigree/fleet", "form": 1}
_NONE = f"sets/2026-01/{'0' * 64}.parquet"
LIST_TEXTS = [
    "", "{", "[]", "null", "7", '{"store": "other"}', '{"store": "filigree/fleet"}',
    '{"store": "filigree/fleet", "form": 0, "files": []}',
    json.dumps({"store": "filigree/fleet", "form": VERSION + 1, "files": []}),
    '{"store": "filigree/fleet", "form": "1", "files": []}',
    '{"store": "filigree/fleet", "form": 1}', '{"store": "filigree/fleet", "form": 1, "files": {}}',
    '{"store": "filigree/fleet", "form": 1, "files": [["../../etc/passwd", 1, 1]]}',
    '{"store": "filigree/fleet", "form": 1, "files": [["/etc/passwd", 1, 1]]}',
    json.dumps({**_FORM, "files": [[_NONE.replace("sets", "none"), 1, 1]]}),
    json.dumps({**_FORM, "files": [[_NONE, -1, 1]]}),
    json.dumps({**_FORM, "files": [[_NONE, 1]]}),
    json.dumps({"store": "filigree/fleet", "form": 1, "files": [["sets/2026-01/../x.parquet", 1, 1]]}),
    f'{{"store": "filigree/fleet", "form": 1, "files": {"[" * 9000}',
    "\x00\x01\x02",
]  # fmt: skip


@pytest.mark.parametrize("text", LIST_TEXTS)
def test_a_list_that_is_none_is_a_clear_error(store: FleetStore, text: str) -> None:
    assert store.shelf.create(f"{LISTS}/00000001.json", text.encode())
    with pytest.raises(BadQuestion):
        FleetStore(store.address)


@given(st.binary(max_size=200))
def test_any_bytes_are_a_list_or_an_error(data: bytes) -> None:
    try:
        read_list(data, 1, "store")
    except BadQuestion:
        return


@given(st.lists(st.integers(0, 1 << 39), max_size=4))
def test_a_list_is_read_as_it_was_written(sizes: list[int]) -> None:
    files = tuple(
        File(f"sets/2026-03/{at:064x}.parquet", at, size) for at, size in enumerate(sizes)
    )
    assert read_list(list_text(FileList(3, files)), 3, "store") == FileList(3, files)


def test_a_place_that_others_may_write_to_is_no_store(
    tmp_path: Path, taken: dict[str, Taken]
) -> None:
    store = FleetStore(str(tmp_path / "store"), make=True)
    take_in(store, [taken["heron"]], HOW)
    (tmp_path / "store").chmod(0o777)
    with pytest.raises(BadQuestion, match="vouch"):
        FleetStore(str(tmp_path / "store"))


def test_what_is_no_store(tmp_path: Path) -> None:
    with pytest.raises(BadQuestion, match="no such folder"):
        FleetStore(str(tmp_path / "none"))
    (tmp_path / "empty").mkdir(mode=0o700)
    with pytest.raises(BadQuestion, match="no store"):
        FleetStore(str(tmp_path / "empty"))


def test_a_name_on_a_shelf_stays_what_it_was(tmp_path: Path) -> None:
    shelf = FolderShelf(str(tmp_path / "shelf"), make=True)
    assert shelf.create("a/one", b"first")
    assert not shelf.create("a/one", b"second")
    assert shelf.read("a/one", 99) == b"first"
    assert shelf.names("a") == ["one"]
    with pytest.raises(BadQuestion, match="larger"):
        shelf.read("a/one", 2)
    assert oct((tmp_path / "shelf/a/one").stat().st_mode & 0o777) == "0o600"


# -- the engine ---------------------------------------------------------------------------------

FORBIDDEN = [
    "SELECT * FROM read_text('/etc/passwd')", "SELECT * FROM read_csv('/etc/passwd')",
    "SELECT * FROM glob('/etc/*')", "COPY (SELECT 1) TO '/tmp/x.csv'", "INSTALL httpfs", "LOAD httpfs",
    "ATTACH '/tmp/x.db'", "SET memory_limit='64GB'", "CREATE TABLE x(a INT)", "DROP VIEW snapshots",
    "DELETE FROM snapshots", "SELECT 1; SELECT 2", "PRAGMA database_list", "EXPORT DATABASE '/tmp/x'",
    "SELECT * FROM none", "", ";", "SELECT", "CALL pragma_version()", "EXPLAIN ANALYZE SELECT 1",
    "SELECT * FROM snapshots) TO '/tmp/x' --", "SELECT nextval('x')",
]  # fmt: skip


@pytest.mark.parametrize("text", FORBIDDEN)
def test_whoever_asks_the_tables_reads_them_and_nothing_else(forty: FleetStore, text: str) -> None:
    with pytest.raises(BadQuestion):
        ask(forty, text)
    assert not Path("/tmp/x.csv").exists()


def test_a_question_that_takes_too_long_is_ended(forty: FleetStore) -> None:
    endless = (
        "SELECT count(*) FROM build_files a, build_files b, build_files c WHERE a.path > b.path AND "
        "b.path > c.path AND a.digest < c.digest"
    )
    with pytest.raises(BadQuestion):
        ask(forty, endless, seconds=0.5)


def test_a_question_that_takes_too_much_is_ended() -> None:
    engine = DuckEngine([], memory=60)
    try:
        with pytest.raises(BadQuestion):
            engine.run("SELECT list(a.range ORDER BY a.range DESC) FROM range(90000000) a")
    finally:
        engine.close()


def test_rows_come_out_of_a_file_as_they_went_in(tmp_path: Path) -> None:
    path = str(tmp_path / "builds.parquet")
    rows = [
        (f"{number:064x}", "deb", name, "1", None, None, 'quote\'s "and" more', None, number, -1)
        for number, name in enumerate(("ab", "", "é\t;", "null", "-- x", "\\x80"))
    ]
    assert write_table(BUILDS, rows, path) == len(rows)
    engine = DuckEngine([path])
    try:
        engine.register(BUILDS, [path])
        engine.register(SNAPSHOTS, [])
        assert sorted(engine.run("SELECT * FROM builds")) == sorted(rows)
        assert engine.run("SELECT * FROM snapshots") == []
        hostile = "'; DROP VIEW builds; --"
        assert engine.run("SELECT name FROM builds WHERE name = ?", [hostile]) == []
        assert len(engine.run("SELECT * FROM builds")) == len(rows)
    finally:
        engine.close()


def test_without_the_engine_the_extra_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(__import__("sys").modules, "duckdb", None)
    with pytest.raises(BadQuestion) as error:
        DuckEngine([])
    assert "filigree[fleet]" in (error.value.advice or "")
