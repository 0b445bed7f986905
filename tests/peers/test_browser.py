"""The page of an audit in a real browser: it works, it is usable by anybody, and it asks nobody.

Run by make peers, with the distribution's Chromium.
"""

import shutil
import subprocess
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from filigree.questions.reporting.audit import Audit, AuditPart
from filigree.views.pages.audit import audit_page
from tests.conftest import Run
from tests.views.test_audit_page import MADE, _spoiled, told

pytestmark = pytest.mark.peers
sync_api = pytest.importorskip(
    "playwright.sync_api", reason="what drives a browser is not installed"
)
axe_api = pytest.importorskip(
    "axe_playwright_python.sync_playwright", reason="axe-core is not installed"
)
CHROMIUM = shutil.which("chromium")
__all__ = ["told"]
QUIET = [
    "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip
SIZES = {"wide": (1280, 800), "narrow": (390, 844)}


@pytest.fixture(scope="module")
def browser() -> Iterator[Any]:
    if CHROMIUM is None:
        pytest.skip("there is no Chromium here")
    with sync_api.sync_playwright() as driver:
        started = driver.chromium.launch(executable_path=CHROMIUM, args=QUIET)
        yield started
        started.close()


@pytest.fixture(scope="module")
def page_file(told: Audit, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("page") / "audit.html"
    path.write_text(audit_page(told, MADE))
    return path


def opened(browser: Any, path: Path, **how: Any) -> tuple[Any, list[str], list[str]]:
    """A page, whom it asked, and what it complained of."""
    context = browser.new_context(**how)
    page = context.new_page()
    asked: list[str] = []
    said: list[str] = []
    page.on("request", lambda request: asked.append(request.url))
    page.on("console", lambda message: said.append(message.text))
    page.on("pageerror", lambda error: said.append(str(error)))

    def dismiss(dialog: Any) -> None:
        said.append(dialog.message)
        dialog.dismiss()

    page.on("dialog", dismiss)
    page.goto(path.as_uri())
    return page, asked, said


@pytest.mark.parametrize("size", SIZES)
@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_nothing_is_asked_of_anybody_and_nothing_is_wrong(
    browser: Any, page_file: Path, size: str, scheme: str
) -> None:
    wide, high = SIZES[size]
    page, asked, said = opened(
        browser, page_file, viewport={"width": wide, "height": high}, color_scheme=scheme
    )
    assert asked == [page_file.as_uri()]
    assert said == []
    # Nothing makes the page itself wider than the window.
    assert page.evaluate("document.documentElement.scrollWidth") <= wide
    # What is folded away is looked at, too.
    page.evaluate("document.querySelectorAll('details').forEach(one => one.open = true)")
    assert page.evaluate("document.documentElement.scrollWidth") <= wide
    found = axe_api.Axe().run(page)
    assert [one["id"] for one in found.response["violations"]] == [], found.generate_report()


def test_it_reads_without_a_script(browser: Any, page_file: Path) -> None:
    page, _, _ = opened(browser, page_file, java_script_enabled=False)
    assert page.locator("article.finding").count() > 5
    page.locator("details.chunk").first.locator("summary").click()
    assert page.locator("table tbody tr").count() > 100


def test_tables_are_sorted_filtered_and_the_address_tells_how(
    browser: Any, page_file: Path
) -> None:
    page, _, said = opened(browser, page_file)
    section = page.locator("#packages")
    rows = section.locator("tbody tr")
    first = rows.first.inner_text()
    section.locator("th button", has_text="name").click()
    names = section.locator("tbody tr td:first-child").all_inner_texts()
    assert names == sorted(names)
    assert rows.first.inner_text() != first
    assert section.locator("th").first.get_attribute("aria-sort") == "ascending"
    section.locator("input[type=search]").fill("lockgate")
    count = rows.count()
    assert 0 < count < len(names)
    again, _, _ = opened(browser, page_file)
    again.goto(page.url)
    again.reload()
    assert again.locator("#packages tbody tr").count() == count
    assert said == []


def test_the_keyboard_reaches_all_of_it(browser: Any, page_file: Path) -> None:
    page, _, _ = opened(browser, page_file)
    page.keyboard.press("Tab")
    assert page.evaluate("document.activeElement.className") == "skip"
    section = page.locator("#packages")
    section.locator("th button").first.focus()
    page.keyboard.press("Enter")
    assert section.locator("th").first.get_attribute("aria-sort") == "ascending"


def test_hostile_text_runs_nothing(told: Audit, browser: Any, tmp_path: Path) -> None:
    parts: dict[AuditPart, Any] = {
        part: replace(answer, records=[_spoiled(one) for one in answer.records[:5]])
        for part, answer in told.parts.items()
        if part is not AuditPart.GRAPH
    }
    path = tmp_path / "evil.html"
    path.write_text(audit_page(replace(told, parts=parts), MADE))
    page, asked, said = opened(browser, path)
    assert (asked, said) == ([path.as_uri()], [])
    assert page.locator("img").count() == 0
    assert "alert(1)" in page.locator("main").inner_text()


def test_fifty_thousand_rows_stay_usable(told: Audit, browser: Any, tmp_path: Path) -> None:
    packages = told.parts[AuditPart.PACKAGES]
    rows = [
        replace(packages.records[n % len(packages.records)], version=f"{n:06d}")
        for n in range(50_000)
    ]
    path = tmp_path / "many.html"
    parts = {AuditPart.PACKAGES: replace(packages, records=rows)}
    path.write_text(audit_page(replace(told, parts=parts), MADE))
    page, _, said = opened(browser, path)
    section = page.locator("#packages")
    assert section.locator("tbody tr").count() == 200
    section.locator("th button", has_text="version").click()
    assert section.locator("tbody tr").first.locator("td").nth(1).inner_text() == "000000"
    section.locator("input[type=search]").fill("049999")
    assert section.locator("tbody tr").count() == 1
    assert said == []


def test_it_prints(page_file: Path, tmp_path: Path) -> None:
    if CHROMIUM is None:
        pytest.skip("there is no Chromium here")
    out = tmp_path / "audit.pdf"
    subprocess.run(
        [CHROMIUM, "--headless", *QUIET, f"--user-data-dir={tmp_path / 'own'}",
         f"--print-to-pdf={out}", page_file.as_uri()],
        check=True, capture_output=True, timeout=120,
    )  # fmt: skip
    assert out.read_bytes().startswith(b"%PDF")


def test_on_paper_nothing_is_cut_off(browser: Any, page_file: Path) -> None:
    """A4 upright within its margins is some 700 pixels wide, and nobody can scroll it."""
    page, _, _ = opened(browser, page_file, viewport={"width": 700, "height": 1000})
    page.emulate_media(media="print")
    page.evaluate("document.querySelectorAll('details').forEach(one => one.open = true)")
    wider = page.evaluate(
        "[...document.querySelectorAll('.scroll, .plot, table, article')]"
        ".filter(one => one.scrollWidth > one.clientWidth + 1)"
        ".map(one => one.closest('section').id)"
    )
    assert wider == []
    assert page.evaluate("document.documentElement.scrollWidth") <= 700


def test_the_program_writes_what_a_browser_opens(
    browser: Any, run: Run, curlew: Path, tmp_path: Path
) -> None:
    out = tmp_path / "curlew.html"
    done = run("report", str(out), "--root", str(curlew), "--for", "Ada & <Bea>")
    assert done.returncode in (0, 3), done.stderr
    page, asked, said = opened(browser, out)
    assert (asked, said) == ([out.as_uri()], [])
    assert page.locator(".reader").inner_text() == "For Ada & <Bea>"
