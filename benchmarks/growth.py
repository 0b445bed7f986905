"""Time and memory of what is large: strays by the million, and indexes of millions of paths."""

import gzip
import hashlib
import os
import shlex
import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Protocol


class Ran(Protocol):
    """What was measured of a run."""

    @property
    def wall(self) -> float:
        """Seconds."""
        ...

    @property
    def peak(self) -> int:
        """KiB of the largest process."""
        ...


Runner = Callable[[str], Ran]
NAMES = 1000
"""Files of one directory."""


def _made_root(root: Path) -> None:
    status = root / "var/lib/dpkg/status"
    status.parent.mkdir(parents=True)
    status.write_text(
        "Package: shoal0\nStatus: install ok installed\nArchitecture: amd64\nVersion: 0\n\n"
    )
    (root / "etc").mkdir()
    (root / "etc/passwd").write_text("root:x:0:0:root:/:/bin/sh\n")
    # What lies below the directories of packages is looked at.
    info = status.parent / "info"
    info.mkdir()
    (info / "shoal0.list").write_text("/.\n/usr\n/usr/lib\n")


def strays(run: Runner, ours: str, counts: tuple[int, ...]) -> None:
    """Roots of so many files of nobody's, a thousand a directory: told, and only counted."""
    print("\nfiles of nobody's:")
    before: dict[str, float] = {}
    for count in counts:
        with tempfile.TemporaryDirectory() as folder:
            root = Path(folder)
            _made_root(root)
            # In a process of its own: what it takes is not to be seen in the figures.
            subprocess.run(
                ["python3", "-c", _FILES, str(root / "usr/lib"), str(count // NAMES)], check=True
            )
            bare = run(f"find {shlex.quote(folder)} -type f -newermt 2000-01-01")
            for label, words in (
                ("strays", "strays --root"),
                ("strays, as JSON lines", "strays --format jsonl --root"),
                ("findings", "findings --without archives --root"),
            ):
                once = run(f"{ours} {words} {shlex.quote(folder)}")
                more = f", {once.wall / before[label]:.1f} times" if label in before else ""
                before[label] = once.wall
                print(
                    f"{label + f' of {count:,}':<38} {once.wall:7.2f} s{more}, peak"
                    f" {once.peak / 1024:.0f} MiB (find: {bare.wall:.2f} s)"
                )


_FILES = """
import os, sys
top, directories = sys.argv[1], int(sys.argv[2])
for number in range(directories):
    folder = f"{top}/{number // 100:04d}/{number:06d}"
    os.makedirs(folder)
    for grain in range(1000):
        os.close(os.open(f"{folder}/grain-{grain:03d}", os.O_CREAT | os.O_WRONLY))
"""


def path_index(run: Runner, ours: str, paths: int) -> None:
    """An index of so many paths: parsed once, and asked once it is kept."""
    print(f"\nan index of {paths:,} paths:")
    kept = os.environ.get("XDG_CACHE_HOME")
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_CACHE_HOME"] = f"{folder}/cache"
        root = Path(folder, "root")
        _made_root(root)
        size = write_path_index(root, paths)
        words = f"--root {shlex.quote(str(root))}"
        middle = paths // 2
        path = f"/usr/share/sand/{middle // NAMES:06d}/grain-{middle:08d}.tide"
        for label, asked in (
            ("parsed, and one asked for", f"owner --available {path}"),
            ("one path, kept", f"owner --available {path}"),
            ("a bare name, kept", f"owner --available grain-{middle:08d}.tide"),
            ("a glob, kept", f"owner --available '*/grain-{middle:08d}.*'"),
        ):
            once = run(f"{ours} {asked} {words}")
            print(f"{label:<34} {once.wall:7.2f} s, peak {once.peak / 1024:.0f} MiB")
        held = sum(file.stat().st_size for file in Path(folder, "cache").rglob("paths-*"))
        print(f"{'kept in':<34} {held / 1e6:7.1f} MB of {size / 1e6:.0f} MB of text")
    if kept is None:
        del os.environ["XDG_CACHE_HOME"]
    else:
        os.environ["XDG_CACHE_HOME"] = kept


def write_path_index(root: Path, paths: int) -> int:
    """A made-up repository with its index of paths; how many bytes of text it has."""
    lists, sources = root / "var/lib/apt/lists", root / "etc/apt"
    for needed in (lists, sources):
        needed.mkdir(parents=True, exist_ok=True)
    (sources / "sources.list").write_text("deb [trusted=yes] http://x.example/y/ z main\n")
    stem = "x.example_y_dists_z_"
    packages = "".join(
        f"Package: shoal{number}\nArchitecture: amd64\nVersion: 1\nFilename: pool/{number}.deb\n"
        f"Size: 1\nDescription: Sand\n\n"
        for number in range(1 + paths // 100)
    ).encode()
    (lists / f"{stem}main_binary-amd64_Packages").write_bytes(packages)
    digest, size = hashlib.sha256(), 0
    with gzip.open(lists / f"{stem}main_Contents-amd64.gz", "wb", 6) as out:
        for start in range(0, paths, NAMES):
            text = "".join(
                f"usr/share/sand/{start // NAMES:06d}/grain-{at:08d}.tide  sea/shoal{at // 100}\n"
                for at in range(start, min(start + NAMES, paths))
            ).encode()
            out.write(text)
            digest.update(text)
            size += len(text)
    (lists / f"{stem}Release").write_text(
        f"Suite: z\nCodename: z\nComponents: main\nArchitectures: amd64\nSHA256:\n"
        f" {hashlib.sha256(packages).hexdigest()} {len(packages)} main/binary-amd64/Packages\n"
        f" {digest.hexdigest()} {size} main/Contents-amd64\n"
    )
    return size
