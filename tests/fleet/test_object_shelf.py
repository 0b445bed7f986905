"""A store of objects: the same as a folder, but for whose word it is."""

import hashlib
from pathlib import Path

import pytest

from filigree.access.object_shelf import ObjectShelf
from filigree.fleet.asked import FleetWish, asked
from filigree.fleet.gate import Gathering, take_in
from filigree.fleet.questions.census import fleet_census
from filigree.fleet.store import FleetStore
from filigree.fleet.taking import Taken
from filigree.fleet.tidying import Keeping, tidy
from filigree.model.errors import BadQuestion
from tests.fleet.test_store import NOW, named

obstore = pytest.importorskip("obstore", reason="what speaks to object stores is an extra")
HOW = Gathering(now=NOW)


@pytest.fixture
def shelf(tmp_path: Path) -> ObjectShelf:
    from obstore.store import MemoryStore

    return ObjectShelf("memory:///", str(tmp_path / "cache"), MemoryStore())


def test_a_fleet_in_an_object_store_answers_as_one_in_a_folder(
    shelf: ObjectShelf, tmp_path: Path, taken: dict[str, Taken]
) -> None:
    here = FleetStore(str(tmp_path / "store"), make=True)
    there = FleetStore(shelf.address, make=True, shelf=shelf)
    for store in (here, there):
        take_in(store, [taken["heron"], taken["curlew"], named(taken["heron"], "a")], HOW)
        take_in(store, [named(taken["heron"], "b")], HOW)
        assert tidy(store, Keeping()).exit_status == 0
    told = []
    for store in (here, FleetStore(shelf.address, shelf=shelf)):
        with asked(store, FleetWish()) as fleet:
            told.append((fleet_census(fleet, ["*"]).records, [gap.what for gap in fleet.gaps]))
    assert told[0][0] == told[1][0]
    assert f"who vouches for {shelf.address}" in told[1][1]
    assert not any(what.startswith("who vouches for memory") for what in told[0][1])


def test_a_copy_that_is_not_what_its_name_says_is_none(
    shelf: ObjectShelf, tmp_path: Path, taken: dict[str, Taken]
) -> None:
    store = FleetStore(shelf.address, make=True, shelf=shelf)
    take_in(store, [taken["heron"]], HOW)
    (file,) = store.list.of("deviations")
    (tmp_path / "other").write_bytes(b"made up")
    shelf.take_in(file.name, str(tmp_path / "other"))
    for kept in (tmp_path / "cache/fleet").iterdir():
        kept.unlink()
    assert shelf.local(file.name) is None
    again = FleetStore(shelf.address, shelf=shelf)
    with asked(again, FleetWish()) as fleet:
        assert any("1 file of the store" in gap.what for gap in fleet.gaps)
    assert tidy(again, Keeping(days=0)).exit_status == 1
    assert not list((tmp_path / "cache/fleet").glob(".beside-*"))


def test_a_list_can_be_made_but_once(shelf: ObjectShelf) -> None:
    assert shelf.create("lists/00000001.json", b"first")
    assert not shelf.create("lists/00000001.json", b"second")
    assert shelf.read("lists/00000001.json", 99) == b"first"
    assert shelf.read("lists/none", 99) is None
    assert shelf.names("lists") == ["00000001.json"]
    assert shelf.names("none") == []
    with pytest.raises(BadQuestion, match="larger"):
        shelf.read("lists/00000001.json", 2)
    assert shelf.age("lists/00000001.json") < 60
    shelf.drop("lists/00000001.json")
    shelf.drop("lists/00000001.json")
    assert shelf.names("lists") == []


def test_a_copy_is_fetched_once_and_kept_under_its_digest(
    shelf: ObjectShelf, tmp_path: Path
) -> None:
    digest = hashlib.sha256(b"rows").hexdigest()
    (tmp_path / "rows").write_bytes(b"rows")
    name = f"sets/2026-03/{digest}.parquet"
    shelf.take_in(name, str(tmp_path / "rows"))
    first = shelf.local(name)
    assert first is not None
    assert Path(first).read_bytes() == b"rows"
    shelf.drop(name)
    assert shelf.local(name) == first
    Path(first).chmod(0o666)  # others could have written it: it is fetched anew, and is not there
    assert shelf.local(name) is None


def test_an_address_that_is_none_is_a_clear_error(tmp_path: Path) -> None:
    for address in ("gopher://store", "s3://"):
        with pytest.raises(BadQuestion):
            FleetStore(address, cache=str(tmp_path / "cache"))
    with pytest.raises(BadQuestion, match="kept"):
        FleetStore("s3://store", cache=None)
