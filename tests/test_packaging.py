"""What is handed out: an archive of the sources and a wheel, with all that is theirs and no more."""

import shutil
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest

pytest.importorskip("setuptools", reason="what builds the archives is not installed")
TOP = Path(__file__).parents[1]
OURS = ("src", "docs/man", "pyproject.toml", "README.md", "LICENSE", "MANIFEST.in")
BUILD = (
    "import sys; from setuptools import build_meta; getattr(build_meta, sys.argv[1])(sys.argv[2])"
)
"""What programs that build call (PEP 517)."""
AS_DATA = {".py", ".typed", ".asc", ".pem", ".html", ".css", ".js"}


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, str]:
    """Both archives, and what was said while they were made."""
    folder = tmp_path_factory.mktemp("package")
    sources = folder / "sources"
    for name in OURS:
        path = TOP / name
        if path.is_dir():
            ignored = shutil.ignore_patterns("__pycache__", "*.egg-info")
            shutil.copytree(path, sources / name, ignore=ignored)
        elif path.exists():
            (sources / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(path, sources / name)
    out = folder / "out"
    out.mkdir()
    said = ""
    for hook in ("build_sdist", "build_wheel"):
        done = subprocess.run(
            [sys.executable, "-W", "default", "-c", BUILD, hook, str(out)],
            cwd=sources, capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        said += done.stdout + done.stderr
    return out, said


def modules() -> set[str]:
    return {
        str(path.relative_to(TOP / "src"))
        for path in (TOP / "src" / "filigree").rglob("*")
        if path.suffix in AS_DATA
    }


def test_nothing_is_complained_of(built: tuple[Path, str]) -> None:
    # That byte-compiling is switched off is a setting of the machine, and no fault of the archive.
    said = [line for line in built[1].splitlines() if "warning" in line.lower()]
    assert [line for line in said if "byte-compil" not in line] == []


def test_the_wheel_has_the_program_and_its_pages(built: tuple[Path, str]) -> None:
    (wheel,) = built[0].glob("*.whl")
    with zipfile.ZipFile(wheel) as opened:
        names = set(opened.namelist())
    about = {name for name in names if name.split("/")[0].endswith((".dist-info", ".data"))}
    assert names - about == modules()
    pages = {name.rpartition("/")[2] for name in about if "/share/man/man1/" in name}
    assert pages == {path.name for path in (TOP / "docs" / "man").glob("*.1")}
    rest = {name.rpartition("/")[2] for name in about if "/share/man/man1/" not in name}
    assert rest == {"LICENSE", "METADATA", "WHEEL", "RECORD", "entry_points.txt", "top_level.txt"}
    assert wheel.name.endswith("-py3-none-any.whl")


def test_the_archive_of_the_sources_has_what_builds_it_and_nothing_else(
    built: tuple[Path, str],
) -> None:
    (archive,) = built[0].glob("*.tar.gz")
    with tarfile.open(archive) as opened:
        files = {one.name.partition("/")[2] for one in opened if one.isfile()}
    own = {name for name in files if ".egg-info/" not in name}
    pages = {f"docs/man/{path.name}" for path in (TOP / "docs" / "man").glob("*.1")}
    expected = {f"src/{name}" for name in modules()} | pages
    assert own == expected | {"LICENSE", "PKG-INFO", "README.md", "pyproject.toml", "setup.cfg"}
