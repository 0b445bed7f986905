"""The family `apk`, taken out of the product and brought by a distribution package of its own.

The product is copied without the family's two folders and without its row in the registry; the folders
are copied into another package, under another name, which announces itself by an entry point. Then the
family's own tests are run against that.
"""

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

TOP = Path(__file__).parents[2]
SOURCE = TOP / "src/filigree"
FOLDERS = {"families/apk": "family", "formats/apk": "formats"}
TESTS = ("families/test_apk.py", "formats/test_apk.py", "formats/test_apk_binary.py")
OTHERS = ("__init__.py", "conftest.py", "warm.py", "making.py", "binary_form.py", "families/__init__.py",
          "formats/__init__.py")  # fmt: skip
NAME = "sands"


def renamed(text: str) -> str:
    """A text that knows the folders by where they are now."""
    for folder, part in FOLDERS.items():
        text = text.replace(f"filigree.{folder.replace('/', '.')}", f"{NAME}.{part}")
        front, _, last = folder.rpartition("/")
        text = re.sub(
            rf"from filigree\.{front} import {last}\b", f"from {NAME} import {part} as {last}", text
        )
    return text


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The product without the family, the family beside it, and the tests of the family."""
    top = tmp_path_factory.mktemp("elsewhere")
    product = top / "filigree"
    shutil.copytree(SOURCE, product, ignore=shutil.ignore_patterns("__pycache__"))
    for folder, part in FOLDERS.items():
        (product / folder).rename(top / part)
    (top / NAME).mkdir()
    (top / NAME / "__init__.py").write_text('"""A family from elsewhere."""\n')
    for part in FOLDERS.values():
        (top / part).rename(top / NAME / part)
    registry = product / "families/registry.py"
    text = registry.read_text()
    row = '"apk": "filigree.families.apk",'
    assert row in text
    registry.write_text(text.replace(row, ""))
    for name in (*TESTS, *OTHERS):
        place = top / "tests" / name
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text((TOP / "tests" / name).read_text())
    for path in [
        *(top / NAME).rglob("*.py"),
        *(product / "demo").glob("*.py"),
        *(top / "tests").rglob("*.py"),
    ]:
        path.write_text(renamed(path.read_text()))
    announced = top / f"{NAME}-1.0.dist-info"
    announced.mkdir()
    (announced / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {NAME}\nVersion: 1.0\n")
    (announced / "entry_points.txt").write_text(
        f"[filigree.families]\napk = {NAME}.family:FAMILY\n"
    )
    return top


def run(site: Path, *words: str) -> "subprocess.CompletedProcess[str]":
    surroundings = {**os.environ, "PYTHONPATH": str(site), "PYTHONPYCACHEPREFIX": str(site / "pyc")}
    return subprocess.run(
        [sys.executable, *words], cwd=site, env=surroundings, capture_output=True, text=True, check=False,
        timeout=500,
    )  # fmt: skip


def test_the_product_names_the_family_in_one_table_alone() -> None:
    named = [
        str(path.relative_to(SOURCE))
        for path in SOURCE.rglob("*.py")
        if re.search(r"(?:families|formats)[./](?:import )?apk\b", path.read_text())
    ]
    allowed = re.compile(r"families/apk/|formats/apk/|demo/|families/registry\.py")
    assert [one for one in named if not allowed.match(one)] == []


def test_it_is_found_where_it_is_and_nowhere_else(site: Path) -> None:
    script = (
        "import filigree\nfrom filigree.families.registry import families\n"
        "print(filigree.__file__)\nfor one in families(): print(one.name, type(one).__module__)\n"
    )
    done = run(site, "-c", script)
    assert done.returncode == 0, done.stderr
    place, *found = done.stdout.splitlines()
    assert place == str(site / "filigree/__init__.py")
    assert found[-1] == f"apk {NAME}.family"
    assert len(found) == 5


def test_all_tests_of_the_family_pass_from_elsewhere(site: Path) -> None:
    done = run(
        site, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-p", "no:xdist", f"--rootdir={site}",
        *(f"tests/{name}" for name in TESTS),
    )  # fmt: skip
    assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-1000:]
    count = re.search(r"(\d+) passed", done.stdout)
    assert count is not None
    assert int(count[1]) > 150
