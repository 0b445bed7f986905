"""Asks every question of the made-up stations with two versions of the code, and compares the answers.

    git worktree add ../before REVISION
    python tools/answers.py ../before/src src [--only heron] [--stations stations] [--here]

Each command is run by both, one after the other, in all formats; standard output, standard error and the exit
status are to be the same byte for byte. What differs is printed as lines that came and went, alike ones once.
`--here` asks this machine's own packages too. A child process a version loads the product once and forks for
each command, so that a run of everything takes a minute or two.
"""

import argparse
import collections
import difflib
import json
import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

PROJECT = Path(__file__).parents[1]
sys.path.insert(0, str(PROJECT))  # what the developers' tools share
FORMATS = ("table", "lines", "json", "jsonl", "csv")
QUESTIONS = (
    "survey", "census", "census --available", "census --any tide --sort size --limit 20",
    "census --chosen --columns name,version,installed_at,reason", "census --outsiders", "census --count",
    "census --leftover", "census --held", "census --word tide", "census --glob 'lib*' --total",
    "dossier tidegauge", "dossier --full 'libbrine*'", "dossier --any weirgate", "dossier ./{archive}",
    "seek tide table", "seek --names-only chart", "seek --regex '^lib.*[0-9]$' --installed",
    "contents tidegauge", "contents chartroom --role program --role config", "contents tidetables --tree",
    "contents ./{archive}", "contents --available tidegauge",
    "owner /usr/bin/tidegauge", "owner tidegauge", "owner '/etc/tide*/**'", "owner --available tidegauge",
    "owner tidegauge --in ./{archive}", "owner /nowhere/at/all",
    "needs tidegauge", "needs tidegauge --deep", "needs ./{archive}", "needs chartroom --kinds all --deep",
    "needs --available weirgate --deep", "needed-by libbrine2", "needed-by libbrine2 --deep",
    "needed-by brine-data --kinds all --deep", "needed-by --any libbrine2",
    "because libfathom1", "because brine-data --chains 5", "because weirgate --any", "because tidegauge",
    "obstacles weirgate", "obstacles ./{archive}", "obstacles 'tide*'",
    "whatif --add weirgate", "whatif --drop libbrine2", "whatif --upgrade", "whatif --add ./{archive}",
    "whatif --add weirgate --drop lockgate --with-recommends", "whatif --drop tidegauge",
    "verify", "verify tidegauge --all", "verify --only altered", "verify --all", "verify --evidence signed",
    "verify tidegauge --against ./{archive}", "verify --evidence signed --keyring {keys}",
    "provenance tidegauge", "provenance 'lib*'", "provenance ./{archive}",
    "provenance ./{archive} --keyring {keys}", "keys", "keys --needed", "keys --keyring {keys}",
    "strays", "strays /usr/sbin /opt", "repos", "repos --keyring {keys}", "behind", "behind --security",
    "census nosuchpackage", "dossier tidegauje", "needs --kinds nothing tidegauge",
)  # fmt: skip
HELP = tuple(
    f"{name} --help".strip()
    for name in (
        "", "survey", "census", "dossier", "seek", "contents", "owner", "needs", "needed-by", "because",
        "obstacles", "whatif", "draw", "verify", "provenance", "keys", "strays", "repos", "behind", "refresh",
        "demo",
    )
)  # fmt: skip
HERE = (
    "survey", "census", "repos", "keys", "behind", "strays /etc", "because {needed}", "needs {large} --deep",
    "needed-by {needed}", "verify {large} {needed}", "provenance {needed}", "owner /usr/bin/env passwd",
    "contents {needed}", "dossier {large}", "whatif --drop {large}", "census --available 'lib*z*'",
    "seek compress",
)  # fmt: skip
"""What this machine is asked; its packages are chosen by what it has: a large one, and one that many need."""
_MOMENTS = re.compile(
    r'\b\d+(\.\d+)? (?:seconds?|minutes?|ms|s)\b|"asked_at": "[^"]*"|"seconds": [\d.]+|"free": \d+'
    r"|[\d.]+ [KMGT]?i?B free|room[,\t]\d+"
)
"""How long something took, when it was asked, and what room there is: what may differ between two runs."""

_CHILD = """
import json, os, shlex, sys
from filigree import __main__ as rim
from filigree.cli.app import app
import filigree, importlib, pkgutil
for one in pkgutil.walk_packages(filigree.__path__, "filigree."):
    if not one.name.endswith("__main__") and ".demo" not in one.name:
        importlib.import_module(one.name)
for name in ("pysequoia", "zstandard", "lz4.frame", "rich.table", "rich.console", "sqlite3", "typer.rich_utils"):
    importlib.import_module(name)
for line in sys.stdin:
    job = json.loads(line)
    pid = os.fork()
    if pid == 0:
        for at, name in ((1, "out"), (2, "err")):
            os.dup2(os.open(job[name], os.O_WRONLY | os.O_CREAT | os.O_TRUNC), at)
        os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
        sys.argv = ["filigree", *job["words"]]
        try:
            rim.run()
        except SystemExit as end:
            os._exit(end.code if isinstance(end.code, int) else 1)
    print(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]), flush=True)
"""


class Version:
    """One version of the code, ready to run commands."""

    def __init__(self, source: Path, cache: str, folder: Path) -> None:
        self._folder = tempfile.mkdtemp()
        self._process = subprocess.Popen(
            [sys.executable, "-c", _CHILD], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
            cwd=folder,
            env={**os.environ, "PYTHONPATH": str(source), "COLUMNS": "120", "XDG_CACHE_HOME": cache},
        )  # fmt: skip

        self._files = {name: f"{self._folder}/{name}" for name in ("out", "err")}

    def start(self, words: list[str]) -> None:
        """Start a command; the other version may run beside it."""
        assert self._process.stdin is not None
        self._process.stdin.write(json.dumps({"words": words, **self._files}) + "\n")
        self._process.stdin.flush()

    def answer(self) -> list[str]:
        """Standard output, standard error and exit status of what was started."""
        assert self._process.stdout is not None
        status = self._process.stdout.readline()
        texts = [Path(path).read_text(errors="backslashreplace") for path in self._files.values()]
        return [_MOMENTS.sub("…", text) for text in (*texts, status)]


def runs(stations: Path, only: str | None, here: bool) -> Iterator[list[str]]:
    """Every command that is compared, as words."""
    import shlex

    for line in HELP:
        yield line.split()
    for root in sorted(
        p for p in stations.iterdir() if p.name in ("heron", "curlew", "plover", "dunlin")
    ):
        if only not in (None, root.name):
            continue
        archive = next(_archives(stations, root.name))
        keys = "repository/coast.asc"
        for question in QUESTIONS:
            words = [word.format(archive=archive, keys=keys) for word in shlex.split(question)]
            for form in FORMATS:
                yield [words[0], "--root", str(root), "--format", form, *words[1:]]
    chosen = _chosen_here() if here else {}
    for question in HERE if here else ():
        for form in ("table", "json"):
            name, *more = shlex.split(question.format(**chosen))
            yield [name, "--format", form, *more]


def _archives(stations: Path, name: str) -> Iterator[str]:
    """The archives of one program that the repositories and the folder of archives hold."""
    ending = {"heron": ".deb", "curlew": ".rpm", "plover": ".zst", "dunlin": ".txz"}[name]
    for folder in ("archives", "repository"):
        for path in sorted((stations / folder).rglob(f"tidegauge*{ending}")):
            yield str(path.relative_to(stations))


def _renamed(text: str, names: list[str]) -> str:
    """An answer with words by the names that they have since, in either case."""
    for name in names:
        old, _, new = name.partition("=")
        text = re.sub(rf"\b{old}\b", new, text)
        text = re.sub(rf"\b{old.capitalize()}\b", new.capitalize(), text)
    return text


def _squeezed(text: str) -> str:
    """An answer without what depends on how wide a word is, a word a line."""
    return re.sub(r"[\s─-╿]+", "\n", text)


def _chosen_here() -> dict[str, str]:
    """Packages of this machine by what they are."""
    from tools.packages_here import packages_here

    found = packages_here()
    return {"large": found.largest, "needed": found.needed}


def main() -> int:
    """Prints what differs; 0 where nothing does."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawTextHelpFormatter
    )
    parser.add_argument("before", type=Path)
    parser.add_argument("after", type=Path)
    parser.add_argument("--stations", type=Path, default=PROJECT / "stations")
    parser.add_argument("--only")
    parser.add_argument(
        "--renamed", action="append", default=[], metavar="OLD=NEW",
        help="a word that has another name since; then the width of columns is not compared",
    )  # fmt: skip
    parser.add_argument("--here", action="store_true")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as two:
        before = Version(given.before.resolve(), one, given.stations)
        after = Version(given.after.resolve(), two, given.stations)
        count, different = 0, []
        changes: collections.Counter[tuple[str, str]] = collections.Counter()
        where: dict[tuple[str, str], str] = {}
        for words in runs(given.stations, given.only, given.here):
            count += 1
            before.start(words)
            after.start(words)
            old, new = before.answer(), after.answer()
            if given.renamed:
                old = [_squeezed(_renamed(text, given.renamed)) for text in old]
                new = [_squeezed(text) for text in new]
            if old == new:
                continue
            different.append(" ".join(words))
            for a, b in zip(old, new, strict=True):
                for line in difflib.unified_diff(
                    a.replace("},", "},\n").split("\n"), b.replace("},", "},\n").split("\n"),
                    n=0, lineterm="",
                ):  # fmt: skip
                    if line[:1] in "+-" and line[:3] not in ("+++", "---"):
                        key = (line[0], line[1:].strip())
                        changes[key] += 1
                        where.setdefault(key, " ".join(words))
    print(f"{count} commands, {len(different)} answered otherwise")
    for (sign, text), times in sorted(changes.items(), key=lambda one: (where[one[0]], one[0][1])):
        print(f"{sign} {text[:200]}   ({times}; first: {where[sign, text]})")
    return bool(different)


if __name__ == "__main__":
    sys.exit(main())
