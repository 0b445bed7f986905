"""Histories of every family: logs, transactions, records of what is gone."""

import gzip
import sqlite3
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.formats.change_logs import Logged, read_arch_log, read_deb_log
from filigree.model.events import Action
from filigree.questions.commands.dossier import dossier
from filigree.system import open_system
from tests.conftest import events_of
from tests.making import DebRoot, RpmRoot

AT = datetime(2026, 1, 12, 8, 30, 7, tzinfo=UTC)
INSTALLED, REPLACED, REMOVED = Action.INSTALLED, Action.REPLACED, Action.REMOVED


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("install gull:amd64 <none> 1.0-1", [(INSTALLED, "1.0-1", "amd64")]),
        ("upgrade gull:amd64 1.0-1 1.1-1", [(REPLACED, "1.0-1", "amd64"), (INSTALLED, "1.1-1", "amd64")]),
        ("remove gull:all 1.1-1 <none>", [(REMOVED, "1.1-1", "all")]),
        ("install gull <none> 1:0.9", [(INSTALLED, "1:0.9", None)]),
        ("purge gull:amd64 1.1-1 <none>", []), ("status installed gull:amd64 1.1-1", []),
        ("configure gull:amd64 1.1-1 <none>", []), ("startup archives unpack", []), ("install gull", []),
    ],
)  # fmt: skip
def test_lines_of_a_deb_log(line: str, told: list[tuple[Action, str, str | None]]) -> None:
    found = list(read_deb_log(f"2026-01-12 08:30:07 {line}\n".encode()))
    assert found == [Logged(AT, what, "gull", version, machine) for what, version, machine in told]


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("[2026-01-12T08:30:07+0000] [ALPM] installed gull (1.0-1)", [(INSTALLED, "1.0-1")]),
        ("[2026-01-12T09:30:07+0100] [ALPM] removed gull (1.0-1)", [(REMOVED, "1.0-1")]),
        ("[2026-01-12T08:30:07+0000] [ALPM] upgraded gull (1.0-1 -> 1:0.9-1)",
         [(REPLACED, "1.0-1"), (INSTALLED, "1:0.9-1")]),
        ("[2026-01-12T08:30:07+0000] [ALPM] downgraded gull (2-1 -> 1-1)",
         [(REPLACED, "2-1"), (INSTALLED, "1-1")]),
        ("[2026-01-12T08:30:07+0000] [ALPM] reinstalled gull (1-1)",
         [(REPLACED, "1-1"), (INSTALLED, "1-1")]),
        ("[2026-01-12T08:30:07+0000] [ALPM-SCRIPTLET] installed gull (1-1)", []),
        ("[2026-01-12T08:30:07+0000] [ALPM] warning: gull (1-1)", []),
    ],
)  # fmt: skip
def test_lines_of_an_arch_log(line: str, told: list[tuple[Action, str]]) -> None:
    found = list(read_arch_log(f"{line}\n".encode()))
    assert found == [Logged(AT, what, "gull", version, None, 0, True) for what, version in told]


def test_the_older_form_of_time() -> None:
    (one,) = read_arch_log(b"[2013-01-02 10:11] installed gull (1.0-1)\n")
    assert one.at == datetime(2013, 1, 2, 10, 11, tzinfo=UTC)
    (odd,) = read_arch_log(b"[2013-13-02 10:11] installed gull (1.0-1)\n")
    assert odd.at is None


@given(
    names=st.sets(st.sampled_from(["gull", "eider", "auk+", "a.b"])), data=st.binary(max_size=80)
)
def test_names_choose_lines(names: set[str], data: bytes) -> None:
    every = ("gull", "eider", "auk+", "a.b", "axb")
    log = data.replace(b"\n", b" ") + b"\n" + b"".join(
        b"2026-01-12 08:30:07 install %s:all <none> 1\n" % name.encode() for name in every
    )  # fmt: skip
    assert {one.name for one in read_deb_log(log, names)} == names
    assert {one.name for one in read_deb_log(log)} == set(every)
    list(read_arch_log(data))


def test_a_log_and_what_was_rotated_of_it(deb_root: DebRoot) -> None:
    deb_root.package("gull", "1.1-1")
    deb_root.write("var/log/dpkg.log", "2026-02-02 08:30:07 upgrade gull:amd64 1.0-1 1.1-1\n")
    old = gzip.compress(b"2026-01-12 08:30:07 install gull:amd64 <none> 1.0-1\n")
    deb_root.write("var/log/dpkg.log.2.gz", old)
    deb_root.write("var/log/dpkg.log.3.gz", old[:20])
    with open_system(deb_root.path) as system:
        answer = dossier(system, ["gull"])
    (row,) = answer.records
    assert [(one.action, one.version) for one in row.history] == [
        (INSTALLED, "1.1-1"), (REPLACED, "1.0-1"), (INSTALLED, "1.0-1"),
    ]  # fmt: skip
    assert row.history[-1].told_in == "/var/log/dpkg.log.2.gz"
    assert [gap.what for gap in answer.gaps] == ["/var/log/dpkg.log.3.gz"]


def test_transactions_of_an_rpm_system(tmp_path: Path) -> None:
    root = RpmRoot(tmp_path / "root")
    root.package("gull")
    path = root.folder / "var/lib/dnf/history.sqlite"
    path.parent.mkdir(parents=True)
    with sqlite3.connect(path) as connection:
        connection.executescript(
            "CREATE TABLE rpm (item_id INTEGER, name, epoch INTEGER, version, release, arch);"
            "CREATE TABLE repo (id INTEGER, repoid);"
            "CREATE TABLE trans (id INTEGER PRIMARY KEY, dt_begin INTEGER);"
            "CREATE TABLE trans_item (id INTEGER PRIMARY KEY, trans_id, item_id, repo_id, reason INTEGER,"
            " action INTEGER);"
            "INSERT INTO rpm VALUES (1, 'gull', 0, '0.9', '1', 'x86_64'),"
            " (2, 'gull', 2, '1.0', '1', 'x86_64');"
            f"INSERT INTO trans VALUES (1, {int(AT.timestamp())}), (2, {int(AT.timestamp()) + 9});"
            "INSERT INTO trans_item VALUES (1, 1, 1, 1, 2, 1), (2, 2, 1, 1, 2, 7), (3, 2, 2, 1, 2, 6),"
            " (4, 2, 2, 1, 2, 11);"
        )
    connection.close()
    with open_system(root.path) as system:
        (row,) = dossier(system, ["gull"]).records
    assert {(one.action, one.version) for one in row.history} == {
        (INSTALLED, "0.9-1"), (REPLACED, "0.9-1"), (INSTALLED, "2:1.0-1"),
    }  # fmt: skip
    assert row.history[-1].at == AT


def _newest(path: Path) -> None:
    """A database of the newest form: names, machines and actions stand in tables of their own."""
    path.parent.mkdir(parents=True)
    with sqlite3.connect(path) as connection:
        connection.executescript(
            "CREATE TABLE pkg_name (id INTEGER PRIMARY KEY, name TEXT);"
            "CREATE TABLE arch (id INTEGER PRIMARY KEY, name TEXT);"
            "CREATE TABLE repo (id INTEGER PRIMARY KEY, repoid TEXT);"
            "CREATE TABLE rpm (item_id, name_id, epoch INTEGER, version, release, arch_id);"
            "CREATE TABLE trans (id INTEGER PRIMARY KEY, dt_begin INTEGER);"
            "CREATE TABLE trans_item_action (id INTEGER PRIMARY KEY, name TEXT);"
            "CREATE TABLE trans_item (id INTEGER PRIMARY KEY, trans_id, item_id, repo_id, reason_id,"
            " action_id INTEGER);"
            "INSERT INTO pkg_name VALUES (7, 'gull'), (8, 'kittiwake');"
            "INSERT INTO arch VALUES (3, 'x86_64');"
            "INSERT INTO trans_item_action VALUES (1, 'Install'), (2, 'Upgrade'), (6, 'Replaced'),"
            " (5, 'Remove'), (9, 'Reason Change');"
            "INSERT INTO rpm VALUES (1, 7, 0, '0.9', '1', 3), (2, 7, 2, '1.0', '1', 3),"
            " (3, 8, 0, '4', '1', 3);"
            f"INSERT INTO trans VALUES (1, {int(AT.timestamp())}), (2, {int(AT.timestamp()) + 9});"
            "INSERT INTO trans_item VALUES (1, 1, 1, 1, 1, 1), (2, 2, 1, 1, 1, 6), (3, 2, 2, 1, 1, 2),"
            " (4, 2, 2, 1, 1, 9), (5, 2, 3, 1, 1, 5);"
        )
    connection.close()


def test_the_newest_transactions_of_an_rpm_system(tmp_path: Path) -> None:
    root = RpmRoot(tmp_path / "root")
    root.package("gull")
    _newest(root.folder / "usr/lib/sysimage/libdnf5/transaction_history.sqlite")
    with open_system(root.path) as system:
        (row,) = dossier(system, ["gull"]).records
        every = [(one.action, one.name, one.version) for one in events_of(system)]
        assert not system.gaps
    assert {(one.action, one.version, one.architecture) for one in row.history} == {
        (INSTALLED, "0.9-1", "x86_64"), (REPLACED, "0.9-1", "x86_64"), (INSTALLED, "2:1.0-1", "x86_64"),
    }  # fmt: skip
    assert (REMOVED, "kittiwake", "4-1") in every
    assert row.history[-1].at == AT


def test_logs_of_an_rpm_system_tell_what_was_before_its_transactions(tmp_path: Path) -> None:
    root = RpmRoot(tmp_path / "root")
    root.package("gull")
    root.write(
        "var/log/dnf.rpm.log",
        f"{AT - timedelta(days=2):%Y-%m-%dT%H:%M:%S}+0000 SUBDEBUG Installed: gull-0.7-1.x86_64\n"
        f"{AT - timedelta(days=1):%Y-%m-%dT%H:%M:%S}+0000 SUBDEBUG Upgrade: gull-1:0.8-1.x86_64\n"
        f"{AT - timedelta(days=1):%Y-%m-%dT%H:%M:%S}Z SUBDEBUG Upgraded: gull-0.7-1.x86_64\n"
        f"{AT + timedelta(days=1):%Y-%m-%dT%H:%M:%S}+0000 SUBDEBUG Installed: gull-0.9-1.x86_64\n"
        f"{AT - timedelta(days=1):%Y-%m-%dT%H:%M:%S}+0000 SUBDEBUG Installed: gull-eggs-3-1.noarch\n"
        "2026-99-99T00:00:00Z INFO --- logging initialized ---\n",
    )
    root.write("var/log/yum.log-20200101", "Jan  2 08:30:00 Updated: 1:gull-0.5-1.x86_64\n")
    _newest(root.folder / "usr/lib/sysimage/libdnf5/transaction_history.sqlite")
    with open_system(root.path) as system:
        (row,) = dossier(system, ["gull"]).records
        assert not system.gaps
    logs = [
        (one.action, one.version, one.at is None, one.told_in)
        for one in row.history if one.told_in.startswith("/var/log")
    ]  # fmt: skip
    assert sorted(logs) == [
        (INSTALLED, "0.7-1", False, "/var/log/dnf.rpm.log"),
        (INSTALLED, "1:0.5-1", True, "/var/log/yum.log-20200101"),
        (INSTALLED, "1:0.8-1", False, "/var/log/dnf.rpm.log"),
        (REPLACED, "0.7-1", False, "/var/log/dnf.rpm.log"),
    ]


@pytest.mark.parametrize("content", [b"", b"no database", b"SQLite format 3\0" + b"\xff" * 4000])
def test_a_newest_history_that_cannot_be_read_is_a_gap(tmp_path: Path, content: bytes) -> None:
    root = RpmRoot(tmp_path / "root")
    root.package("gull")
    path = "usr/lib/sysimage/libdnf5/transaction_history.sqlite"
    root.write(path, content)
    with open_system(root.path) as system:
        assert not list(events_of(system))
        assert [gap.what for gap in system.gaps] == [f"/{path}"]


def test_the_history_of_plover(plover: Path) -> None:
    with open_system(str(plover)) as system:
        (row,) = dossier(system, ["chartroom"]).records
        every = list(events_of(system))
    assert [(one.action, one.version) for one in row.history] == [
        (INSTALLED, "5.4.1-2"), (REPLACED, "5.3.9-1"), (INSTALLED, "5.3.9-1"),
    ]  # fmt: skip
    assert len({one.name for one in every}) == 60
