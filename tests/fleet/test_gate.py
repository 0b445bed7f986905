"""The gate: who is taken in, who is refused and why; and that a bad one costs only itself."""

import shutil
import sqlite3
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from filigree.access.snapshots.form import UNSIGNED
from filigree.demo.repository import STRANGER, public_key, secret_key
from filigree.fleet.asked import FleetWish, asked
from filigree.fleet.gate import GateOutcome, Gathering, GatherRow, VouchedBy, gather
from filigree.fleet.questions.ask import ask
from filigree.fleet.questions.told import fleet_gaps
from filigree.fleet.store import FleetStore
from filigree.fleet.taking import taken_of
from filigree.formats.host_list import read_hosts
from filigree.formats.office_files import OfficeFileError
from filigree.model.errors import BadQuestion
from filigree.questions.keeping.taking import Taking, snapshot
from filigree.system import open_system
from tests.making import DebRoot

pytest.importorskip("duckdb", reason="the engine is an extra")


@pytest.fixture
def place(tmp_path: Path) -> Path:
    """A folder with the office's list of two hosts, each with a key of its own."""
    (tmp_path / "keys").mkdir()
    (tmp_path / "keys/heron.asc").write_bytes(public_key())
    (tmp_path / "keys/plover.asc").write_bytes(public_key(STRANGER))
    (tmp_path / "hosts.toml").write_text(
        '[[host]]\nname = "heron"\nkeys = ["keys/heron.asc"]\n'
        '[[host]]\nname = "plover"\nkeys = ["keys/plover.asc"]\n'
    )
    root = DebRoot(tmp_path / "root")
    root.package("chart", files={"/usr/bin/plot": b"chart"})
    return tmp_path


def kept(place: Path, name: str, host: str, key: str | None = None) -> str:
    """A snapshot of the root in that folder, that says it is of a host, signed by a key."""
    path = place / f"{name}.snapshot"
    how = Taking("the keeper", "1", host, key=bytes(secret_key(key)) if key else None)
    with open_system(str(place / "root")) as system:
        snapshot(system, str(path), how)
    return str(path)


OFFICE = "test-key.asc"


def gathered(place: Path, *snapshots: str, listed: bool = True, **more: object) -> list[GatherRow]:
    hosts = str(place / "hosts.toml") if listed else None
    store = FleetStore(str(place / "store"), make=True)
    return gather(store, snapshots, Gathering(hosts=hosts, rules=False, **more)).records  # type: ignore[arg-type]


def test_what_a_hosts_own_key_has_signed_is_taken_in(place: Path) -> None:
    (row,) = gathered(place, kept(place, "one", "heron", OFFICE))
    assert (row.outcome, row.host, row.vouched, row.packages) == (
        GateOutcome.GATHERED, "heron", VouchedBy.SIGNED, 1,
    )  # fmt: skip
    with asked(FleetStore(str(place / "store")), FleetWish()) as fleet:
        assert fleet.unvouched == 0
        assert not any("vouches" in gap.what for gap in fleet.gaps)
    (told,) = ask(FleetStore(str(place / "store")), "SELECT vouched, signer FROM snapshots").records
    assert told["vouched"] == "signed"
    with open_system(str(place / "root")) as system:
        (key,) = system.own_keys([str(place / "keys/heron.asc")])
    assert told["signer"] in key.fingerprints


REFUSED: dict[str, tuple[str, str | None, str]] = {
    "the key of another host of the list": ("heron", STRANGER, "signed by the key of plover"),
    "another host's name": ("plover", OFFICE, "signed by the key of heron"),
    "no signature": ("heron", None, "no key of heron has signed it"),
    "a name that is not in the list": ("dunlin", OFFICE, "no host of the list is called dunlin"),
    "a name of another case": ("Heron", OFFICE, "no host of the list"),
    "a name with a blank": ("heron ", OFFICE, "no host of the list"),
}


@pytest.mark.parametrize("what", REFUSED)
def test_who_is_refused_and_why(place: Path, what: str) -> None:
    host, key, why = REFUSED[what]
    (row,) = gathered(place, kept(place, "one", host, key))
    assert row.outcome is GateOutcome.REFUSED
    assert why in (row.why or "")
    with asked(FleetStore(str(place / "store")), FleetWish()) as fleet:
        assert fleet.hosts == 0
        (told,) = fleet_gaps(fleet).records
    assert why in told.why


def test_a_bad_one_costs_only_itself(place: Path) -> None:
    good, bad = kept(place, "good", "heron", OFFICE), kept(place, "bad", "plover", OFFICE)
    (place / "none.snapshot").write_bytes(b"SQLite format 3\x00 and no more")
    rows = {
        Path(row.what).stem: row.outcome
        for row in gathered(place, bad, str(place / "none.snapshot"), good, str(place / "gone"))
    }
    assert rows == {
        "good": GateOutcome.GATHERED, "bad": GateOutcome.REFUSED, "none": GateOutcome.REFUSED,
        "gone": GateOutcome.REFUSED,
    }  # fmt: skip


def test_an_older_one_may_be_a_replay_and_is_refused_the_same_one_is_known(place: Path) -> None:
    older = kept(place, "older", "heron", OFFICE)
    import time

    time.sleep(1.1)
    newer = kept(place, "newer", "heron", OFFICE)
    assert [row.outcome for row in gathered(place, newer)] == [GateOutcome.GATHERED]
    (row,) = gathered(place, older)
    assert row.outcome is GateOutcome.REFUSED
    assert "replay" in (row.why or "")
    assert [row.outcome for row in gathered(place, newer)] == [GateOutcome.KNOWN]


def test_a_history_is_taken_in_whatever_order_it_is_named(place: Path) -> None:
    older = kept(place, "older", "heron", OFFICE)
    time.sleep(1.1)
    newer = kept(place, "newer", "heron", OFFICE)
    rows = gathered(place, newer, older)
    assert [Path(row.what).stem for row in rows] == ["older", "newer"]
    assert {row.outcome for row in rows} == {GateOutcome.GATHERED}


def test_without_a_list_all_are_taken_and_every_answer_says_so(place: Path) -> None:
    rows = gathered(place, kept(place, "one", "heron"), kept(place, "two", "any"), listed=False)
    assert {row.vouched for row in rows} == {VouchedBy.NOBODY}
    with asked(FleetStore(str(place / "store")), FleetWish()) as fleet:
        answer = fleet_gaps(fleet)
    assert any(gap.what == "who vouches for 2 hosts" for gap in answer.gaps)
    assert answer.exit_status == 3


@pytest.mark.parametrize("which", range(4))
def test_a_snapshot_that_was_changed_after_it_was_signed_is_refused(
    place: Path, which: int
) -> None:
    path = kept(place, "one", "heron", OFFICE)
    with sqlite3.connect(path) as made:
        tables = [
            str(name) for (name,) in made.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
            if made.execute(f"SELECT count(*) FROM {name}").fetchone()[0] and name != UNSIGNED
        ]  # fmt: skip
        name = sorted(tables)[which % len(tables)]
        (column, *_) = [row[1] for row in made.execute(f"PRAGMA table_info({name})")]
        made.execute(f"DELETE FROM {name} WHERE {column} = (SELECT max({column}) FROM {name})")
    (row,) = gathered(place, path)
    assert row.outcome is GateOutcome.REFUSED


def test_a_root_is_gathered_as_it_is_now(place: Path) -> None:
    now = datetime(2026, 3, 9, tzinfo=UTC)
    (row,) = gathered(place, listed=False, roots=(str(place / "root"),), name="gauge", now=now)
    assert (row.host, row.taken_at, row.vouched) == ("gauge", now, VouchedBy.NOBODY)
    (again,) = gathered(
        place, listed=False, roots=(str(place / "root"),), name="gauge", now=now + timedelta(days=1)
    )
    assert again.outcome is GateOutcome.GATHERED


def test_with_a_list_no_root_is_taken_in(place: Path) -> None:
    with pytest.raises(BadQuestion, match="signed by nobody"):
        gathered(place, roots=(str(place / "root"),), name="heron")
    (row,) = gathered(place, str(place / "root"))  # nor where it is named as a snapshot
    assert row.outcome is GateOutcome.REFUSED


def test_a_time_that_has_not_come_is_refused(place: Path) -> None:
    path = kept(place, "one", "heron")
    (row,) = gathered(place, path, listed=False, now=datetime(2020, 1, 1, tzinfo=UTC))
    assert "future" in (row.why or "")


def test_identities_are_of_contents(place: Path) -> None:
    """What two hosts have in common stands once, and one other byte of a record is another build."""
    one = kept(place, "one", "heron")
    shutil.copytree(place / "root", place / "other")
    sums = place / "root/var/lib/dpkg/info/chart.md5sums"
    gathered(place, one, kept(place, "two", "plover"), listed=False)
    sums.write_text(f"{'0' * 32}  usr/bin/plot\n")
    gathered(place, kept(place, "three", "dunlin"), listed=False)
    text = "SELECT (SELECT count(*) FROM builds), (SELECT count(DISTINCT sets) FROM snapshots)"
    assert list(ask(FleetStore(str(place / "store")), text).records[0].values()) == [2, 2]


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("x", "no TOML"), ("[hosts]\n", "'hosts'"), ("host = 1\n", "list of tables"),
        ("[[host]]\nkeys = ['a']\n", "`name`"), ("[[host]]\nname = 'a'\n", "`keys`"),
        ("[[host]]\nname = 'a'\nkeys = []\n", "`keys`"), ("[[host]]\nname = 'a'\nkeys = [1]\n", "`keys`"),
        ("[[host]]\nname = ''\nkeys = ['a']\n", "`name`"),
        ("[[host]]\nname = 'a'\nkeys = ['a']\nrole = 'x'\n", "'role'"),
        ("[[host]]\nname = 'a'\nkeys = ['a']\n[[host]]\nname = 'a'\nkeys = ['b']\n", "named before"),
        (f"x = {'[' * 5000}", "no TOML"), ("\xff", "no TOML"),
    ],
)  # fmt: skip
def test_lists_that_are_none(text: str, why: str) -> None:
    with pytest.raises(OfficeFileError, match=why):
        read_hosts(text.encode("latin-1"))


@pytest.mark.parametrize(
    "spoil",
    [lambda place: (place / "hosts.toml").unlink(), lambda place: (place / "keys/heron.asc").unlink(),
     lambda place: (place / "keys/heron.asc").write_bytes(b"no key")],
)  # fmt: skip
def test_a_list_that_cannot_be_used_lets_nobody_in(
    place: Path, spoil: Callable[[Path], object]
) -> None:
    path = kept(place, "one", "heron", OFFICE)
    spoil(place)
    try:
        (row,) = gathered(place, path)
    except BadQuestion:
        return
    assert row.outcome is GateOutcome.REFUSED


@pytest.mark.parametrize(
    ("error", "gathered_", "interrupted"), [(KeyboardInterrupt, 1, True), (RuntimeError, 2, False)]
)
def test_what_ends_or_breaks_one_costs_no_other(
    place: Path,
    monkeypatch: pytest.MonkeyPatch,
    error: type[BaseException],
    gathered_: int,
    interrupted: bool,
) -> None:
    calls: list[Any] = []

    def spoilt(*told: Any) -> Any:
        calls.append(told)
        if len(calls) == 2:
            raise error("spoilt")
        return taken_of(*told)

    paths = [kept(place, name, name) for name in ("one", "two", "three")]
    monkeypatch.setattr("filigree.fleet.gate.taken_of", spoilt)
    store = FleetStore(str(place / "store"), make=True)
    answer = gather(store, paths, Gathering(rules=False))
    assert answer.summary.gathered == gathered_
    assert answer.interrupted is interrupted
    assert answer.exit_status == (130 if interrupted else 1)
    assert len(ask(FleetStore(store.address), "SELECT host FROM snapshots").records) == gathered_


def test_a_replay_is_told_once_however_often_it_is_brought(place: Path) -> None:
    older = kept(place, "older", "heron", OFFICE)
    time.sleep(1.1)
    gathered(place, kept(place, "newer", "heron", OFFICE))
    for _ in range(3):
        gathered(place, older)
    with asked(FleetStore(str(place / "store")), FleetWish()) as fleet:
        assert [gap.what for gap in fleet.gaps if "snapshot" in gap.what] == ["1 snapshot"]
        assert len([row for row in fleet_gaps(fleet).records if row.hosts == 0]) == 1
