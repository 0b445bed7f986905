"""The manual: of every command, as the commands are; and as other programs take it."""

import re
import shutil
import subprocess
from pathlib import Path

import pytest
from tools.manual import pages, write_pages

from filigree.cli.commands import COMMANDS
from filigree.views.pages.manual import ManualEntry, ManualPage, ManualSection, plain_text, roff
from tests.conftest import Run

KEPT = Path(__file__).parents[2] / "docs" / "man"
PAGES = pages()


def test_every_command_has_a_page_with_all_of_its_options(call: Run) -> None:
    assert {one.name for one in COMMANDS} < set(PAGES)
    assert {"", "fleet", "fleet gather", "manual"} < set(PAGES)
    for name in ("verify", "report", "fleet rare"):
        text = "\n".join(plain_text(PAGES[name]))
        shown = call(*name.split(), "--help").stdout
        for option in set(re.findall(r"--[a-z][a-z-]+", shown)) - {"--help"}:
            assert option in text, (name, option)


def test_the_pages_that_are_kept_are_what_the_commands_say(tmp_path: Path) -> None:
    names = write_pages(str(tmp_path))
    assert sorted(names) == sorted(path.name for path in KEPT.iterdir()), "make docs"
    for name in names:
        assert (KEPT / name).read_text() == (tmp_path / name).read_text(), f"make docs: {name}"


@pytest.mark.parametrize("name", ["", "verify", "fleet gather"])
def test_the_program_prints_it(run: Run, name: str) -> None:
    done = run("manual", *name.split())
    assert done.returncode == 0, done.stderr
    assert done.stdout.startswith("-".join(["filigree", *name.split()]) + " - ")
    for title in ("Synopsis", "Options", "Exit status", "Environment"):
        assert f"\n{title}\n" in done.stdout
    assert max(map(len, done.stdout.splitlines())) <= 110


def test_a_misspelt_command_is_told(run: Run) -> None:
    done = run("manual", "verfy")
    assert done.returncode == 2
    assert "did you mean verify" in done.stderr


ODD = ManualPage(
    "filigree-odd", ".so /etc/passwd",
    (ManualSection("Odd", (".de x", "'x \\fB -a"), (ManualEntry(".PP", "a\nb"),), (".x", "\\n[.g]")),),
)  # fmt: skip


def test_no_text_is_a_request() -> None:
    lines = [*roff(ODD, "0")]
    requests = {line.split()[0] for line in lines if line.startswith((".", "'"))}
    assert requests == {".TH", ".SH", ".PP", ".TP", ".B", ".nf", ".fi"}
    assert not any(re.search(r"\\(?![e&-])", line) for line in lines)


@pytest.mark.skipif(shutil.which("mandoc") is None, reason="there is no mandoc here")
def test_another_reader_finds_no_error() -> None:
    for path in KEPT.iterdir():
        done = subprocess.run(
            ["mandoc", "-T", "lint", "-W", "error", str(path)],
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, done.stdout


@pytest.mark.skipif(shutil.which("groff") is None, reason="there is no groff here")
def test_every_option_comes_out_of_a_page() -> None:
    done = subprocess.run(
        ["groff", "-man", "-T", "ascii", "-P", "-c", "-ww", str(KEPT / "filigree-verify.1")],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    told = re.sub(".\b", "", done.stdout)
    assert "--evidence record|archive|signed" in told
