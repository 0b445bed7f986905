"""What happened when: agreement with the raw logs, and what an owner of the machine would make it say."""

import os
import re
import shutil
import sqlite3
from collections import Counter
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.demo.heron import build_heron
from filigree.demo.repository import public_key, secret_key
from filigree.demo.stages import SETTLED
from filigree.formats.change_logs import read_arch_runs, read_deb_runs
from filigree.formats.deb.transactions import read_transactions
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.model.events import Clock, Outcome
from filigree.questions.keeping.taking import Taking, snapshot
from filigree.questions.timeline.happenings import OF_PACKAGES, Deed, Happening
from filigree.questions.timeline.periods import Span, by_period
from filigree.questions.timeline.timeline import TimelineSummary, TimelineWish, timeline
from filigree.questions.timeline.times import moment_from, span_from
from filigree.system import open_system
from tests.making import STATUS, DebRoot

STEPS, ASKED = "var/log/dpkg.log", "var/log/apt/history.log"
NOW = datetime(2026, 3, 1, 12, 0, tzinfo=UTC)
PACKAGES = TimelineWish(actions=OF_PACKAGES, now=NOW)


def told(
    root: Path | str, *subjects: str, wish: TimelineWish = PACKAGES
) -> Answer[Happening, TimelineSummary]:
    with open_system(str(root)) as system:
        return timeline(system, subjects, wish)


def came(root: DebRoot, name: str, at: datetime, version: str = "1.0-1", **files: str) -> None:
    """A package on record, installed at a time."""
    root.package(name, version, files={f"/usr/bin/{name}": files.get("content", name).encode()})
    stamp = at.timestamp()
    os.utime(root.folder / f"var/lib/dpkg/info/{name}.list", (stamp, stamp))
    os.utime(root.folder / f"usr/bin/{name}", (stamp - 1e6, stamp - 1e6))


@pytest.fixture
def root(tmp_path: Path) -> DebRoot:
    """Two packages: one came before the history begins, one in a transaction that it tells."""
    root = DebRoot(tmp_path / "root")
    came(root, "auk", NOW - timedelta(days=30))
    came(root, "gull", NOW - timedelta(days=9), "1.1-1")
    root.write(
        STEPS,
        "2026-02-19 12:00:00 startup archives unpack\n"
        "2026-02-19 12:00:01 install eider:amd64 <none> 3-1\n"
        "2026-02-19 12:00:02 install gull:amd64 <none> 1.0-1\n"
        "2026-02-20 12:00:00 startup archives unpack\n"
        "2026-02-20 12:00:01 upgrade gull:amd64 1.0-1 1.1-1\n"
        "2026-02-21 12:00:00 startup packages remove\n"
        "2026-02-21 12:00:00 remove eider:amd64 3-1 <none>\n",
    )
    root.write(
        ASKED,
        "\nStart-Date: 2026-02-19  12:00:00\nCommandline: keep add gull\nRequested-By: tide (950)\n"
        "Install: gull:amd64 (1.0-1), eider:amd64 (3-1, automatic)\nEnd-Date: 2026-02-19  12:00:09\n\n"
        "Start-Date: 2026-02-20  12:00:00\nCommandline: keep renew\n"
        "Upgrade: gull:amd64 (1.0-1, 1.1-1)\nError: it was too late\nEnd-Date: 2026-02-20  12:00:04\n",
    )
    return root


def test_transactions_are_kept_together(root: DebRoot) -> None:
    rows = {(row.package, row.action): row for row in told(root.path).records}
    gull, eider = rows["gull", Deed.INSTALLED], rows["eider", Deed.INSTALLED]
    assert gull.session == eider.session is not None
    assert (gull.by, gull.command, gull.outcome) == (
        "tide (950)",
        "keep add gull",
        Outcome.COMPLETED,
    )
    newer = rows["gull", Deed.UPGRADED]
    assert (newer.before, newer.version, newer.outcome) == ("1.0-1", "1.1-1", Outcome.FAILED)
    assert newer.explains == ["gull:amd64=1.1-1"]
    gone = rows["eider", Deed.REMOVED]
    assert (gone.before, gone.version, gone.command) == ("3-1", None, None)
    # No transaction asked for it: it is one run of the program by itself.
    text = (root.folder / STEPS).read_text()
    assert gone.session == f"/{STEPS}@{text.index('2026-02-21')}"
    assert rows["auk", Deed.RECORDED].explained_by == "its history begins later"
    assert {row.clock for row in rows.values()} == {Clock.LOCAL_LOG, Clock.RECORD}


# -- agreement with what is there, read with nothing of ours --------------------------------


def _steps(text: str) -> Counter[tuple[str, str]]:
    """Installations, upgrades and removals by day, as the lines of the log are written."""
    found: Counter[tuple[str, str]] = Counter()
    for line in text.splitlines():
        day, _, what, *rest = line.split(" ")
        if what in ("install", "upgrade", "remove") and len(rest) == 3:
            kinds = {"install": "installed", "upgrade": "upgraded", "remove": "removed"}
            same = what == "upgrade" and rest[1] == rest[2]
            found[day, "reinstalled" if same else kinds[what]] += 1
    return found


def _by_day(root: Path | str) -> Counter[tuple[str, str]]:
    wish = TimelineWish(actions=OF_PACKAGES - {Deed.RECORDED})
    found: Counter[tuple[str, str]] = Counter()
    for period in by_period(told(root, wish=wish), Span.DAY).records:
        for deed, count in period.by_action.items():
            found[f"{period.at:%Y-%m-%d}", deed.value] += count
    return found


def test_sums_by_day_are_those_of_a_deb_log(heron: Path) -> None:
    assert _by_day(heron) == _steps((heron / STEPS).read_text())


@pytest.mark.skipif(not Path("/", STEPS).exists(), reason="this machine keeps no such log")
def test_sums_by_day_are_those_of_this_machines_own_log() -> None:
    raw = _steps(Path("/", STEPS).read_text())
    ours = _by_day("/")
    for key in raw.keys() | ours.keys():
        if key[1] in ("installed", "removed"):
            assert ours[key] == raw[key], key
    older = {day for day, _ in raw}
    renewed = ("upgraded", "downgraded", "reinstalled", "replaced")
    for day in older:
        assert sum(ours[day, one] for one in renewed) == sum(raw[day, one] for one in renewed)


def test_sums_by_day_are_those_of_an_arch_log(plover: Path) -> None:
    text = (plover / "var/log/pacman.log").read_text()
    raw = Counter(
        re.findall(r"(?m)^\[(\d{4}-\d\d-\d\d)[^\]]*\] (?:\[ALPM\] )?(installed|upgraded) ", text)
    )
    assert _by_day(plover) == raw


def test_sums_by_day_are_those_of_an_rpm_database(curlew: Path) -> None:
    path = curlew / "usr/lib/sysimage/libdnf5/transaction_history.sqlite"
    with sqlite3.connect(f"file:{path}?mode=ro", uri=True) as connection:
        rows = connection.execute(
            "SELECT date(dt_begin, 'unixepoch'), lower(a.name) || 'ed' FROM trans_item i"
            " JOIN trans t ON t.id = i.trans_id JOIN trans_item_action a ON a.id = i.action_id"
            " WHERE a.name != 'Replaced'"
        ).fetchall()
    connection.close()
    raw = Counter((day, what.replace("upgradeed", "upgraded")) for day, what in rows)
    assert _by_day(curlew) == raw
    (newer,) = [row for row in told(curlew).records if row.action is Deed.UPGRADED]
    assert (newer.by, newer.before, newer.version) == ("tide", "5.3.9-1", "5.4.1-2")


def test_a_family_that_notes_only_what_went(dunlin: Path) -> None:
    rows = told(dunlin).records
    (chart,) = [row for row in rows if row.package == "chartroom" and row.action is Deed.REPLACED]
    assert (chart.before, chart.version) == ("5.3.9-1", "5.4.1-2")  # what is there now
    assert all(row.explained_by for row in rows)


# -- pairs ----------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("lines", "expected"),
    [
        (["upgrade gull:amd64 1.0-1 1.1-1"], [(Deed.UPGRADED, "1.0-1", "1.1-1")]),
        (["upgrade gull:amd64 1.2-1 1.1-1"], [(Deed.DOWNGRADED, "1.2-1", "1.1-1")]),
        (["upgrade gull:amd64 1.1-1 1.1-1"], [(Deed.REINSTALLED, "1.1-1", "1.1-1")]),
        (["install gull:amd64 <none> 1.0-1", "upgrade gull:amd64 1.0-1 1.1-1"],
         [(Deed.INSTALLED, None, "1.0-1"), (Deed.UPGRADED, "1.0-1", "1.1-1")]),
        (["upgrade gull:amd64 1.0-1 1.1-1", "remove gull:amd64 1.1-1 <none>"],
         [(Deed.UPGRADED, "1.0-1", "1.1-1"), (Deed.REMOVED, "1.1-1", None)]),
        (["upgrade gull:amd64 1.0-1 1.1-1", "upgrade gull:arm64 0.9-1 1.1-1"],
         [(Deed.UPGRADED, "1.0-1", "1.1-1"), (Deed.UPGRADED, "0.9-1", "1.1-1")]),
        (["upgrade gull:amd64 <none> 1.1-1"], [(Deed.INSTALLED, None, "1.1-1")]),
    ],
)  # fmt: skip
def test_what_went_and_what_came_are_one(
    tmp_path: Path, lines: list[str], expected: list[tuple[Deed, str | None, str | None]]
) -> None:
    root = DebRoot(tmp_path)
    came(root, "gull", NOW, "1.1-1")
    root.write(STEPS, "".join(f"2026-02-20 12:00:00 {line}\n" for line in lines))
    rows = [row for row in told(root.path).records if row.action is not Deed.RECORDED]
    found = [(row.action, row.before, row.version) for row in rows]
    assert sorted(found, key=str) == sorted(expected, key=str)


# -- what an owner of the machine would make it say ----------------------------------------


def test_a_package_that_the_history_does_not_tell_is_unexplained(root: DebRoot) -> None:
    came(root, "smew", NOW - timedelta(days=5))
    answer = told(root.path, wish=TimelineWish(actions=OF_PACKAGES, unexplained=True, now=NOW))
    (row,) = answer.records
    assert (row.action, row.package, row.doubts) == (
        Deed.RECORDED, "smew", ["the history does not tell how it came"],
    )  # fmt: skip
    assert answer.exit_status == 1


def test_a_package_that_was_taken_out_of_the_record_is_unexplained(root: DebRoot) -> None:
    status = (root.folder / STATUS).read_text()
    root.write(
        STATUS, "".join(f"{one}\n\n" for one in status.split("\n\n") if "gull" not in one and one)
    )
    (row,) = [row for row in told(root.path).records if row.explained_by is None]
    assert (row.package, row.doubts) == ("gull", ["nothing on record says that it is here now"])


def test_another_version_on_record_than_the_history_tells_is_unexplained(root: DebRoot) -> None:
    root.append(STEPS, "2026-02-22 12:00:00 upgrade gull:amd64 1.1-1 1.2-1\n")
    bad = [row for row in told(root.path).records if row.explained_by is None]
    assert [(row.version, row.doubts) for row in bad] == [("1.2-1", ["on record is 1.1-1 now"])]


def test_a_log_that_was_shortened_explains_nothing_later(root: DebRoot) -> None:
    """Without the lines of its coming, a package that is on record is told by nothing."""
    text = (root.folder / STEPS).read_text()
    root.write(STEPS, "".join(line for line in text.splitlines(True) if "gull" not in line))
    asked = (root.folder / ASKED).read_text()
    root.write(ASKED, re.sub(r"gull:amd64 \([^)]*\)(, )?", "", asked))
    bad = [row for row in told(root.path).records if row.explained_by is None]
    assert [(row.package, row.action) for row in bad] == [("gull", Deed.RECORDED)]


@pytest.mark.parametrize(
    ("lines", "doubt"),
    [
        ("2026-02-22 12:00:00 install smew:amd64 <none> 1-1\n2026-02-18 12:00:00 remove smew:amd64 1-1 "
         "<none>\n", "its log goes back here, from 2026-02-22 12:00:00"),
        ("2031-02-22 12:00:00 install smew:amd64 <none> 1-1\n2031-02-22 13:00:00 remove smew:amd64 1-1 "
         "<none>\n", "it is in the future"),
    ],
)  # fmt: skip
def test_times_of_a_log_that_cannot_be(root: DebRoot, lines: str, doubt: str) -> None:
    root.append(STEPS, lines)
    doubts = {doubt for row in told(root.path).records for doubt in row.doubts}
    assert doubt in doubts
    assert not {doubt for row in told(root.path, "auk").records for doubt in row.doubts}


def test_nothing_is_installed_before_it_was_built(plover: Path, tmp_path: Path) -> None:
    """Here packages were built on the day of the first of them."""
    root = Path(shutil.copytree(plover, tmp_path / "root", symlinks=True))
    log = root / "var/log/pacman.log"
    text = log.read_text()
    log.write_text(text.replace("[2026-01-19", "[2025-12-19"))
    doubts = {doubt for row in told(root).records for doubt in row.doubts}
    assert "it was only built at 2026-01-12 08:30 UTC" in doubts
    assert not {doubt for row in told(plover).records for doubt in row.doubts}


FILES = TimelineWish(
    actions=frozenset({Deed.ALTERED, Deed.APPEARED, Deed.VANISHED, Deed.EDITED}), now=NOW
)


def _at(path: Path, at: datetime) -> None:
    os.utime(path, (at.timestamp(), at.timestamp()))


@pytest.mark.parametrize(
    ("at", "clock", "doubt"),
    [
        (NOW - timedelta(days=2), Clock.FILE, None),
        (NOW - timedelta(days=20), Clock.INODE, "when its package was not yet here"),
        (datetime(1970, 1, 1, tzinfo=UTC), Clock.INODE, "its own time is that of no clock"),
        (NOW + timedelta(days=900), Clock.INODE, "its own time is in the future"),
    ],
)  # fmt: skip
def test_a_file_cannot_choose_its_time(
    root: DebRoot, at: datetime, clock: Clock, doubt: str | None
) -> None:
    path = root.folder / "usr/bin/gull"
    path.write_bytes(b"not a gull")
    _at(path, at)
    now = datetime.now(UTC) if doubt is None else NOW
    wish = TimelineWish(actions=frozenset({Deed.ALTERED}), now=now)
    (row,) = told(root.path, "gull", wish=wish).records
    assert (row.subject, row.clock) == ("/usr/bin/gull", clock)
    assert row.explained_by is None
    assert [one.endswith(doubt or "?") for one in row.doubts] == ([True] if doubt else [])
    if clock is Clock.INODE:
        changed = path.stat().st_ctime
        assert row.at is not None
        assert abs(row.at.timestamp() - changed) < 2


def test_a_time_within_a_transaction_explains_nothing(root: DebRoot) -> None:
    """Whoever swaps a program can say that it was when the package came."""
    path = root.folder / "usr/bin/gull"
    path.write_bytes(b"not a gull")
    _at(path, datetime(2026, 2, 20, 12, 0, 2, tzinfo=UTC))
    (row,) = told(root.path, "gull", wish=FILES).records
    assert row.explained_by is None


def test_what_is_gone_is_told_by_the_directory_it_went_from(root: DebRoot) -> None:
    (root.folder / "usr/bin/gull").unlink()
    _at(root.folder / "usr/bin", NOW - timedelta(days=3))
    (row,) = told(root.path, "gull", wish=FILES).records
    assert (row.action, row.clock, row.at) == (
        Deed.VANISHED, Clock.DIRECTORY, NOW - timedelta(days=3),
    )  # fmt: skip


def test_a_mode_is_told_by_the_inode(root: DebRoot) -> None:
    """This family tells no modes but by overrides; there a swapped time is of no use."""
    (root.folder / "usr/bin/gull").chmod(0o4755)
    root.write("var/lib/dpkg/statoverride", "root root 0755 /usr/bin/gull\n")
    rows = [row for row in told(root.path, "gull", wish=FILES).records if "mode" in row.aspects]
    assert [row.clock for row in rows] == [Clock.INODE]


# -- snapshots ------------------------------------------------------------------------------


def _kept(root: DebRoot, path: Path, key: bytes | None = None) -> str:
    with open_system(root.path) as system:
        snapshot(system, str(path), Taking("a test", "0", key=key))
    return str(path)


def _with(path: str, actions: frozenset[Deed] = frozenset(), **more: object) -> TimelineWish:
    return TimelineWish(actions=actions, snapshots=(path,), **more)  # type: ignore[arg-type]


def test_a_snapshot_bounds_when_a_file_came(root: DebRoot, tmp_path: Path) -> None:
    earlier = root.folder / "usr/bin/earlier"
    earlier.write_bytes(b"x")
    earlier.chmod(0o755)
    path = _kept(root, tmp_path / "kept")
    later = root.folder / "usr/bin/later"
    later.write_bytes(b"x")
    later.chmod(0o755)
    for one in (earlier, later):
        _at(one, NOW - timedelta(days=400))
    rows = {row.subject: row for row in told(root.path, wish=_with(path, FILES.actions)).records}
    assert rows["/usr/bin/later"].clock is Clock.AUDITOR
    assert "was not yet so when a snapshot was taken" in rows["/usr/bin/later"].doubts[0]
    assert rows["/usr/bin/earlier"].clock is Clock.FILE
    assert rows["/usr/bin/earlier"].doubts == []
    with open_system(path) as system:
        assert system.tree.taken is not None
        began = datetime.fromisoformat(system.tree.taken.began)
    assert rows["/usr/bin/earlier"].until == began
    assert rows["/usr/bin/later"].at >= began  # type: ignore[operator]


def test_a_record_that_was_made_to_fit_is_seen_by_a_snapshot(tmp_path: Path, heron: Path) -> None:
    """The swapped siltmeter, its digest in the local record doctored: intact, by that record."""
    settled = build_heron(tmp_path / "heron", SETTLED)
    with open_system(str(settled)) as system:
        snapshot(system, str(tmp_path / "kept"), Taking("a test", "0", key=bytes(secret_key())))
    assert not [row for row in told(heron, wish=FILES).records if "siltmeter" in row.subject]
    keyring = tmp_path / "keys"
    keyring.write_bytes(public_key())
    wish = _with(str(tmp_path / "kept"), FILES.actions | {Deed.KEPT}, keyring=(str(keyring),))
    rows = {row.subject: row for row in told(heron, wish=wish).records}
    assert rows["/usr/bin/siltmeter"].explained_by is None
    assert rows["siltmeter:amd64"].action is Deed.ALTERED
    signed = [row for row in rows.values() if row.action is Deed.KEPT]
    assert [row.explained_by.startswith("signed by") for row in signed if row.explained_by] == [
        True
    ]


def test_what_a_snapshot_told_and_the_root_does_no_more(root: DebRoot, tmp_path: Path) -> None:
    path = _kept(root, tmp_path / "kept")
    text = (root.folder / STEPS).read_text()
    root.write(STEPS, "".join(line for line in text.splitlines(True) if "remove eider" not in line))
    rows = [
        row
        for row in told(root.path, wish=_with(path, OF_PACKAGES)).records
        if not row.explained_by
    ]
    (row,) = [row for row in rows if row.action is Deed.REMOVED]
    assert (row.package, row.doubts) == ("eider", ["the root's own history tells it no more"])
    assert (row.told_in or "").startswith(f"{path}:")


def test_a_step_that_was_written_afterwards(root: DebRoot, tmp_path: Path) -> None:
    """To explain what came, somebody writes it into the log of days ago."""
    path = _kept(root, tmp_path / "kept")
    text = (root.folder / STEPS).read_text()
    line = "2026-02-20 15:00:00 install smew:amd64 <none> 1.0-1\n"
    root.write(STEPS, text.replace("2026-02-21", f"{line}2026-02-21", 1))
    came(root, "smew", datetime(2026, 2, 20, 15, tzinfo=UTC))
    assert all(row.explained_by for row in told(root.path).records)  # without a snapshot it holds
    rows = [
        row
        for row in told(root.path, wish=_with(path, OF_PACKAGES)).records
        if not row.explained_by
    ]
    assert [row.package for row in rows] == ["smew"]
    assert "was not yet told when a snapshot was taken" in rows[0].doubts[0]


def test_a_history_that_was_rotated_is_no_hole(root: DebRoot, tmp_path: Path) -> None:
    path = _kept(root, tmp_path / "kept")
    text = (root.folder / STEPS).read_text().splitlines(True)
    root.write(STEPS, "".join(text[3:]))
    root.write(ASKED, "")
    rows = told(root.path, wish=_with(path, OF_PACKAGES)).records
    assert all(row.explained_by for row in rows)
    assert len([row for row in rows if row.action is Deed.INSTALLED]) == 2


@pytest.mark.parametrize("what", ["a directory", "nothing", "another family"])
def test_what_is_no_snapshot_of_this_root_is_refused(
    root: DebRoot, tmp_path: Path, dunlin: Path, what: str
) -> None:
    from filigree.model.errors import FiligreeError

    path = {"a directory": root.path, "nothing": str(tmp_path / "none")}.get(what)
    if path is None:
        path = str(tmp_path / "dunlin")
        with open_system(str(dunlin)) as system:
            snapshot(system, path, Taking("a test", "0"))
    with pytest.raises(FiligreeError):
        told(root.path, wish=_with(path, OF_PACKAGES))


def test_a_snapshot_is_asked_as_the_root_was(root: DebRoot, tmp_path: Path) -> None:
    (root.folder / "usr/bin/gull").write_bytes(b"not a gull")
    path = _kept(root, tmp_path / "kept")
    wish = TimelineWish()
    there, here = (told(one, wish=wish) for one in (root.path, path))
    assert here.records == there.records
    assert here.summary.by_action == there.summary.by_action
    assert here.summary.seen_at < there.summary.seen_at


# -- what of it is told ---------------------------------------------------------------------


@pytest.mark.parametrize(
    ("subjects", "names"),
    [
        (["gull"], {"gull"}), (["eider"], {"eider"}), (["e*", "auk"], {"eider", "auk"}),
        (["gull=1.0-1"], {"gull"}), (["gull:arm64"], set()), (["/usr/bin/gull"], {"gull"}),
    ],
)  # fmt: skip
def test_subjects(root: DebRoot, subjects: list[str], names: set[str]) -> None:
    answer = told(root.path, *subjects)
    assert {row.package for row in answer.records} == names
    assert bool(answer.notes) is not bool(names)


def test_a_name_that_nothing_tells_of_is_suggested(root: DebRoot) -> None:
    answer = told(root.path, "eidr")
    assert answer.notes == ["nothing is told of eidr; did you mean eider?"]
    assert answer.exit_status == 1


def test_what_came_with_it_and_what_happened_around_it(root: DebRoot) -> None:
    wish = TimelineWish(actions=OF_PACKAGES, around="eider=3-1", within="10 minutes", now=NOW)
    rows = [(row.package, row.action) for row in told(root.path, wish=wish).records]
    assert rows == [
        ("eider", Deed.INSTALLED), ("gull", Deed.INSTALLED), ("eider", Deed.REMOVED),
    ]  # fmt: skip
    wide = TimelineWish(actions=OF_PACKAGES, around="eider", within="1 day", now=NOW)
    assert len(told(root.path, wish=wide).records) == 4
    nothing = told(root.path, wish=TimelineWish(actions=OF_PACKAGES, around="smew", now=NOW))
    assert nothing.notes == ["no time is told of smew"]


@pytest.mark.parametrize(
    ("since", "until", "count"),
    [
        (None, None, 5), ("2026-02-20", None, 2), ("9 days", None, 2), ("2026-02-19", "2026-02-19", 2),
        ("2026-02", "2026-02", 4), (None, "2026-02-19 12:00:01", 1), ("2026", "2026", 5),
        ("yesterday", None, 0), ("2026-02-20T13:00:01+01:00", None, 2),
    ],
)  # fmt: skip
def test_since_and_until(root: DebRoot, since: str | None, until: str | None, count: int) -> None:
    wish = TimelineWish(since, until, OF_PACKAGES, now=NOW)
    assert len(told(root.path, wish=wish).records) == count


DAY = datetime(2026, 3, 1, tzinfo=UTC)


@pytest.mark.parametrize(
    ("text", "start", "end"),
    [
        ("now", NOW, NOW), ("today", DAY, DAY + timedelta(days=1)),
        ("yesterday", DAY - timedelta(days=1), DAY), ("3 days", NOW - timedelta(days=3), None),
        ("1 hour ago", NOW - timedelta(hours=1), None), ("2weeks", NOW - timedelta(days=14), None),
        ("2025-12", datetime(2025, 12, 1, tzinfo=UTC), datetime(2026, 1, 1, tzinfo=UTC)),
        ("2025", datetime(2025, 1, 1, tzinfo=UTC), datetime(2026, 1, 1, tzinfo=UTC)),
        ("2026-02-28", DAY - timedelta(days=1), DAY),
    ],
)  # fmt: skip
def test_times_as_people_write_them(text: str, start: datetime, end: datetime | None) -> None:
    assert moment_from(text, NOW) == start
    assert moment_from(text, NOW, end=True) == (end or start)


@pytest.mark.parametrize(
    "text", ["", "soon", "3 fortnights", "2026-13", "2026-02-30", "99999 years", "0000", "-1 day"]
)
def test_times_that_are_none(text: str) -> None:
    with pytest.raises(BadQuestion):
        moment_from(text, NOW)


@given(st.text(max_size=30))
def test_any_text_is_a_time_or_a_bad_question(text: str) -> None:
    for read in (lambda one: moment_from(one, NOW), span_from):
        try:
            read(text)
        except BadQuestion:
            continue


def test_an_end_before_the_beginning(root: DebRoot) -> None:
    with pytest.raises(BadQuestion):
        told(root.path, wish=TimelineWish("2026-02-20", "2026-02-10", now=NOW))


# -- logs as hostile input ------------------------------------------------------------------


def test_transactions_of_every_end() -> None:
    text = (
        b"\nStart-Date: 2026-02-19  12:00:00\nInstall: a:amd64 (1), b:all (2, automatic), odd, (x)\n"
        b"Commandline: keep \xff\nEnd-Date: 2026-02-19  12:00:05\n \n"
        b"Start-Date: 2026-02-20  12:00:00\nPurge: a:amd64 (1)\nError: no\n\n\n"
        b"Start-Date: never\nReinstall: b (2)\nDowngrade: c:amd64 (3, 2)\n\nEnd-Date: 2026-02-19  1:00\n"
    )
    one, two, three = read_transactions(text)
    assert [(step.action.value, step.name, step.version) for step in one.steps] == [
        ("installed", "a", "1"), ("installed", "b", "2"),
    ]  # fmt: skip
    assert text[one.offset :].startswith(b"Start-Date: 2026-02-19")
    assert text[two.offset :].startswith(b"Start-Date: 2026-02-20")
    assert (one.outcome, two.outcome, three.outcome) == (
        Outcome.COMPLETED, Outcome.FAILED, Outcome.UNFINISHED,
    )  # fmt: skip
    assert three.began is None
    assert [step[:3] for step in three.steps] == [
        ("replaced", "b", "2"), ("installed", "b", "2"), ("replaced", "c", "3"), ("installed", "c", "2"),
    ]  # fmt: skip


def test_transactions_of_an_arch_log() -> None:
    at = b"[2026-02-20T12:00:00+0000] "
    text = b"".join(at + line + b"\n" for line in (
        b"[PACMAN] Running 'keep add gull'", b"[ALPM] transaction started",
        b"[ALPM] installed gull (1-1)",
        b"[ALPM] transaction completed", b"[ALPM] transaction started", b"[ALPM] transaction started",
        b"[ALPM] transaction interrupted", b"[ALPM] transaction failed", b"[ALPM] transaction started",
    ))  # fmt: skip
    runs = list(read_arch_runs(text))
    assert [run.outcome for run in runs] == [
        Outcome.COMPLETED, Outcome.UNFINISHED, Outcome.UNFINISHED, Outcome.UNFINISHED,
    ]  # fmt: skip
    assert runs[0].command == "keep add gull"
    assert b"installed gull" in text[runs[0].start : runs[0].end]
    assert runs[-1].end == len(text)


@given(st.binary(max_size=400), st.sampled_from([read_transactions, read_deb_runs, read_arch_runs]))
def test_any_bytes_are_a_log(data: bytes, read: Callable[[bytes], object]) -> None:
    lines = data.replace(b"|", b"\nStart-Date: 2026-02-20  12:00:00\nInstall: ")
    list(read(lines))  # type: ignore[call-overload]


@pytest.mark.parametrize(
    "tables",
    [
        "CREATE TABLE trans (id); INSERT INTO trans VALUES ('x'), (NULL), (x'ff')",
        "CREATE TABLE trans (id INTEGER PRIMARY KEY, dt_begin, dt_end, user_id, cmdline, state);"
        "INSERT INTO trans VALUES (1, 'a', 9e99, x'00', 7, 'z'),"
        " (2, -9223372036854775808, 1, 5000, '', 2)",
        "CREATE VIEW trans AS SELECT 1 AS id, 2 AS dt_begin",
        "CREATE TABLE trans (id, dt_begin); CREATE TABLE trans_state (name)",
    ],
)
def test_a_hostile_database_of_transactions_is_bounded(
    tmp_path: Path, curlew: Path, tables: str
) -> None:
    root = Path(shutil.copytree(curlew, tmp_path / "root", symlinks=True))
    (root / "usr/lib/sysimage/libdnf5/transaction_history.sqlite").unlink()
    path = root / "var/lib/dnf/history.sqlite"
    path.parent.mkdir(parents=True, exist_ok=True)
    with sqlite3.connect(path) as connection:
        connection.executescript(
            "CREATE TABLE rpm (item_id, name, epoch, version, release, arch);"
            "CREATE TABLE repo (id, repoid);"
            "CREATE TABLE trans_item (id, trans_id, item_id, repo_id, reason, action);"
            "INSERT INTO rpm VALUES (1, 'gull', 0, '1', '1', 'x86_64');"
            f"INSERT INTO trans_item VALUES (1, 1, 1, 1, 1, 1), (2, 2, 1, 1, 1, 1); {tables};"
        )
    connection.close()
    answer = told(root)
    assert answer.exit_status in (0, 1, 3)
