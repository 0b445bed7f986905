"""Forty gauge hosts, made of the stations, on four days; and what somebody did to one of them by
night."""

import random
from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

from filigree.demo.world import SEED
from filigree.families.registry import family_named
from filigree.fleet.gate import Gathering, take_in
from filigree.fleet.identity import Row, identity_of
from filigree.fleet.store import FleetStore
from filigree.fleet.taking import Build, Taken, taken_of
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system

FOLDER = "fleet"
FLEET_OF = ("heron", "curlew")
"""The stations that its hosts are made of: the first one is what most of them are like."""
HOSTS = 40
DAYS = 4
FIRST_DAY = datetime(2026, 3, 1, 6, tzinfo=UTC)
VISITED = 18
"""The host that somebody came to, before the third day."""
NIGHT = 2
NEWER = "harbourlog"
"""What was upgraded on the second day, at most of the hosts."""
_LACK = 3


def taken_from(root: Path | str, host: str) -> Taken:
    """A station as rows, as of the first day."""
    with open_system(str(root)) as system:
        return taken_of(system, host, FIRST_DAY, RepositoryOptions())


def write_fleet(into: Path, quiet: Mapping[str, Taken], visited: Taken) -> None:
    """Write the store of the demo: hosts like the stations as they were before the night (`quiet`), and
    one of them that turned out like `visited`."""
    store = FleetStore(str(into / FOLDER), make=True)
    take_in(
        store,
        made_up(quiet, visited),
        Gathering(now=FIRST_DAY + timedelta(days=DAYS)),
        HOSTS * DAYS,
    )


def made_up(quiet: Mapping[str, Taken], visited: Taken) -> Iterator[Taken]:
    """Every host on every day: three in four are of the first kind, and half of each kind are alike."""
    kinds = list(quiet.values())
    newer = {kind.family: _newer(kind) for kind in kinds}
    for number in range(1, HOSTS + 1):
        kind = kinds[0] if number % 4 else kinds[(number // 4) % len(kinds)]
        assert number != VISITED or kind is kinds[0]
        for day in range(DAYS):
            base = visited if number == VISITED and day >= NIGHT else kind
            one = one_host(base, f"gauge-{number:02d}", FIRST_DAY + timedelta(days=day), number)
            change = newer[kind.family]
            yield upgraded(one, *change, FIRST_DAY) if day and number % 5 and change else one


def one_host(base: Taken, name: str, at: datetime, number: int) -> Taken:
    """A host like another one, on a day. Every other one lacks a few packages, always the same."""
    parts = dict(base.parts)
    if number % 2:
        dice = random.Random(f"{SEED}/{base.family}/{number}")
        names = {one: str(build.row[2]) for one, build in base.builds.items()}
        gone = set(dice.sample(sorted(set(names.values())), _LACK))
        parts["sets"] = [row for row in base.parts["sets"] if names[str(row[0])] not in gone]
        parts["deviations"] = [row for row in base.parts["deviations"] if row[2] not in gone]
        parts["behind"] = [row for row in base.parts["behind"] if row[0] not in gone]
    label = base.label.rpartition(" ")[0] + f" {name}"
    return Taken(name, int(at.timestamp()), base.family, label, base.builds, parts)


def _newer(kind: Taken) -> tuple[Build, Build] | None:
    """A build of a kind of host, and the next version of it."""
    old = next((one for one in kind.builds.values() if one.row[2] == NEWER), None)
    if old is None:
        return None
    return old, next_version(old)


def next_version(old: Build) -> Build:
    """A newer build of a package: other contents, and a higher last number."""
    version = f"{old.row[3]}.1"
    key = family_named(str(old.row[1])).sort_key
    files: list[Row] = [(*row[:5], _other_digest(row[5]), *row[6:]) for row in old.files]
    facts = ("newer", *old.row[1:3], version, key(version) if key else None, *old.row[5:])
    identity = identity_of([facts, *files])
    return Build(
        identity, (identity, *facts[1:]), [(identity, *row[1:]) for row in files],
        [(identity, *row[1:]) for row in old.needs], [(identity, *row[1:]) for row in old.gives],
    )  # fmt: skip


def _other_digest(digest: str | int | None) -> str | None:
    if not isinstance(digest, str):
        return None
    algorithm, _, digits = digest.partition(":")
    return f"{algorithm}:{digits[::-1]}"


def upgraded(host: Taken, old: Build, new: Build, at: datetime) -> Taken:
    """A host with a newer build of a package in the place of the old one, and a history that tells it."""
    if not any(row[0] == old.identity for row in host.parts["sets"]):
        return host
    sets = [
        (new.identity, *row[1:]) if row[0] == old.identity else row for row in host.parts["sets"]
    ]
    when = int((at + timedelta(hours=20)).timestamp())
    step: Row = ("upgraded", new.row[2], new.row[3], new.row[5], "/var/log/history", when)
    parts = {**host.parts, "sets": sets, "events": [*host.parts["events"], step]}
    builds = {**host.builds, new.identity: new}
    return replace(host, builds=builds, parts=parts)
