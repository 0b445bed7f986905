"""The documentation is true: its example runs, its links lead somewhere."""

import re
from pathlib import Path

import pytest

TOP = Path(__file__).parents[1]
PAGES = [TOP / "README.md", TOP / "CONTRIBUTING.md", *sorted((TOP / "docs").glob("*.md"))]


def test_the_example_of_the_library_page_runs(heron: Path) -> None:
    (code,) = re.findall(r"```python\n(.*?)```", (TOP / "docs/library.md").read_text(), re.DOTALL)
    exec(compile(code, "docs/library.md", "exec"), {"root": str(heron)})


def test_every_function_of_the_library_is_named() -> None:
    import filigree

    page = (TOP / "docs/library.md").read_text()
    for name in filigree.__all__:
        if not name.startswith("__"):
            assert getattr(filigree, name)
            assert f"`{name}`" in page or f"filigree.{name}" in page or name == "System"


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
        if not target.startswith("http"):
            assert (page.parent / target).exists(), target


def test_the_readme_gives_the_two_commands() -> None:
    text = (TOP / "README.md").read_text()
    assert "make demo" in text
    assert "make test" in text
    makefile = (TOP / "Makefile").read_text()
    for target in ("demo", "test", "check", "bench", "screenshots"):
        assert re.search(rf"^{target}:", makefile, re.MULTILINE)
