"""How a fleet of made-up hosts grows, and what each question of it costs.

    python benchmarks/fleet.py [--hosts 100,1000,10000] [--days 0] [--cluster]

Hosts are made of this machine's own packages: half of them are alike, the others lack a few, always
other ones, and one in ten has a newer build of something. With `--days` a hundred are seen on so many
days. Told are bytes a host (beside the builds that they share), the time to gather, and each question
cold (a process of its own) and warm (asked again in it), with the peak memory of that process. With
`--cluster` the last store of `--hosts` is also asked of a cluster of two workers, on this machine.
"""

import argparse
import json
import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

from filigree.cli.fleet_shown import engine_at
from filigree.demo.fleet import next_version, upgraded
from filigree.fleet.asked import FleetWish, asked
from filigree.fleet.gate import Gathering, take_in
from filigree.fleet.questions.ask import ask
from filigree.fleet.questions.behind import fleet_behind
from filigree.fleet.questions.census import fleet_census
from filigree.fleet.questions.changed import changed
from filigree.fleet.questions.differ import differ
from filigree.fleet.questions.hosts import hosts
from filigree.fleet.questions.needed_by import fleet_needed_by
from filigree.fleet.questions.owner import fleet_owner
from filigree.fleet.questions.rare import rare
from filigree.fleet.questions.told import fleet_findings, fleet_gaps, fleet_keys, fleet_repos
from filigree.fleet.store import FleetStore
from filigree.fleet.taking import Taken, taken_of
from filigree.fleet.tidying import Keeping, tidy
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system

sys.path.insert(0, str(Path(__file__).parent.parent))
from tools.cluster import cluster

START = datetime(2026, 1, 1, 6, tzinfo=UTC)
AT_ONCE = 500
BUDGET = 3.0


def base() -> Taken:
    """This machine as rows."""
    with open_system("/") as system:
        return taken_of(system, "base", START, RepositoryOptions())


def made_up(one: Taken, count: int, day: int = 0) -> Iterator[Taken]:
    """So many hosts like this machine, on a day."""
    builds = list(one.builds.values())
    newer = {old.identity: next_version(old) for old in builds[:40]}
    for number in range(count):
        dice = random.Random(f"fleet/{number}")
        parts = dict(one.parts)
        if number % 2:
            lacks = set(dice.sample([str(row[0]) for row in one.parts["sets"]], 8))
            names = {str(one.builds[build].row[2]) for build in lacks}
            parts["sets"] = [row for row in one.parts["sets"] if row[0] not in lacks]
            parts["deviations"] = [row for row in one.parts["deviations"] if row[2] not in names]
            parts["behind"] = [row for row in one.parts["behind"] if row[0] not in names]
        at = int((START + timedelta(days=day)).timestamp())
        host = Taken(f"host-{number:05d}", at, one.family, one.label, one.builds, parts)
        if number % 10 == 9 or (day and (number + day) % 30 == 0):
            old = builds[dice.randrange(40) if not day else (number + day) % 40]
            host = upgraded(host, old, newer[old.identity], START)
        yield host


QUESTIONS: dict[str, Callable[[FleetStore], object]] = {
    "hosts": lambda store: _asked(store, hosts),
    "census": lambda store: _asked(store, lambda f: fleet_census(f, ["bash"])),
    "census lib*": lambda store: _asked(store, lambda f: fleet_census(f, ["lib*"])),
    "owner": lambda store: _asked(store, lambda f: fleet_owner(f, ["/usr/bin/env"])),
    "needed-by": lambda store: _asked(store, lambda f: fleet_needed_by(f, ["libssl3"])),
    "behind": lambda store: _asked(store, fleet_behind),
    "rare": lambda store: _asked(store, rare),
    "differ": lambda store: _asked(store, differ),
    "keys": lambda store: _asked(store, fleet_keys),
    "repos": lambda store: _asked(store, fleet_repos),
    "findings": lambda store: _asked(store, fleet_findings),
    "gaps": lambda store: _asked(store, fleet_gaps),
    "changed": lambda store: _asked(store, lambda f: changed(f, START + timedelta(hours=1), None)),
    "ask": lambda store: ask(store, "SELECT count(*) FROM sets"),
}


ENGINE: list[str] = []


def _asked(store: FleetStore, question: Callable[..., object]) -> object:
    with asked(store, FleetWish(), engine_at(ENGINE[0]) if ENGINE else None) as fleet:
        return question(fleet)


def timed(address: str, name: str, engine: str) -> None:
    """Ask one question twice, and write what that took: run in a process of its own."""
    if engine:
        ENGINE.append(engine)
    begun = time.perf_counter()
    QUESTIONS[name](FleetStore(address))
    cold = time.perf_counter() - begun
    begun = time.perf_counter()
    QUESTIONS[name](FleetStore(address))
    warm = time.perf_counter() - begun
    # The most that the kernel gives for a process is never below its parent's at the fork: this is.
    status = Path("/proc/self/status").read_text().splitlines()
    peak = next(int(line.split()[1]) for line in status if line.startswith("VmHWM")) / 1024
    print(json.dumps([cold, warm, peak]))


def measure(address: str, label: str, engine: str = "") -> None:
    """Every question of a store, each in a process of its own."""
    for name in QUESTIONS:
        if engine and name == "ask":
            continue
        done = subprocess.run(
            [sys.executable, __file__, "--one", name, "--store", address, "--engine", engine],
            check=False,
            capture_output=True,
            text=True,
        )
        if done.returncode:
            print(f"{label:>8}  {name:12}  {done.stderr.strip().splitlines()[-1][:90]}")
            continue
        cold, warm, peak = json.loads(done.stdout)
        verdict = "within" if warm <= BUDGET and peak < 1024 else "OVER"
        print(
            f"{label:>8}  {name:12}  {cold:6.2f} s cold  {warm:6.2f} s warm  {peak:6.0f} MiB  {verdict}"
        )


def sizes(store: FleetStore) -> tuple[int, int]:
    """The bytes of what hosts share (builds, their files and needs), and of all the rest."""
    shared = sum(one.size for one in store.list.files if one.table.startswith("build"))
    return shared, sum(one.size for one in store.list.files) - shared


def main() -> None:
    """Measure as the command line says."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--hosts", default="100,1000,10000")
    parser.add_argument("--days", type=int, default=0)
    parser.add_argument("--one")
    parser.add_argument("--store", default="")
    parser.add_argument("--engine", default="")
    parser.add_argument("--cluster", action="store_true")
    options = parser.parse_args()
    if options.one:
        timed(options.store, options.one, options.engine)
        return
    one = base()
    print(f"{one.packages:,} packages and {one.paths:,} paths a host")
    counts = [int(count) for count in options.hosts.split(",") if count]
    for count in counts:
        with tempfile.TemporaryDirectory(prefix="filigree-fleet-bench-") as folder:
            place = Path(folder, "store")
            grow(place, one, count, 0)
            if options.cluster and count == counts[-1]:
                with cluster(memory="3g") as there:
                    measure(str(place), f"{count:,} there", there)
    if options.days:
        with tempfile.TemporaryDirectory(prefix="filigree-fleet-bench-") as folder:
            grow(Path(folder, "store"), one, 100, options.days)


def grow(place: Path, one: Taken, count: int, days: int) -> None:
    """Gather so many hosts, and ask."""
    store = FleetStore(str(place), make=True)
    begun = time.perf_counter()
    for day in range(days + 1):
        now = START + timedelta(days=day)
        take_in(store, made_up(one, count, day), Gathering(now=now), AT_ONCE)
    took = time.perf_counter() - begun
    tidy(store, Keeping())
    shared, rest = sizes(store)
    label = f"{count:,}" + (f" x{days}" if days else "")
    seen = count * (days + 1)
    print(
        f"{label:>8}  gathered in {took:.1f} s ({1000 * took / seen:.1f} ms a host); "
        f"{shared / 1e6:.1f} MB of builds, {rest / seen:,.0f} bytes a host besides"
    )
    measure(str(place), label)


if __name__ == "__main__":
    os.environ.setdefault("PYTHONHASHSEED", "0")
    main()
