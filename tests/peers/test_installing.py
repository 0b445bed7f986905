"""The wheel in environments of its own: of every Python that is here, and with every extra by itself.

Run by make peers: what it needs comes from the package index.
"""

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from tests.test_packaging import built

pytestmark = pytest.mark.peers
__all__ = ["built"]
EXTRAS = {
    "draw": ["matplotlib"], "fleet": ["duckdb"],
    "objects": ["duckdb", "obstore"], "report": ["jinja2", "license_expression", "matplotlib"],
}  # fmt: skip
"""What an extra is for, and is there once it is installed. That of clusters is tried with its peers."""
VERSIONS = ("3.11", "3.12", "3.13")


def python_of(version: str) -> str | None:
    """A Python of this version that starts, wherever programs or a keeper of versions have one."""
    kept = sorted((Path.home() / ".pyenv" / "versions").glob(f"{version}.*/bin/python"))
    for one in (*map(str, kept), shutil.which(f"python{version}")):
        if (
            one
            and subprocess.run([one, "-c", ""], capture_output=True, check=False).returncode == 0
        ):
            return one
    return None


def installed(python: str, wheel: str, folder: Path) -> str:
    """The Python of an environment in which a wheel was installed."""
    subprocess.run(
        [python, "-m", "venv", "--without-pip", str(folder)], check=True, capture_output=True
    )
    inside = str(folder / "bin" / "python")
    pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "--python", inside]
    done = subprocess.run(
        [*pip, "install", "--quiet", "--no-compile", wheel],
        capture_output=True, text=True, check=False, timeout=600,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return inside


@pytest.mark.parametrize("version", VERSIONS)
def test_it_installs_and_answers(
    built: tuple[Path, str], heron: Path, tmp_path: Path, version: str
) -> None:
    python = python_of(version)
    if python is None:
        pytest.skip(f"there is no Python {version} here")
    (wheel,) = built[0].glob("*.whl")
    inside = installed(python, str(wheel), tmp_path / "env")
    program = Path(inside).with_name("filigree")
    done = subprocess.run(
        [program, "verify", "chartroom", "--root", str(heron)], capture_output=True, check=False
    )
    assert done.returncode == 0, done.stderr
    pages = list((tmp_path / "env" / "share" / "man" / "man1").glob("filigree*.1"))
    assert len(pages) > 40
    # What is not installed is asked for by its name, and is no fault.
    out = tmp_path / "audit.html"
    done = subprocess.run(
        [program, "report", str(out), "--root", str(heron)], capture_output=True, check=False
    )
    assert done.returncode == 2
    assert b"filigree[" in done.stderr


@pytest.mark.parametrize("extra", EXTRAS)
def test_an_extra_brings_what_it_is_for(
    built: tuple[Path, str], tmp_path: Path, extra: str
) -> None:
    (wheel,) = built[0].glob("*.whl")
    inside = installed(
        sys.executable, f"{wheel}[{extra}]" if extra else str(wheel), tmp_path / "env"
    )
    for module in EXTRAS[extra]:
        subprocess.run([inside, "-c", f"import {module}"], check=True, capture_output=True)
