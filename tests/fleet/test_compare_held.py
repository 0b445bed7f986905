"""Hosts of a store compared: what their tables hold, held against the rows themselves."""

import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from filigree.demo.fleet import FIRST_DAY, NEWER, NIGHT, VISITED, next_version, one_host, upgraded
from filigree.fleet.comparing import compare_held
from filigree.fleet.gate import Gathering, take_in
from filigree.fleet.held import Held, HostPlace, held_host, held_system, host_place
from filigree.fleet.store import FleetStore
from filigree.fleet.taking import Taken
from filigree.model.errors import BadQuestion
from filigree.questions.comparing.comparing import Wish
from filigree.questions.comparing.differences import ChangeKind, Compared, What
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system

HOST = f"gauge-{VISITED:02d}"
BEFORE = FIRST_DAY + timedelta(days=NIGHT - 1, hours=1)
NOW = datetime(2026, 3, 9, tzinfo=UTC)


def held(store: FleetStore, host: str = HOST, as_of: datetime | None = None) -> Held:
    return held_host(store, HostPlace(store.address, host, as_of))


def test_what_an_intruder_left_is_told_and_nothing_explains_it(forty: FleetStore) -> None:
    answer = compare_held(held(forty, as_of=BEFORE), held(forty))
    told = {(row.what, row.subject): row for row in answer.records}
    assert all(row.explained_by is None for row in answer.records)
    swapped = told[What.FILE, "/usr/bin/tidegauge"]
    assert (swapped.change, swapped.before) == (ChangeKind.ALTERED, "as its record says")
    assert told[What.FILE, "/usr/share/tidetables/fog-05.tbl"].change is ChangeKind.GONE
    assert told[What.FILE, "/usr/sbin/gullcheck"].change is ChangeKind.CAME
    assert str(told[What.FILE, "/usr/bin/tidegauge"].after).startswith("altered md5:")
    assert told[What.FILE, "/usr/sbin/gullcheck"].package is None
    # Its record was made to fit, under the same version: told with the file that it tells otherwise.
    record = told[What.PACKAGE, "siltmeter:amd64"]
    assert (record.change, record.before, record.after) == (ChangeKind.RECORD, "0.3.9-1", "0.3.9-1")
    assert "/usr/bin/siltmeter" in str(record.why)
    assert any(what is What.KEY for what, _ in told)
    assert answer.exit_status == 1
    assert answer.records[0].rank.value == "executable"


def test_told_backwards_it_is_the_same(forty: FleetStore) -> None:
    def plain(row: Compared) -> tuple[object, ...]:
        return row.what, row.subject, row.before, row.after

    there = compare_held(held(forty, as_of=BEFORE), held(forty))
    back = compare_held(held(forty), held(forty, as_of=BEFORE))
    assert {plain(row) for row in there.records} == {
        (what, subject, after, before) for what, subject, before, after in map(plain, back.records)
    }
    same = compare_held(held(forty), held(forty))
    assert (same.records, same.exit_status) == ([], 3)  # what tables do not hold is a gap


def test_a_history_explains_a_newer_version_and_no_other_one(
    tmp_path: Path, taken: dict[str, Taken]
) -> None:
    store = FleetStore(str(tmp_path / "store"), make=True)
    old = next(one for one in taken["settled"].builds.values() if one.row[2] == NEWER)
    new = next_version(old)
    day = FIRST_DAY + timedelta(days=1)
    first = one_host(taken["settled"], "a", FIRST_DAY, 2)
    told = upgraded(one_host(taken["settled"], "a", day, 2), old, new, FIRST_DAY)
    silent = upgraded(one_host(taken["settled"], "b", day, 2), old, new, FIRST_DAY)
    silent.parts["events"] = [*first.parts["events"]]
    other = upgraded(one_host(taken["settled"], "c", day, 2), old, new, FIRST_DAY)
    *rest, step = other.parts["events"]
    other.parts["events"] = [*rest, (*step[:2], "9.9-9", *step[3:])]
    take_in(store, [first, told, silent, other], Gathering(now=NOW))
    rows = {
        host: compare_held(held(store, "a", FIRST_DAY + timedelta(hours=1)), held(store, host))
        for host in "abc"
    }
    for host, answer in rows.items():
        (row,) = (one for one in answer.records if one.what is What.PACKAGE)
        assert (row.change, row.subject) == (ChangeKind.NEWER, f"{NEWER}:amd64")
        assert (row.explained_by is not None) == (host == "a"), host


def test_a_root_is_asked_as_it_is_now(forty: FleetStore, heron: Path, curlew: Path) -> None:
    with open_system(str(heron)) as system:
        now = held_system(system, RepositoryOptions())
    told = compare_held(held(forty), now)
    # The same but for what the made-up fleet upgraded.
    assert {row.subject for row in told.records if row.what is What.PACKAGE} <= {f"{NEWER}:amd64"}
    assert not [row for row in told.records if row.what is What.FILE]
    with open_system(str(curlew)) as system:
        other = held_system(system, RepositoryOptions())
    crossed = compare_held(held(forty), other)
    assert "packages of deb and of rpm" in [gap.what for gap in crossed.gaps]
    assert not [row for row in crossed.records if row.what is What.PACKAGE]


def test_only_what_is_wished_for(forty: FleetStore) -> None:
    pair = held(forty, as_of=BEFORE), held(forty)
    assert {row.what for row in compare_held(*pair, Wish(files=True)).records} == {What.FILE}
    assert What.FILE not in {row.what for row in compare_held(*pair, Wish(packages=True)).records}
    (one,) = compare_held(*pair, Wish(globs=("/usr/sbin/gull*",))).records
    assert one.subject == "/usr/sbin/gullcheck"


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("store#heron", ("store", "heron", False)), ("store#heron@2026-03-01", ("store", "heron", True)),
        ("s3://tides/north#a#b", ("s3://tides/north", "a#b", False)), ("store", None), ("#heron", None),
        ("store#", None), ("gone#heron", None), ("odd#name", None),
        ("store#a@b@2026-03-01", ("store", "a@b", True)),
    ],
)  # fmt: skip
def test_what_is_a_host_of_a_store_and_what_a_path(
    text: str, expected: tuple[str, str, bool] | None
) -> None:
    """What lies there by that very name is that, whatever signs are in it."""
    place = host_place(text, NOW, {"store", "odd", "odd#name"}.__contains__)
    found = place and (place.store, place.host, place.as_of is not None)
    assert found == expected


def test_a_host_that_is_not_there(forty: FleetStore) -> None:
    with pytest.raises(BadQuestion, match="no host is called gauge-81") as told:
        held(forty, "gauge-81")
    assert "gauge-" in str(told.value.advice)
    with pytest.raises(BadQuestion, match="not seen before that time"):
        held(forty, as_of=FIRST_DAY - timedelta(days=1))


def test_the_program_compares_them(forty: FleetStore) -> None:
    words = [f"{forty.address}#{HOST}@{BEFORE:%Y-%m-%d}", f"{forty.address}#{HOST}"]
    done = subprocess.run(
        [sys.executable, "-m", "filigree", "compare", *words, "--only", "unexplained"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 1
    assert "file\taltered\t/usr/bin/tidegauge\ttidegauge" in done.stdout
    assert "anybody could have made it up" in done.stderr


def test_a_snapshot_beside_it_says_what_it_rests_on(
    forty: FleetStore, heron: Path, tmp_path: Path
) -> None:
    kept = tmp_path / "heron.snapshot"
    program = [sys.executable, "-m", "filigree"]
    taking = [*program, "snapshot", str(kept), "--root", str(heron)]
    subprocess.run(taking, capture_output=True, check=False)
    words = [*program, "compare", f"{forty.address}#{HOST}", str(kept)]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert "the snapshot is unsigned" in done.stderr
    key = Path(__file__).parents[2] / "src/filigree/demo/test-key.asc"
    judged = [*words, "--keyring", str(key)]
    done = subprocess.run(judged, capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert "carries no signature" in done.stderr


def test_a_log_that_was_emptied_explains_nothing(tmp_path: Path, taken: dict[str, Taken]) -> None:
    """A family that keeps a history is not one that has none."""
    store = FleetStore(str(tmp_path / "store"), make=True)
    old = next(one for one in taken["settled"].builds.values() if one.row[2] == NEWER)
    first = one_host(taken["settled"], "a", FIRST_DAY, 2)
    day = FIRST_DAY + timedelta(days=1)
    moved = upgraded(one_host(taken["settled"], "b", day, 2), old, next_version(old), FIRST_DAY)
    moved.parts["events"] = []
    take_in(store, [first, moved], Gathering(now=NOW))
    answer = compare_held(held(store, "a"), held(store, "b"))
    (row,) = (one for one in answer.records if one.what is What.PACKAGE)
    assert (row.change, row.explained_by) == (ChangeKind.NEWER, None)
    assert answer.exit_status == 1
