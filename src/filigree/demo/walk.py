"""The walk through an audit: the stations are built, asked, and their answers shown."""

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from dataclasses import dataclass
from importlib.util import find_spec
from multiprocessing import get_context
from pathlib import Path

from filigree.access.workers import processors
from filigree.demo import dunlin, plover, sanderling
from filigree.demo.archives import (
    BROKEN,
    CUT_OFF,
    FOLDER,
    MISNAMED,
    STRANGE,
    TRICKY,
    UNMET,
    UNSIGNED,
    write_archives,
)
from filigree.demo.comparison import side_by_side
from filigree.demo.curlew import build_curlew
from filigree.demo.dunlin import build_dunlin
from filigree.demo.fleet import FLEET_OF, taken_from, write_fleet
from filigree.demo.fleet import FOLDER as FLEET
from filigree.demo.grown import FOLDER as GROWN
from filigree.demo.grown import build_grown
from filigree.demo.heron import DOCTORED, build_heron
from filigree.demo.images import FOLDER as IMAGES
from filigree.demo.images import NAMES, SMALL, clear, write_image
from filigree.demo.offering import write_repositories
from filigree.demo.plover import build_plover
from filigree.demo.repository import CODENAME
from filigree.demo.sanderling import build_sanderling
from filigree.demo.server import serving
from filigree.demo.snapshots import ENDING, write_snapshot
from filigree.demo.snapshots import FOLDER as SNAPSHOTS
from filigree.demo.stages import FIRST, LAST, SETTLED, Stage
from filigree.fleet.taking import Taken
from filigree.model.errors import BadQuestion
from filigree.questions.offers.options import RepositoryOptions
from filigree.views.page import Ink

STATIONS: dict[str, Callable[[Path, Stage], Path]] = {
    "heron": build_heron, "curlew": build_curlew, "plover": build_plover,
    "dunlin": build_dunlin, "sanderling": build_sanderling,
}  # fmt: skip
REPOSITORY = "repository"
PLOVERS = "arch/coast/x86_64"
DUNLINS = "coast64"
SANDERLINGS = "apk"
ADDRESS = "http://SERVER"
"""Stands for the address of the server, which is another one at every run."""
_MARK = "made by filigree demo"


@dataclass(frozen=True, slots=True)
class Stop:
    """One stop of the walk: what is wondered, and the question that is asked at a station; None where it
    names its roots itself."""

    says: str
    asks: tuple[str, ...]
    station: str | None = "heron"


STOPS: tuple[Stop, ...] = (
    Stop("A disk has come in from station heron. What kind of system is it, and how does it feel?",
         ("survey",)),
    Stop("And another from curlew, which keeps its packages in quite another way.",
         ("survey",), "curlew"),
    Stop("A third from dunlin, which writes down little, and says what it does not know.",
         ("survey",), "dunlin"),
    Stop("What did a person choose to install here, the biggest first?",
         ("census", "--chosen", "--sort", "size", "--limit", "8")),
    Stop("What runs on the bare machine at curlew? Two versions stand side by side.",
         ("census", "bedrock", "--columns", "name,version,reason,repository,installed_at"), "curlew"),
    Stop("Everything about the package that reads the gauge.", ("dossier", "tidegauge")),
    Stop("Which programs and settings does it bring?",
         ("contents", "tidegauge", "--role", "program", "--role", "config")),
    Stop("What does it stand on?", ("needs", "tidegauge", "--deep")),
    Stop("At curlew needs are paths, names of libraries, and whole sentences.",
         ("needs", "chartroom", "harbourlog", "jetty"), "curlew"),
    Stop("Dunlin does not record needs: a list of the same builds tells them, of most.",
         ("needed-by", "libbrine2"), "dunlin"),
    Stop("And who stands on the sea water library?", ("needed-by", "libbrine2", "--deep")),
    Stop("Why are the tables of salinity here, and the clients of the jetty?",
         ("because", "brine-data", "jetty-client")),
    Stop("What would go with the sea water library, and what would be left over?",
         ("whatif", "--drop", "libbrine2")),
    Stop("Why can the weir gate not be installed?", ("obstacles", "weirgate")),
    Stop("What would an upgrade do at curlew, even where something must go?",
         ("whatif", "--upgrade", "--may-drop"), "curlew"),
    Stop("What does nothing need any more?", ("census", "--leftover")),
    Stop("Whose is this program, that one, and the viewer that links to another?",
         ("owner", "/usr/bin/plot-chart", "/usr/bin/plot-chart.ropewalk", "chart-viewer",
          "/usr/sbin/gullcheck")),
    Stop("What is wrong with heron, worst first?", ("findings", "--least", "high")),
    Stop("And a month on, after a program had fetched itself anew?", ("verify",), GROWN),
    Stop("Is everything on the disk of heron still as it was shipped?", ("verify",)),
    Stop("And on curlew's, whose records tell more of each file?", ("verify",), "curlew"),
    Stop("And on plover's, a station of a third kind, which has everything of a file on record?",
         ("verify",), "plover"),
    Stop("And on dunlin's, where nothing is on record of what a file holds?", ("verify",), "dunlin"),
    Stop("And on sanderling's, the smallest, whose records are lines of a letter each?", ("verify",),
         "sanderling"),
    Stop("Archives of the very builds tell it: what is not at hand is fetched, and traced to a key.",
         ("verify", "weatherglass", "dulse", "--evidence", "signed", "--fetch", "--repo-url",
          f"{ADDRESS}/coast64 office", "--keyring", f"{REPOSITORY}/coast.asc"), "dunlin"),
    Stop("Nothing is wrong with the silt meter, says the local record.", ("verify", "siltmeter")),
    Stop("But what traces to a key? The record itself was changed.",
         ("verify", "siltmeter", "--evidence", "signed")),
    Stop("Where does the chain from the office's key to that program break?",
         ("provenance", DOCTORED)),
    Stop("What is not at hand is fetched, by digest, and judged with keys that the auditor brought.",
         ("verify", "tidegauge", "brine-data", "dredger", "--evidence", "signed", "--fetch", "--repo-url",
          f"{ADDRESS}/coast {CODENAME} main", "--keyring", f"{REPOSITORY}/coast.asc")),
    Stop("Whom does heron trust? One key is trusted for everything, and the office never had it.",
         ("keys", "--keyring", f"{REPOSITORY}/coast.asc")),
    Stop("Which keys are named by signatures at curlew, and held nowhere?", ("keys", "--needed"),
         "curlew"),
    Stop("Three archives of the keeper's: a stranger's signature, a broken one, and none.",
         ("provenance", *(f"./{FOLDER}/{name}" for name in (STRANGE, BROKEN, UNSIGNED))), "curlew"),
    Stop("Which files at heron are nobody's?", ("strays",)),
    Stop("Where may heron fetch from, and who signed what it knows of that?", ("repos",)),
    Stop("What is behind at curlew, and what of it is for security?", ("behind",), "curlew"),
    Stop("And at plover, where nothing tells what is for security?", ("behind",), "plover"),
    Stop("And at dunlin, whose versions have no order of their own?", ("behind",), "dunlin"),
    Stop("And at sanderling, where one repository is asked by a tag alone?", ("behind",), "sanderling"),
    Stop("Why does heron not take the newer page? All versions, and what the rules say of them.",
         ("dossier", "quayside", "--available")),
    Stop("What else is there about letters, installed or not?", ("seek", "letters")),
    Stop("Which package would bring this program?", ("owner", "--any", "weirgate", "tidegauge")),
    Stop("What would everything for a gauge station take at heron?",
         ("needs", "--available", "tide-essentials")),
    Stop("Which members of a group are missing?", ("census", "--group", "gauge-station"), "curlew"),
    Stop("The office's own server offers more to heron. Its index is verified before it is kept.",
         ("refresh", "127*", "--repo-url", f"{ADDRESS}/coast {CODENAME} main",
          "--keyring", f"{REPOSITORY}/coast.asc")),
    Stop("An archive there: what is in it? Only the parts that are needed are sent.",
         ("contents", f"{ADDRESS}/coast/pool/main/weirgate_0.9-4_amd64.deb", "--role", "program",
          "--role", "config")),
    Stop("The keeper had archives in a folder. What is this one, really?",
         ("dossier", f"./{FOLDER}/{MISNAMED}"), "curlew"),
    Stop("Could this one be installed at curlew?", ("needs", f"./{FOLDER}/{UNMET}"), "curlew"),
    Stop("What is in the one that was for nothing, and in the one that was cut off?",
         ("contents", f"./{FOLDER}/{TRICKY}", f"./{FOLDER}/{CUT_OFF}"), "curlew"),
    Stop("Heron is sent as the image of a container, too. What is that?", ("survey",), NAMES["heron"]),
    Stop("Who did what: which layer brought, altered and hid which files?", ("layers",), NAMES["heron"]),
    Stop("And at plover?", ("layers",), NAMES["plover"]),
    Stop("Most images are of sanderling's family: small ones, of few layers.", ("layers",),
         NAMES["sanderling"]),
    Stop("Is the image as it was shipped? Each answer names the layer.",
         ("verify", "foghorn", "lockgate"), NAMES["heron"]),
    Stop("The office kept what heron was before. Whose word is that?",
         ("survey", "--keyring", f"{REPOSITORY}/coast.asc"), f"{SNAPSHOTS}/heron{ENDING}"),
    Stop("What is another since then, and what of it does nothing explain?",
         ("compare", f"{SNAPSHOTS}/heron{ENDING}", "heron",
          "--keyring", f"{REPOSITORY}/coast.asc"), None),
    Stop("And at plover?",
         ("compare", f"{SNAPSHOTS}/plover{ENDING}", "plover", "--only", "unexplained",
          "--keyring", f"{REPOSITORY}/coast.asc"), None),
    Stop("When did what happen at heron, week by week?", ("timeline", "--by", "week")),
    Stop("What came with the gauge, and what happened to its files in the days after?",
         ("timeline", "--around", "tidegauge", "--within", "8 days", "--until", "2026-03-01")),
    Stop("And what happened after the office had kept what heron was, that nothing explains?",
         ("timeline", "--since", "2026-03-01", "--unexplained", "--with",
          f"{SNAPSHOTS}/heron{ENDING}", "--keyring", f"{REPOSITORY}/coast.asc")),
    Stop("Forty gauge hosts, seen on four days: what has only one of them?",
         ("fleet", "rare", FLEET, "--at-most", "1"), None),
    Stop("Which files are unlike those of the same package at the others?", ("fleet", "differ", FLEET),
         None),
    Stop("What came to be otherwise since the third day, and what of it does nothing explain?",
         ("fleet", "changed", FLEET, "--since", "2026-03-03"), None),
    Stop("Which of the archives would bring this program?",
         ("owner", "tidegauge", "--in", f"./{FOLDER}/tidegauge*", "--in", f"./{FOLDER}/silt*")),
)  # fmt: skip


def build_stations(into: Path) -> dict[str, Path]:
    """Build every station below a folder. Raises BadQuestion rather than empty somebody's folder."""
    note = into / "README.txt"
    ours = note.is_file() and _MARK in note.read_text(errors="replace")
    taken = [
        name
        for name in (*STATIONS, FOLDER, REPOSITORY, IMAGES, SNAPSHOTS, GROWN, FLEET)
        if (into / name).exists()
    ]
    if taken and not ours:
        raise BadQuestion(
            f"there is a folder {taken[0]} already, and it is not one of ours",
            str(into),
            "name another folder with --into",
        )
    into.mkdir(parents=True, exist_ok=True)
    note.write_text(f"Made-up systems of the Sallow Coast Tide Office, {_MARK}.\n")
    write_archives(into / FOLDER)
    write_repositories(into / REPOSITORY)
    for place, tree in (
        (PLOVERS, plover.repository()),
        (DUNLINS, dunlin.repository()),
        (SANDERLINGS, sanderling.repository()),
    ):
        for path, content in tree.items():
            whole = into / REPOSITORY / place / path
            whole.parent.mkdir(parents=True, exist_ok=True)
            whole.write_bytes(content)
    for folder in (IMAGES, SNAPSHOTS):
        clear(into / folder)
    # What all of them share is made by now; each station is made in a process of its own.
    with ProcessPoolExecutor(processors(), get_context("fork")) as crew:
        grown = crew.submit(build_grown, into / GROWN)
        gathered: dict[str, Taken] = {}
        for rows in crew.map(_build_station, [into] * len(STATIONS), STATIONS):
            gathered |= rows
        grown.result()
    if gathered:
        _write_fleet(into, gathered)
    return {name: into / name for name in STATIONS}


_VISITED = "visited"


def _write_fleet(into: Path, taken: dict[str, Taken]) -> None:
    """Write the store; none where others may write to the place: nobody would believe it."""
    clear(into / FLEET)
    quiet = {name: one for name, one in taken.items() if name != _VISITED}
    try:
        write_fleet(into, quiet, taken[_VISITED])
    except BadQuestion:
        shutil.rmtree(into / FLEET, ignore_errors=True)


def _build_station(into: Path, name: str) -> dict[str, Taken]:
    """Build one station: as it is, as an image of all its stages, and as it was kept before the night.
    What a fleet is made of comes back as rows, where there is an engine to ask it."""
    build = STATIONS[name]
    with tempfile.TemporaryDirectory() as folder:
        first = build(Path(folder) / "first", FIRST)
        (Path(folder) / "settled").mkdir()
        settled = build(Path(folder) / "settled" / name, SETTLED)
        last = build(into / name, LAST)
        small = [
            build(Path(folder) / f"small-{number}", stage)
            for number, stage in enumerate(SMALL.get(name, ()))
        ]
        write_image(into, name, small or (first, settled, last))
        write_snapshot(into, name, settled)
        if name not in FLEET_OF or find_spec("duckdb") is None:
            return {}
        found = {name: taken_from(settled, name)}
        return found if name != FLEET_OF[0] else {**found, _VISITED: taken_from(last, name)}


def walk(roots: dict[str, Path], say: Callable[[str], None], colour: bool) -> None:
    """Ask the questions, each as a person would type it, and show the answers one after another; while
    one is shown the next ones are asked.

    Meanwhile the repository is served on the loopback address; what is fetched and parsed is kept in a
    cache of the walk's own, and gone afterwards.
    """
    folder = next(iter(roots.values())).parent
    with serving(folder / REPOSITORY) as server, tempfile.TemporaryDirectory() as cache:
        stops = [one for one in STOPS if one.asks[0] != "fleet" or (folder / FLEET).exists()]
        asked = [_arguments(stop, server.address) for stop in stops]
        with ThreadPoolExecutor(processors()) as crew:
            answers = crew.map(lambda one: _run(one, folder, colour, cache), asked)
            for stop, arguments, (text, status) in zip(stops, asked, answers, strict=True):
                say("")
                say(f"# {stop.says}")
                say(f"$ filigree {shlex.join(arguments)}")
                say("")
                say(text.rstrip("\n"))
                say(f"(exit status {status})")
        say("")
        say(
            "# Five stations, five families: what each can answer to the same questions, and what not."
        )
        say("")
        for text in beside(roots, colour, cache):
            say(text)


def beside(roots: dict[str, Path], colour: bool, cache: str) -> Iterator[str]:
    """The table that compares the stations."""
    width = shutil.get_terminal_size((120, 40)).columns
    return side_by_side(roots, RepositoryOptions(cache=cache), Ink(colour, width))


def _arguments(stop: Stop, server: str) -> list[str]:
    asks = [word.replace(ADDRESS, server) for word in stop.asks]
    return asks if stop.station is None else [*asks, "--root", stop.station]


def _run(arguments: list[str], folder: Path, colour: bool, cache: str) -> tuple[str, int]:
    """What a question prints, as a person sees it, and its exit status."""
    command = [sys.executable, "-m", "filigree", *arguments, "--format", "table", "--no-pager"]
    command += ["--color", "always" if colour else "never"]
    surroundings = {**os.environ, "XDG_CACHE_HOME": cache}
    if sys.stdout.isatty():
        surroundings["COLUMNS"] = str(shutil.get_terminal_size().columns)
    done = subprocess.run(
        command, cwd=folder, check=False, env=surroundings, stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT, text=True, encoding="utf-8", errors="replace",
    )  # fmt: skip
    return done.stdout, done.returncode
