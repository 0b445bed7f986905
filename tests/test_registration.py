"""Families from elsewhere, and a house that names none."""

import json
import re
from pathlib import Path

import pytest

import filigree
from filigree.cli.hints import worded
from filigree.demo.sanderling import build_sanderling
from filigree.families.registry import families
from filigree.model.hints import Hint
from tests.conftest import Run, beside

TINY = '''
from filigree.families.shared.defaults import DatabaseDefaults
from filigree.families.shared.listing import PathListing
from filigree.formats.version_parts import split_version
from filigree.model.files import Aspect, FileRecord
from filigree.model.needs import Capability
from filigree.model.package import Package


class Rules:
    """Names are all that counts."""

    marks = frozenset()
    machines = ("any",)
    keeping = frozenset()

    def satisfies(self, asked, provided):
        return asked.term.name == provided.capability.name

    def forbids(self, kind, asked, provided):
        return False

    def rivals(self, one, other):
        return "there can be one"

    def machine_of(self, package):
        return "any"

    def stays(self, package):
        return False


class Database(DatabaseDefaults):
    """One package a line: name, version, path."""

    aspects = frozenset({Aspect.PRESENCE})
    architecture = "any"

    def __init__(self, jail):
        rows = jail.read("/var/tiny").decode().split("\\n")
        self._rows = [row.split() for row in rows if row]
        self._packages = [Package(name, version, "any", "tiny") for name, version, _ in self._rows]

    def packages(self):
        return self._packages

    def _path(self, package):
        return next(p for (_, _, p), one in zip(self._rows, self._packages) if one is package)

    def listing(self, package):
        return PathListing([self._path(package)])

    def listings(self):
        return ((package, self.listing(package)) for package in self._packages)

    def path_count(self, package):
        return 1

    def files(self, package):
        return [FileRecord(self._path(package), self._path(package))]

    def configuration(self, package):
        return []

    needs = scripts = configuration

    def capabilities(self, package):
        return (Capability(package.name, package.version),)

    rules = Rules()

    def fields(self, package):
        return {"line": package.name}

    kept_endings = ()

    def script_texts(self, package):
        return iter(())

    def place_of(self, package):
        return "/var/tiny"

    def archive_folders(self):
        return ()

    index_folders = archive_folders

    def keeper_of(self, path):
        return None


class Family:
    name = "tiny"
    url_types = ("tiny",)
    silent_on = {"license": "a line has no room for one", "content": "a line tells no digest"}
    archives = None

    def looked_for(self):
        return ("/var/tiny",)

    def recognises(self, jail):
        return jail.exists("/var/tiny")

    def open(self, jail, report):
        return Database(jail)

    def sources(self, database, judging):
        return None

    def split_version(self, version):
        return split_version(version)

    def compare_versions(self, one, other):
        return (one > other) - (one < other)

    order = compare_versions


FAMILY = Family()
'''


@pytest.fixture
def elsewhere(tmp_path: Path) -> Path:
    """Another distribution package, as an installer leaves it."""
    site = tmp_path / "site"
    metadata = site / "tiny_systems-1.0.dist-info"
    metadata.mkdir(parents=True)
    (site / "tiny_systems.py").write_text(TINY)
    (metadata / "METADATA").write_text("Metadata-Version: 2.1\nName: tiny-systems\nVersion: 1.0\n")
    (metadata / "entry_points.txt").write_text("[filigree.families]\ntiny = tiny_systems:FAMILY\n")
    return site


def test_a_family_from_another_distribution_package(
    run: Run, tmp_path: Path, elsewhere: Path
) -> None:
    root = tmp_path / "root"
    (root / "var").mkdir(parents=True)
    (root / "usr").mkdir()
    (root / "var/tiny").write_text("speck 1 /usr/speck\nmote 2 /usr/mote\n")
    (root / "usr/mote").write_text("a mote")

    def ask(*words: str) -> tuple[int, str]:
        done = run(*words, "--root", str(root), PYTHONPATH=beside(elsewhere))
        assert done.stderr == ""
        return done.returncode, done.stdout

    assert ask("census", "--columns", "name,version,family") == (
        0,
        "mote\t2\ttiny\nspeck\t1\ttiny\n",
    )
    assert ask("owner", "/usr/mote")[1] == "/usr/mote\t/usr/mote\tmote\t2\tany\tlisted\t\n"
    done = run("verify", "--only", "missing", "--root", str(root), PYTHONPATH=beside(elsewhere))
    assert (done.returncode, "/usr/speck" in done.stdout) == (1, True)
    assert "the content of 1 files: a line tells no digest" in done.stderr
    assert ask("dossier", "mote=2", "--full")[0] == 0
    assert ask("needs", "mote") == (0, "")
    assert ask("needed-by", "mote", "--flat") == (0, "")
    assert ask("because", "mote")[1].startswith("mote\tchosen\t")
    assert ask("whatif", "--drop", "mote")[1].startswith("drop\tmote\t2\tasked for\tany")
    assert ask("census", "--leftover") == (0, "")
    for words in (
        ("behind",),
        ("seek", "mote"),
        ("census", "--any"),
        ("dossier", "mote", "--any"),
        ("whatif", "--upgrade"),
    ):
        done = run(*words, "--root", str(root), PYTHONPATH=beside(elsewhere))
        assert done.returncode == 3
        assert "no repositories of this family are read" in done.stderr
    assert run("survey", "--root", str(root)).returncode == 2


def test_questions_and_views_name_no_family() -> None:
    house = Path(filigree.__file__).parent
    names = [family.name for family in families()]
    assert {"deb", "rpm"} <= {*names}
    # A column's heading is the short word for an architecture, and means no family.
    text = "|".join(name for name in names if name != "arch")
    words = re.compile(rf"\b({text})\b|family\W+arch\b|/var/lib/|/etc/\w+\.d", re.IGNORECASE)
    for folder in ("questions", "views", "model", "access"):
        for path in sorted((house / folder).rglob("*.py")):
            for number, text in enumerate(path.read_text().split("\n"), 1):
                assert not words.search(text), f"{path.name}, line {number}: {text}"


def test_the_core_names_no_option_of_a_command() -> None:
    """What would help is a value there; the rim says it in the words of its options."""
    house = Path(filigree.__file__).parent
    option = re.compile(r"(?<![\w-])--[a-z][a-z-]+")
    core = [house / "system.py", house / "paths.py"]
    for folder in ("model", "formats", "access", "families", "questions"):
        core += sorted((house / folder).rglob("*.py"))
    for path in core:
        for number, text in enumerate(path.read_text().split("\n"), 1):
            assert not option.search(text), f"{path.name}, line {number}: {text}"


def test_every_hint_is_worded() -> None:
    assert {worded(hint) for hint in Hint}.isdisjoint(hint.value for hint in Hint)
    assert worded("in words already") == "in words already"


@pytest.mark.parametrize(
    ("planted", "text"),
    [("var/lib/dpkg/status",
      "Package: gift\nStatus: install ok installed\nArchitecture: all\nVersion: 1\n"),
     ("var/log/packages/gift-1-noarch-1", "PACKAGE NAME: gift-1-noarch-1\nFILE LIST:\n./\n")],
)  # fmt: skip
def test_records_of_another_family_hide_nothing(
    tmp_path: Path, call: Run, planted: str, text: str
) -> None:
    """Whoever owns a machine lays down records of a family that is looked for first."""
    root = build_sanderling(tmp_path / "sanderling")
    clean = call("census", "--root", str(root), "--format", "json")
    assert json.loads(clean.stdout)["gaps"] == []
    (root / planted).parent.mkdir(parents=True)
    (root / planted).write_text(text)
    done = call("census", "--root", str(root), "--format", "json")
    told = json.loads(done.stdout)
    hidden = "/lib/apk/db/installed" if told["system"]["family"] != "apk" else f"/{planted}"
    assert any(hidden.startswith(gap["what"]) and "too" in gap["why"] for gap in told["gaps"])
    assert done.returncode == 3
