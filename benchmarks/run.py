"""The budgets, as ratios measured in one run against something that everyone has.

    python benchmarks/run.py [--whole-system] [--growth] [--containers] [--mirror] [--index]
        [--files] [--texts] [--images] [--paths N] [--strays N,N] [--runs N]

Each pair of commands is run in turn (A B A B …) and the median of the pairwise ratios is printed, so
that a machine that grows slower in between does not spoil the figure. Peak memory is the largest
process's resident set; for `verify` the workers' are added up as the most that they can be.
"""

import argparse
import bz2
import functools
import grp
import hashlib
import json
import multiprocessing
import os
import pwd
import shlex
import shutil
import stat
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parents[1]))  # what the developers' tools share

from benchmarks.figures import Figures, keep
from benchmarks.growth import path_index, strays
from benchmarks.images import images
from tools.packages_here import PackagesHere, packages_here

from filigree.demo.rpm_bytes import hash_file, header, slot_file, sqlite_file
from filigree.families.slackware import places
from filigree.formats.rpm.header import Type

BARE = """
import typer
app = typer.Typer()
@app.command()
def one(name: str = "x") -> None:
    print("one", name)
@app.command()
def two(name: str = "x") -> None:
    print("two", name)
app()
"""
INFO = Path("/var/lib/dpkg/info")
FILIGREE = f"{shlex.quote(sys.executable)} -m filigree"


FIGURES: Figures = {}


class Run(NamedTuple):
    """Wall seconds and peak resident set in KiB of one run."""

    wall: float
    peak: int


_HELPER = """
import json, os, subprocess, sys, time
for line in sys.stdin:
    started = time.perf_counter()
    process = subprocess.Popen(
        json.loads(line), cwd="/", stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    _, status, usage = os.wait4(process.pid, 0)
    told = [time.perf_counter() - started, usage.ru_maxrss, os.waitstatus_to_exitcode(status)]
    print(json.dumps(told), flush=True)
"""


@functools.cache
def _helper() -> subprocess.Popen[str]:
    """What starts the commands: the peak of a process is never below that of the one that started it."""
    command = [sys.executable, "-S", "-c", _HELPER]
    return subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)


def run(command: str) -> Run:
    helper = _helper()
    assert helper.stdin is not None
    assert helper.stdout is not None
    words = ["bash", "-c", f"exec {command}" if "|" not in command else command]
    helper.stdin.write(json.dumps(words) + "\n")
    helper.stdin.flush()
    wall, peak, status = json.loads(helper.stdout.readline())
    if status not in (0, 1, 3, 123):
        raise SystemExit(f"it failed: {command}")
    return Run(wall, peak)


def compare(label: str, ours: str, theirs: str, budget: float, runs: int) -> None:
    """Print one line: the ratio, the budget, and the figures behind it."""
    run(ours), run(theirs)
    pairs = [(run(ours), run(theirs)) for _ in range(runs)]
    ratio = statistics.median(a.wall / b.wall for a, b in pairs)
    mine = statistics.median(a.wall for a, _ in pairs)
    other = statistics.median(b.wall for _, b in pairs)
    peak = max(a.peak for a, _ in pairs) / 1024
    FIGURES[label] = {"ratio": round(ratio, 3), "peak": round(peak)}
    verdict = "within" if ratio <= budget else "over"
    print(
        f"{label:<34} {ratio:5.2f} times  budget {budget:.2f}  {verdict:<7}"
        f" {mine:7.2f} s against {other:.2f} s, peak {peak:.0f} MiB"
    )


def rows(label: str, many: str, few: str, count: int, budget: float, runs: int) -> None:
    """Print one line: what each of very many rows takes on top of the same question's small answer."""
    run(many), run(few)
    pairs = [(run(many), run(few)) for _ in range(runs)]
    each = statistics.median((a.wall - b.wall) / count * 1e6 for a, b in pairs)
    peak = max(a.peak for a, _ in pairs) / 1024
    FIGURES[label] = {"ratio": round(each, 1), "peak": round(peak)}
    verdict = "within" if each <= budget else "over"
    print(
        f"{label:<42} {each:5.1f} us a row  budget {budget:.0f}  {verdict:<7} of {count:,} rows,"
        f" peak {peak:.0f} MiB"
    )


def lines_of(command: str) -> int:
    """How many rows an answer has."""
    told = subprocess.run(["bash", "-c", command], stdout=subprocess.PIPE, check=False)
    return told.stdout.count(b"\n")


_FORMS = (("lines", "", 30), ("JSON", " --format json", 60))


def questions(runs: int) -> None:
    """Questions about installed packages, against the start of a bare two-command program."""
    with tempfile.TemporaryDirectory() as folder:
        bare = Path(folder, "bare.py")
        bare.write_text(BARE)
        start = f"{shlex.quote(sys.executable)} {bare} one"
        biggest, needed, _ = packages_here()
        for label, command in (
            ("survey", "survey"),
            ("census", "census"),
            ("census, as a table", "census --format table"),
            ("owner /etc/passwd /usr/bin/env", "owner /etc/passwd /usr/bin/env"),
            ("dossier of the largest", f"dossier {biggest}"),
            ("needs --deep of the largest", f"needs {biggest} --deep"),
            ("because of what most need", f"because {needed}"),
            ("census --leftover", "census --leftover"),
            ("whatif --drop what most need", f"whatif --drop {needed}"),
        ):
            compare(label, f"{FILIGREE} {command}", start, 2.5, runs)
        many, few = f"{FILIGREE} contents {biggest}", f"{FILIGREE} contents {biggest} --totals"
        count = lines_of(many)
        for form, more, budget in _FORMS:
            rows(f"contents of the largest, {form}", many + more, few, count, budget, min(runs, 3))


def whole_system(runs: int) -> None:
    """Every digest on record, against coreutils on all cores."""
    processors = len(os.sched_getaffinity(0))
    theirs = f"ls {INFO}/*.md5sums | xargs -P{processors} -n 20 md5sum -c --quiet"
    ours = f"{FILIGREE} verify"
    compare("verify of everything, warm", ours, theirs, 1.05, runs)
    plain = f"{FILIGREE} findings --without archives"
    compare("findings by records, times verify", plain, ours, 1.4, min(runs, 3))
    compare("findings, times verify", f"{FILIGREE} findings", ours, 1.4, min(runs, 3))
    compare("timeline, times verify", f"{FILIGREE} timeline", ours, 2.5, min(runs, 3))
    if not os.access(CACHES, os.W_OK):
        print(
            "verify of everything, cold          nobody but root can empty the caches: not measured"
        )
        return
    pairs = [(cold(ours), cold(theirs)) for _ in range(min(runs, 2))]
    mine, other = (
        statistics.median(run.wall for run in runs_) for runs_ in zip(*pairs, strict=True)
    )
    FIGURES["verify of everything, cold"] = {"ratio": round(mine / other, 3)}
    seconds = f"{mine:.2f} s against {other:.2f} s"
    print(f"verify of everything, cold         {mine / other:5.2f} times  {seconds}")
    for more in ("--against cache", "--evidence signed"):
        once = run(f"{FILIGREE} verify {more}")
        print(f"verify {more:<28} {once.wall:.2f} s, peak {once.peak / 1024:.0f} MiB")
    with tempfile.NamedTemporaryFile() as file:
        first = run(f"{FILIGREE} verify --all --format json > {file.name} | cat")
        again = run(f"{FILIGREE} verify --since {file.name}")
        words = f"{first.wall:.2f} s, {os.path.getsize(file.name) >> 20} MiB"
        print(f"verify --all --format json         {words}")
        print(f"verify --since that                {again.wall:.2f} s, peak {again.peak >> 10} MiB")


CACHES = "/proc/sys/vm/drop_caches"


def cold(command: str) -> Run:
    """A run with nothing in the caches of the kernel."""
    os.sync()
    Path(CACHES).write_text("3\n")
    return run(command)


def made_up_texts(folder: Path, packages: int, paths: int, listed: bool = True) -> Path:
    """A root of texts, a package each, with a list of what is offered, and one of what archives hold."""
    records = folder / places.RECORDS[0][1:]
    scripts = folder / places.SCRIPTS[0][1:]
    lists = folder / places.LISTS[1:]
    for one in (records, scripts, lists):
        one.mkdir(parents=True)
    offered, held = ["PACKAGES.TXT\n\n"], []
    for number in range(packages):
        name = f"shoal{number:05d}"
        label = f"{name}-1.{number}-x86_64-1"
        needs = ",".join(f"shoal{(number * 7 + step) % packages:05d}" for step in (1, 2, 3))
        words = "".join(f"{name}: Sand, and more sand.\n" for _ in range(10))
        sizes = (
            f"PACKAGE SIZE (compressed):  {number} K\nPACKAGE SIZE (uncompressed):  {number} K\n"
        )
        offered.append(
            f"PACKAGE NAME:  {label}.txz\nPACKAGE LOCATION:  ./slackware64/l\n{sizes}"
            f"PACKAGE REQUIRED:  {needs}\nPACKAGE DESCRIPTION:\n{words}\n"
        )
        files = [f"usr/share/{name}/sand-{grain:04d}.grain" for grain in range(paths - 3)]
        folders = ["usr/", "usr/share/", f"usr/share/{name}/"]
        (records / label).write_text(
            f"PACKAGE NAME:     {label}\nCOMPRESSED PACKAGE SIZE:     {number}K\n"
            f"UNCOMPRESSED PACKAGE SIZE:     {number}K\n"
            f"PACKAGE LOCATION: ./slackware64/l/{label}.txz\nPACKAGE DESCRIPTION:\n{words}"
            "FILE LIST:\n./\n" + "".join(f"{path}\n" for path in (*folders, *files))
        )
        (scripts / label).write_text(f"( cd usr/lib ; ln -sf {name} lib{name}.so )\n")
        held.append(f"++===\n||\n||   Package:  ./slackware64/l/{label}.txz\n||\n++===\n")
        held += (f"-rw-r--r-- root/root 9 2026-01-12 08:30 {path}\n" for path in files)
    (lists / places.PACKAGES).write_text("".join(offered))
    if listed:
        (lists / places.MANIFEST).write_bytes(bz2.compress("".join(held).encode()))
    return folder


def texts(runs: int) -> None:
    """700 packages and 120,000 paths, a text each; and ten times as much of both."""
    with tempfile.TemporaryDirectory() as folder:
        bare = Path(folder, "bare.py")
        bare.write_text(BARE)
        start = f"{shlex.quote(sys.executable)} {bare} one"
        # In processes of their own: a child's peak memory is never below its parent's at the fork.
        root, large = Path(folder, "texts"), Path(folder, "large")
        for place, packages in ((root, 700), (large, 7_000)):
            writer = multiprocessing.Process(target=made_up_texts, args=(place, packages, 171))
            writer.start()
            writer.join()
        print("\n700 packages and 120,000 paths, a text each:")
        for command in (
            "survey", "census", "owner /usr/share/shoal00199/sand-0009.grain", "dossier shoal00001",
            "needs shoal00001 --deep", "contents shoal00001", "behind",
        ):  # fmt: skip
            ours = f"{FILIGREE} {command} --root {root}"
            compare(f"{command.partition(' ')[0]}, texts", ours, start, 3.0, runs)
        print("ten times the packages and paths, above the start:")
        begin = run(f"{FILIGREE} --version")
        for command in ("census", "owner /usr/share/shoal00199/sand-0009.grain", "verify --quiet"):
            name = command.partition(" ")[0]
            few, many = (run(f"{FILIGREE} {command} --root {one}") for one in (root, large))
            times = (many.wall - begin.wall) / (few.wall - begin.wall)
            peaks = f"peak {many.peak / 1024:.0f} MiB against {few.peak / 1024:.0f}"
            print(f"{name:<12} time {times:5.1f} times ({many.wall:.2f} s), {peaks}")


def many_files() -> None:
    """A tree of a million small files, and a tenth of it: memory must not grow with them."""
    with tempfile.TemporaryDirectory() as folder:
        print("\na tree of small files, 5,000 of each package:")
        for packages in (20, 200):
            root = Path(folder, str(packages))
            write_files(root, packages, 5_000)
            for more in ("", "--jobs 1"):
                done = run(f"{FILIGREE} verify --root {root} {more}")
                count = f"{packages * 5_000:,} files {more}"
                print(f"verify of {count:<24} {done.wall:6.1f} s, peak {done.peak / 1024:.0f} MiB")
            shutil.rmtree(root)


def write_files(root: Path, packages: int, files: int) -> None:
    """A root whose packages have small files, with their digests on record."""
    info = root / "var/lib/dpkg/info"
    info.mkdir(parents=True)
    stanzas = []
    for number in range(packages):
        name = f"shoal{number:04d}"
        folder = root / "srv" / name
        folder.mkdir(parents=True)
        lines, sums = ["/.", "/srv", f"/srv/{name}"], []
        for grain in range(files):
            content = f"grain {grain} of shoal {number}\n".encode()
            (folder / f"{grain:05d}").write_bytes(content)
            lines.append(f"/srv/{name}/{grain:05d}")
            sums.append(f"{hashlib.md5(content).hexdigest()}  srv/{name}/{grain:05d}")
        (info / f"{name}.list").write_text("\n".join(lines) + "\n")
        (info / f"{name}.md5sums").write_text("\n".join(sums) + "\n")
        stanzas.append(
            f"Package: {name}\nStatus: install ok installed\nVersion: 1\nArchitecture: amd64\n"
            "Description: Sand\n\n"
        )
    (root / "var/lib/dpkg/status").write_text("".join(stanzas))


def made_up_root(folder: Path, packages: int, paths: int) -> Path:
    """A root of so many packages with so many paths each: records alone, no files."""
    info = folder / "var/lib/dpkg/info"
    info.mkdir(parents=True)
    stanzas = []
    for number in range(packages):
        name = f"shoal{number:05d}"
        needs = ", ".join(f"shoal{(number * 7 + step) % packages:05d}" for step in (1, 2, 3))
        stanzas.append(
            f"Package: {name}\nStatus: install ok installed\nVersion: 1.{number}-1\n"
            f"Architecture: amd64\nInstalled-Size: {number % 900}\nDepends: {needs}\n"
            f"Description: The shoal of number {number}\n Sand, and more sand.\n\n"
        )
        lines = [f"/usr/share/{name}/sand-{grain:04d}.grain\n" for grain in range(paths - 3)]
        (info / f"{name}.list").write_text(f"/.\n/usr\n/usr/share/{name}\n{''.join(lines)}")
    (folder / "var/lib/dpkg/status").write_text("".join(stanzas))
    return folder


def growth(runs: int) -> None:
    """Ten times the packages and paths: time and memory may grow ten times, above the start."""
    with tempfile.TemporaryDirectory() as folder:
        small = made_up_root(Path(folder, "small"), 2_000, 100)
        large = made_up_root(Path(folder, "large"), 20_000, 100)
        start = run(f"{FILIGREE} --version")
        print("\n20,000 packages and 2,000,000 paths against a tenth of both, above the start:")
        for command in (
            "census", "survey", "owner /usr/share/shoal01999/sand-0009.grain",
            "needs shoal00001 --deep", "verify --quiet",
        ):  # fmt: skip
            few, many = (
                [run(f"{FILIGREE} {command} --root {root}") for _ in range(runs)]
                for root in (small, large)
            )
            slow, fast = (
                statistics.median(r.wall for r in rows) - start.wall for rows in (many, few)
            )
            big, little = (max(r.peak for r in rows) - start.peak for rows in (many, few))
            print(
                f"{command:<46} time {slow / fast:5.1f} times ({slow:.2f} s),"
                f" memory {big / little:5.1f} times ({big / 1024:.0f} MiB)"
            )


def made_up_headers(packages: int, paths: int) -> Iterator[bytes]:
    """Headers of so many packages with so many paths each, every aspect of each file on record."""
    for number in range(packages):
        name = f"shoal{number:05d}"
        folders = [f"/usr/share/{name}/{part}/" for part in range(paths // 20 + 1)]
        needs = [f"shoal{(number * 7 + step) % packages:05d}" for step in (1, 2, 3)]
        yield header([
            (1000, Type.STRING, name),
            (1001, Type.STRING, f"1.{number}"),
            (1002, Type.STRING, "1"),
            (1004, Type.TRANSLATED, [f"The shoal of number {number}"]),
            (1005, Type.TRANSLATED, ["Sand, and more sand. " * 20]),
            (1009, Type.INT32, number % 900 * 1024),
            (1022, Type.STRING, "x86_64"),
            (1028, Type.INT32, [4096] * paths),
            (1030, Type.INT16, [0o100644] * paths),
            (1034, Type.INT32, [1_700_000_000] * paths),
            (1035, Type.STRINGS, [f"{number:032x}{grain:032x}" for grain in range(paths)]),
            (1036, Type.STRINGS, [""] * paths),
            (1037, Type.INT32, [0] * paths),
            (1039, Type.STRINGS, ["root"] * paths),
            (1040, Type.STRINGS, ["root"] * paths),
            (1045, Type.INT32, [0xFFFFFFFF] * paths),
            (1047, Type.STRINGS, [name]),
            (1048, Type.INT32, [0] * 3),
            (1049, Type.STRINGS, needs),
            (1050, Type.STRINGS, [""] * 3),
            (1112, Type.INT32, [8]),
            (1113, Type.STRINGS, [f"1.{number}-1"]),
            (1116, Type.INT32, [grain // 20 for grain in range(paths)]),
            (1117, Type.STRINGS, [f"sand-{grain:04d}.grain" for grain in range(paths)]),
            (1118, Type.STRINGS, folders),
            (5011, Type.INT32, 8),
        ], after=[(1008, Type.INT32, 1_700_000_000 + number)])  # fmt: skip


def write_containers(folder: Path) -> None:
    """The same packages in each container, below a root of its own."""
    blobs = list(made_up_headers(3_000, 134))
    pairs = [(number.to_bytes(4, "little"), blob) for number, blob in enumerate(blobs, 1)]
    sqlite_file(folder / "sqlite/var/lib/rpm/rpmdb.sqlite", blobs)
    for name, content in (
        ("Packages.db", slot_file(blobs)),
        ("Packages", hash_file(pairs, size=4096)),
    ):
        path = folder / name / "var/lib/rpm" / name
        path.parent.mkdir(parents=True)
        path.write_bytes(content)


def containers(runs: int) -> None:
    """3,000 packages and 400,000 paths in each container; the budget grows with the paths."""
    print(f"\n3,000 packages and {3_000 * 134:,} paths in each container:")
    with tempfile.TemporaryDirectory() as folder:
        bare = Path(folder, "bare.py")
        bare.write_text(BARE)
        start = f"{shlex.quote(sys.executable)} {bare} one"
        # In a process of its own: a child's peak memory is never below its parent's at the fork.
        writer = multiprocessing.Process(target=write_containers, args=(Path(folder),))
        writer.start()
        writer.join()
        for name in ("sqlite", "Packages.db", "Packages"):
            for command in ("census", "owner /usr/share/shoal01999/3/sand-0071.grain"):
                ours = f"{FILIGREE} {command} --root {Path(folder, name)}"
                compare(f"{command.partition(' ')[0]}, {name}", ours, start, 3.0 * 400 / 120, runs)


def write_mirror(folder: Path) -> None:
    """This machine's own packages as an `rpm` system: hard links of its files, every aspect recorded."""
    from filigree.system import open_system

    names = {"passwd": pwd.getpwall(), "group": grp.getgrall()}
    users = {entry.pw_uid: entry.pw_name for entry in reversed(names["passwd"])}
    groups = {entry.gr_gid: entry.gr_name for entry in reversed(names["group"])}
    for name in ("passwd", "group"):
        target = folder / "etc" / name
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(f"/etc/{name}", target)
    blobs, sums = [], []
    with open_system("/") as system:
        for package in system.packages:
            paths = []
            for path in system.database.listing(package):
                seen = os.lstat(path) if os.path.lexists(path) else None
                if seen is None or not path.startswith("/usr/") or not stat.S_ISREG(seen.st_mode):
                    continue
                there = folder / path[1:]
                if there.exists() or os.path.realpath(path) != path:
                    continue
                there.parent.mkdir(parents=True, exist_ok=True)
                os.link(path, there)
                digest = hashlib.sha256(Path(path).read_bytes()).hexdigest()
                paths.append((path, seen, digest))
                sums.append(f"{digest}  {path[1:]}\n")
            if paths:
                blobs.append(mirrored(package.name, paths, users, groups))
    sqlite_file(folder / "var/lib/rpm/rpmdb.sqlite", blobs)
    for part in range(0, len(sums), 2000):
        (folder / f"sums.{part:07d}").write_text("".join(sums[part : part + 2000]))


def mirrored(
    name: str,
    files: list[tuple[str, os.stat_result, str]],
    users: dict[int, str],
    groups: dict[int, str],
) -> bytes:
    folders = sorted({f"{path.rpartition('/')[0]}/" for path, _, _ in files})
    numbers = {folder: number for number, folder in enumerate(folders)}
    return header([
        (1000, Type.STRING, name), (1001, Type.STRING, "1"), (1002, Type.STRING, "1"),
        (1022, Type.STRING, "x86_64"),
        (1028, Type.INT32, [seen.st_size for _, seen, _ in files]),
        (1030, Type.INT16, [seen.st_mode for _, seen, _ in files]),
        (1034, Type.INT32, [int(seen.st_mtime) for _, seen, _ in files]),
        (1035, Type.STRINGS, [digest for _, _, digest in files]),
        (1039, Type.STRINGS, [users[seen.st_uid] for _, seen, _ in files]),
        (1040, Type.STRINGS, [groups[seen.st_gid] for _, seen, _ in files]),
        (1116, Type.INT32, [numbers[f"{path.rpartition('/')[0]}/"] for path, _, _ in files]),
        (1117, Type.STRINGS, [path.rpartition("/")[2] for path, _, _ in files]),
        (1118, Type.STRINGS, folders),
        (5011, Type.INT32, 8),
    ])  # fmt: skip


def mirror(runs: int) -> None:
    """Every digest and every other aspect of this machine's files, against coreutils on all cores."""
    print("\nthis machine's own files below /usr, as an rpm system with SHA-256:")
    # Beside the files themselves: hard links do not reach into another file system.
    with tempfile.TemporaryDirectory(dir="/usr", prefix=".filigree-") as folder:
        writer = multiprocessing.Process(target=write_mirror, args=(Path(folder),))
        writer.start()
        writer.join()
        processors = len(os.sched_getaffinity(0))
        ours = f"{FILIGREE} verify --root {folder}"
        theirs = f"cd {folder} && ls sums.* | xargs -P{processors} -n 1 sha256sum -c --quiet"
        compare("verify, rpm, warm", ours, f"bash -c {shlex.quote(theirs)}", 1.15, runs)
        with tempfile.TemporaryDirectory() as kept:
            out = f"{kept}/one"
            taking = f"{FILIGREE} snapshot {{}} --root {folder}"
            compare("snapshot, times verify", taking.format(out), ours, 1.3, min(runs, 3))
            run(taking.format(f"{kept}/other"))
            paths = sum(len(folders) + len(files) for _, folders, files in os.walk(folder))
            once = run(f"{FILIGREE} compare {out} {kept}/other")
            size = os.path.getsize(out) / 1e6
            print(f"{'the snapshot of it':<34} {size:.1f} MB for {paths:,} paths")
            peak = once.peak / 1024
            print(f"{'compare of two such':<34} {once.wall:.2f} s, peak {peak:.0f} MiB, budget 3 s")


SPLIT = """
import sys
for block in sys.stdin.buffer.read().split(b"\\n\\n"):
    fields = {}
    for line in block.decode("utf-8", "replace").split("\\n"):
        if line[:1] == " ":
            continue
        name, _, value = line.partition(":")
        fields[name] = value.strip()
"""


def index(runs: int) -> None:
    """The copies of indexes on this machine: parsed for the first time, and asked once they are kept."""
    from filigree.access.trees.directory import DirectoryTree
    from filigree.families.shared.indexes import unpacked_pieces

    lists = sorted(Path("/var/lib/apt/lists").glob("*_Packages*"))
    if not lists:
        print("\nno copies of indexes here: nothing to parse")
        return
    with tempfile.TemporaryDirectory() as folder:
        text, split, bare = (Path(folder, name) for name in ("text", "split.py", "bare.py"))
        tree = DirectoryTree("/")
        with text.open("wb") as out:
            for path in lists:
                out.writelines(unpacked_pieces(tree, str(path)))
        split.write_text(SPLIT)
        bare.write_text(BARE)
        size = text.stat().st_size >> 20
        print(f"\nindexes of {size} MiB of text:")
        start = f"{shlex.quote(sys.executable)} {bare} one"
        plain = f"bash -c '{shlex.quote(sys.executable)} {split} < {text}'"
        ask = f"{FILIGREE} census --available chart"
        compare("first parse, nothing kept", f"{ask} --no-cache", plain, 2.5, runs)
        os.environ["XDG_CACHE_HOME"] = folder
        compare("census --available chart, kept", ask, start, 3.5, runs)
        compare("census --outsiders, kept", f"{FILIGREE} census --outsiders", start, 3.5, runs)
        compare("repos", f"{FILIGREE} repos", start, 3.5, runs)
        here = packages_here(folder)
        for label, command in (
            ("behind, kept", "behind"),
            ("seek of two words, kept", "seek web server"),
            ("seek of a misspelt word, kept", f"seek {here.misspelt}"),
            ("dossier --available, kept", f"dossier --available {here.needed}"),
            ("needs --available --deep, kept", f"needs --available --deep {here.needed}"),
        ):
            compare(label, f"{FILIGREE} {command}", start, 3.5, runs)
        graph(start, runs, here)
        many, few = f"{FILIGREE} census --available", f"{FILIGREE} census --available chart"
        count = lines_of(many)
        for form, more, budget in _FORMS:
            rows(f"census --available, {form}", many + more, few, count, budget, min(runs, 3))
    index_growth(min(runs, 3))


def graph(start: str, runs: int, here: PackagesHere) -> None:
    """The graph of all that is offered: made once, walked in reverse, counted; and plans."""
    first = run(f"{FILIGREE} needed-by --available {here.needed} --count")
    print(f"the graph is made in {first.wall:.1f} s, peak {first.peak / 1024:.0f} MiB, and then:")
    for label, command in (
        ("needed-by --available --count", f"needed-by --available {here.needed} --count"),
        ("obstacles of what is offered", f"obstacles {here.offered}"),
        ("whatif --add of what is offered", f"whatif --add {here.offered}"),
    ):
        compare(label, f"{FILIGREE} {command}", start, 3.5, min(runs, 3))
    many, few = (
        f"{FILIGREE} needed-by --available {here.needed} {how}" for how in ("--flat", "--count")
    )
    count = lines_of(many)
    for form, more, budget in _FORMS:
        rows(f"needed-by --available --flat, {form}", many + more, few, count, budget, min(runs, 3))
    for label, command in (
        ("needed-by --available --deep, a tree", f"needed-by --available {here.needed} --deep"),
        ("census --available --sort impact", "census --available --sort impact --limit 10"),
        ("whatif --upgrade, both ways", "whatif --upgrade"),
    ):
        once = min(run(f"{FILIGREE} {command}") for _ in range(3))
        print(f"{label:<38} {once.wall:6.2f} s, peak {once.peak / 1024:.0f} MiB")


def index_growth(runs: int) -> None:
    """An index of 500,000 packages against a tenth of it: time and memory in proportion."""
    with tempfile.TemporaryDirectory() as folder:
        roots = []
        for count in (50_000, 500_000):
            root = Path(folder, str(count))
            roots.append(root)
            lists, sources = root / "var/lib/apt/lists", root / "etc/apt"
            status = root / "var/lib/dpkg/status"
            for needed in (lists, sources, status.parent):
                needed.mkdir(parents=True)
            status.write_text(
                "Package: shoal0\nStatus: install ok installed\nArchitecture: amd64\nVersion: 0\n\n"
            )
            (sources / "sources.list").write_text("deb [trusted=yes] http://x.example/y/ z main\n")
            stem = "x.example_y_dists_z_"
            digest = hashlib.sha256()
            size = 0
            with (lists / f"{stem}main_binary-amd64_Packages").open("wb") as out:
                for number in range(count):
                    stanza = (
                        f"Package: shoal{number}\nArchitecture: amd64\nVersion: 1.{number}-1\n"
                        f"Depends: shoal{number // 2}, shoal{number // 3} (>= 1)\n"
                        f"Provides: bank{number % 1000}\nFilename: pool/shoal{number}.deb\n"
                        f"Size: {number}\nDescription: Sand and more sand, number {number}\n\n"
                    ).encode()
                    out.write(stanza)
                    digest.update(stanza)
                    size += len(stanza)
            (lists / f"{stem}Release").write_text(
                f"Suite: z\nCodename: z\nComponents: main\nArchitectures: amd64\nSHA256:\n"
                f" {digest.hexdigest()} {size} main/binary-amd64/Packages\n"
            )
        print("\nan index of 500,000 packages against a tenth:")
        small, large = roots
        for label, words in (("first parse", "seek bank7 --no-cache"), ("kept", "seek bank7")):
            pair = [f"{FILIGREE} {words} --root {root}" for root in (large, small)]
            results = [(run(pair[0]), run(pair[1])) for _ in range(runs + 1)][1:]
            ratio = statistics.median(a.wall / b.wall for a, b in results)
            peaks = [
                max(one.peak for one in column) / 1024 for column in zip(*results, strict=True)
            ]
            print(
                f"{label:<34} {ratio:5.2f} times the time, {peaks[0]:.0f} MiB against {peaks[1]:.0f} MiB"
            )


def as_installed(folder: str) -> None:
    """Let every program find itself compiled, as an installation leaves it."""
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    os.environ["PYTHONPYCACHEPREFIX"] = folder


def main() -> int:
    with tempfile.TemporaryDirectory() as folder:
        as_installed(folder)
        status = measured()
    for words in keep(FIGURES):
        print(f"worse than the last that was kept: {words}")
    return status


def measured() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--whole-system", action="store_true", help="also verify every file")
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--growth", action="store_true", help="also 20,000 packages, made up")
    parser.add_argument("--index", action="store_true", help="also the copies of indexes here")
    parser.add_argument("--mirror", action="store_true", help="also this machine as an rpm system")
    parser.add_argument("--containers", action="store_true", help="also the containers of rpm")
    parser.add_argument("--files", action="store_true", help="also a tree of a million small files")
    parser.add_argument("--texts", action="store_true", help="also a slackware system, made up")
    parser.add_argument(
        "--images", action="store_true", help="also an image of this machine's files"
    )
    parser.add_argument("--paths", type=int, default=0, help="also an index of so many paths")
    parser.add_argument(
        "--strays", default="", help="also roots of so many files of nobody's, in commas"
    )
    options = parser.parse_args()
    if options.paths:
        path_index(run, FILIGREE, options.paths)
    if options.strays:
        strays(run, FILIGREE, tuple(map(int, options.strays.split(","))))
    if options.containers:
        containers(options.runs)
    if options.files:
        many_files()
    if options.index:
        index(options.runs)
    if options.texts:
        texts(options.runs)
    if options.mirror:
        mirror(options.runs)
    if options.images:
        with tempfile.TemporaryDirectory() as folder:
            bare = Path(folder) / "bare.py"
            bare.write_text(BARE)
            images(FILIGREE, f"{shlex.quote(sys.executable)} {bare} one", 3, compare)
    if not INFO.is_dir():
        print("this machine is no deb system: nothing to measure on")
        return 0
    lists = sum(path.read_bytes().count(b"\n") for path in INFO.glob("*.list"))
    print(f"{len(list(INFO.glob('*.list')))} packages, {lists:,} paths, {options.runs} runs each")
    questions(options.runs)
    if options.whole_system:
        whole_system(options.runs)
    if options.growth:
        growth(min(options.runs, 3))
    return 0


if __name__ == "__main__":
    sys.exit(main())
