"""What the stations wrote of what was done to them: a transaction a week, and what went wrong with one.

The keeper asks for packages with a program of the office, `station-keep`; what it wrote is in the form of
each family's own history.
"""

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime, timedelta
from itertools import groupby
from typing import NamedTuple

from filigree.demo import arch, deb, rpm
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT
from filigree.families.arch import places as arch_places
from filigree.families.deb import places as deb_places
from filigree.families.rpm import places as rpm_places

KEEPER = "tide (950)"
_OLD = {"chartroom": "5.3.9-1"}
"""What stood there before, of those that were upgraded."""
_DROPPED = BUILT + timedelta(days=25)


class Arrival(NamedTuple):
    """A package that came: when, in which version, and which one it took the place of."""

    at: datetime
    name: str
    version: str
    architecture: str
    before: str | None = None


def _weeks(arrivals: Iterable[Arrival]) -> Iterator[list[Arrival]]:
    """What came in one go."""
    ordered = sorted(arrivals, key=lambda one: (one.at, one.name, one.architecture))
    for _, held in groupby(ordered, key=lambda one: one.at.date()):
        yield list(held)


def _with_older(arrivals: Sequence[Arrival]) -> list[Arrival]:
    """What came, and the versions that were replaced: those came on the first day."""
    first = min(one.at for one in arrivals)
    older = [one._replace(at=first, version=_OLD[one.name]) for one in arrivals if one.name in _OLD]
    return [*older, *(one._replace(before=_OLD.get(one.name)) for one in arrivals)]


def write_deb_history(disk: Disk, installed: Sequence[deb.Installed]) -> None:
    """Both logs of a `deb` system: every step, and who asked for what."""
    there = [one for one in installed if "config-files" not in one.status]
    gone = [one for one in installed if "config-files" in one.status]
    arrivals = _with_older([
        Arrival(one.at, one.ware.name, deb.version_of(one.ware), one.architecture)
        for one in (*there, *gone)
    ])  # fmt: skip
    broken = {one.ware.name for one in installed if "half" in one.status}
    steps: list[str] = []
    asked: list[str] = []
    for week in _weeks(arrivals):
        steps.append(f"{week[0].at:%Y-%m-%d %H:%M:%S} startup archives unpack")
        for one in week:
            what = f"upgrade {one.name}:{one.architecture} {one.before}"
            if one.before is None:
                what = f"install {one.name}:{one.architecture} <none>"
            steps.append(f"{one.at:%Y-%m-%d %H:%M:%S} {what} {one.version}")
        failed = sorted(one.name for one in week if one.name in broken)
        asked.append(_stanza(week, f"{failed[0]} could not be set up" if failed else None))
    for gone_one in gone:
        name, version = gone_one.ware.name, deb.version_of(gone_one.ware)
        machine = gone_one.architecture
        steps.append(f"{_DROPPED:%Y-%m-%d %H:%M:%S} startup packages remove")
        steps.append(f"{_DROPPED:%Y-%m-%d %H:%M:%S} remove {name}:{machine} {version} <none>")
        asked.append(
            f"Start-Date: {_DROPPED:%Y-%m-%d  %H:%M:%S}\nCommandline: station-keep drop {name}\n"
            f"Requested-By: {KEEPER}\nRemove: {name}:{machine} ({version})\n"
            f"End-Date: {_DROPPED + timedelta(seconds=3):%Y-%m-%d  %H:%M:%S}\n"
        )
    disk.file(deb_places.LOG, "\n".join(steps) + "\n", at=_DROPPED)
    disk.file(deb_places.TRANSACTIONS, "\n" + "\n".join(asked), at=_DROPPED)


def _stanza(week: Sequence[Arrival], error: str | None) -> str:
    began, ended = week[0].at, week[-1].at + timedelta(seconds=40)
    fields = [f"Start-Date: {began:%Y-%m-%d  %H:%M:%S}", f"Commandline: {_command(week)}"]
    fields.append(f"Requested-By: {KEEPER}")
    came = [f"{_named(one)} ({one.version})" for one in week if one.before is None]
    newer = [f"{_named(one)} ({one.before}, {one.version})" for one in week if one.before]
    fields += [f"Install: {', '.join(came)}"] if came else []
    fields += [f"Upgrade: {', '.join(newer)}"] if newer else []
    fields += [f"Error: {error}"] if error else []
    fields.append(f"End-Date: {ended:%Y-%m-%d  %H:%M:%S}")
    return "\n".join(fields) + "\n"


def _named(one: Arrival) -> str:
    machine = "amd64" if one.architecture == "all" else one.architecture
    return f"{one.name}:{machine}"


def _command(week: Sequence[Arrival]) -> str:
    return f"station-keep add {week[-1].name} and {len(week) - 1} more"


def write_arch_history(disk: Disk, installed: Sequence[arch.InstalledGood]) -> None:
    """The log of an `arch` system, in both forms of time."""
    lines = [f"[{BUILT:%Y-%m-%d %H:%M}] installed chartroom ({_OLD['chartroom']})"]
    came = [Arrival(one.at, one.ware.name, one.version, "") for one in installed]
    for week in _weeks([one._replace(before=_OLD.get(one.name)) for one in came]):
        began, ended = (f"[{at:%Y-%m-%dT%H:%M:%S}+0000]" for at in (week[0].at, week[-1].at))
        lines.append(f"{began} [PACMAN] Running '{_command(week)}'")
        lines.append(f"{began} [ALPM] transaction started")
        for one in week:
            what = "installed" if one.before is None else "upgraded"
            old = "" if one.before is None else f"{one.before} -> "
            at = f"[{one.at:%Y-%m-%dT%H:%M:%S}+0000]"
            lines.append(f"{at} [ALPM] {what} {one.name} ({old}{one.version})")
        lines.append(f"{ended} [ALPM] transaction completed")
    disk.file(arch_places.LOG, "\n".join(lines) + "\n")


_TABLES = """
CREATE TABLE pkg_name (id INTEGER PRIMARY KEY, name TEXT);
CREATE TABLE arch (id INTEGER PRIMARY KEY, name TEXT);
CREATE TABLE repo (id INTEGER PRIMARY KEY, repoid TEXT);
CREATE TABLE rpm (item_id INTEGER, name_id INTEGER, epoch INTEGER, version TEXT, release TEXT,
 arch_id INTEGER);
CREATE TABLE trans_state (id INTEGER PRIMARY KEY, name TEXT);
CREATE TABLE trans (id INTEGER PRIMARY KEY, dt_begin INTEGER, dt_end INTEGER, user_id INTEGER,
 description TEXT, state_id INTEGER);
CREATE TABLE trans_item_action (id INTEGER PRIMARY KEY, name TEXT);
CREATE TABLE trans_item (id INTEGER PRIMARY KEY, trans_id INTEGER, item_id INTEGER, repo_id INTEGER,
 action_id INTEGER, reason_id INTEGER);
INSERT INTO trans_item_action VALUES (1, 'Install'), (2, 'Upgrade'), (3, 'Replaced'), (4, 'Remove');
INSERT INTO trans_state VALUES (1, 'Started'), (2, 'Ok'), (3, 'Error');
INSERT INTO arch VALUES (1, 'noarch'), (2, 'x86_64'), (3, 'i686');
INSERT INTO repo VALUES (1, 'coast-base');
"""
_MACHINES = {"noarch": 1, "x86_64": 2, "i686": 3}


def write_rpm_history(disk: Disk, installed: Sequence[rpm.Shipped]) -> None:
    """The database of transactions of an `rpm` system, in its newest form."""
    came = _with_older([
        Arrival(one.at or BUILT, one.name, one.version, one.architecture) for one in installed
    ])  # fmt: skip
    epochs = {one.name: one.ware.epoch for one in installed}
    path = disk.real(rpm_places.TRANSACTIONS)
    path.parent.mkdir(parents=True, exist_ok=True)
    path.unlink(missing_ok=True)
    connection = sqlite3.connect(path)
    connection.executescript(_TABLES)
    names = {name: number for number, name in enumerate(sorted({one.name for one in came}), 1)}
    connection.executemany(
        "INSERT INTO pkg_name VALUES (?, ?)", [(n, name) for name, n in names.items()]
    )
    item = 0
    for number, week in enumerate(_weeks(came), 1):
        began, ended = int(week[0].at.timestamp()), int(week[-1].at.timestamp()) + 40
        connection.execute(
            "INSERT INTO trans VALUES (?, ?, ?, 950, ?, 2)", (number, began, ended, _command(week))
        )
        for one in week:
            versions = [(1 if one.before is None else 2, one.version)]
            versions += [(3, one.before)] if one.before else []
            for action, full in versions:
                item += 1
                version, _, release = full.rpartition("-")
                machine = _MACHINES[one.architecture]
                connection.execute(
                    "INSERT INTO rpm VALUES (?, ?, ?, ?, ?, ?)",
                    (item, names[one.name], epochs[one.name] or 0, version, release, machine),
                )
                connection.execute(
                    "INSERT INTO trans_item VALUES (?, ?, ?, 1, ?, 1)", (item, number, item, action)
                )
    connection.commit()
    connection.close()
    disk.touch(rpm_places.TRANSACTIONS, BUILT + timedelta(days=22))
