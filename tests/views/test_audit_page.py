"""The page of an audit: complete, of one piece, and a text to whoever wrote what is in it."""

import base64
import gzip
import json
import re
from dataclasses import replace
from datetime import UTC, datetime
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest

from filigree.model.answer import Answer, Gap, SystemLabel
from filigree.model.errors import BadQuestion
from filigree.questions.reporting.audit import Audit, AuditPart, AuditWish, audit, parts_named
from filigree.questions.rules.findings import FindingsWish
from filigree.system import open_system
from filigree.views.handover.shared import Handed
from filigree.views.pages.audit import PageWords, audit_page

pytest.importorskip("jinja2", reason="what makes pages is an extra")
pytest.importorskip("matplotlib", reason="the library that draws is an extra")
NOW = datetime(2026, 3, 9, 12, tzinfo=UTC)
MADE = Handed("filigree", "0.1.0", NOW)
EVIL = "</script><script>alert(1)</script>\" onload='x' {{ 7*7 }} <img src=//x.example/a> \x1b[2J\udcff"


class Read(HTMLParser):
    """What a page has: its elements with their attributes, its identifiers, and its text."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.elements: list[tuple[str, dict[str, str | None]]] = []
        self.open: list[str] = []
        self.text = ""
        self.feed(page)
        self.close()

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.elements.append((tag, dict(attrs)))

    def handle_data(self, data: str) -> None:
        self.text += data

    def of(self, tag: str) -> list[dict[str, str | None]]:
        return [attributes for name, attributes in self.elements if name == tag]


@pytest.fixture(scope="module")
def told(heron: Path, settled: Path) -> Audit:
    with open_system(str(heron)) as system, open_system(str(settled)) as before:
        return audit(system, AuditWish(findings=FindingsWish(now=NOW), since=before))


@pytest.fixture(scope="module")
def page(told: Audit) -> str:
    return audit_page(told, MADE, PageWords(reader="the harbour master"))


def test_every_record_of_every_part_is_in_it(told: Audit, page: str) -> None:
    read = Read(page)
    assert set(told.parts) == set(AuditPart)
    for one in told.parts[AuditPart.FINDINGS].records:
        assert one.title in read.text
        assert all(path in read.text for path in one.paths)
    rows = len(read.of("tr")) - len(read.of("thead"))
    tables = (
        AuditPart.FILES, AuditPart.PACKAGES, AuditPart.TIMELINE, AuditPart.REPOSITORIES, AuditPart.KEYS,
        AuditPart.BEHIND,
    )  # fmt: skip
    every = sum(len(told.parts[part].records) for part in tables)
    more = sum(int(one) for one in re.findall(r"and ([0-9]+) more that day", page))
    assert rows == every - more
    for gap in told.gaps:
        assert gap.what in read.text
        assert gap.why in read.text
    assert "For the harbour master" in read.text


def test_it_carries_its_own_json(told: Audit, page: str) -> None:
    (data,) = re.findall(r'<script type="application/gzip" id="audit">(.*?)</script>', page)
    whole = json.loads(gzip.decompress(base64.b64decode(data)))
    assert set(whole["parts"]) == {part.value for part in told.parts}
    for part, answer in told.parts.items():
        assert len(whole["parts"][part.value]["records"]) == len(answer.records)
        assert whole["parts"][part.value]["schema"] == "filigree/1"


def test_nothing_of_it_is_elsewhere(page: str) -> None:
    read = Read(page)
    for tag, attributes in read.elements:
        assert tag not in ("link", "iframe", "object", "embed", "img", "form", "base")
        for name in ("src", "href", "xlink:href", "action"):
            value = attributes.get(name)
            assert value is None or value.startswith("#"), (tag, name, value)
        assert not any(name.startswith("on") for name in attributes)
    (policy,) = [one["content"] for one in read.of("meta") if one.get("http-equiv")]
    assert policy is not None
    assert policy.startswith("default-src 'none'")
    assert "unsafe-inline" not in policy.split("script-src")[1]


def test_identifiers_are_there_once_and_links_lead_somewhere(page: str) -> None:
    read = Read(page)
    names = [one["id"] for _, one in read.elements if one.get("id")]
    assert len(set(names)) == len(names)
    for one in read.of("a"):
        assert str(one["href"])[1:] in names


def test_the_same_audit_gives_the_same_bytes(told: Audit, page: str) -> None:
    assert audit_page(told, MADE, PageWords(reader="the harbour master")) == page


def test_what_is_new_is_told(told: Audit, page: str) -> None:
    assert told.earlier is not None
    rules = {rule for rule, _ in told.earlier.new}
    assert {"code-altered", "record-made-to-fit"} <= rules
    assert "outsider" not in rules
    assert page.count('<span class="new">') == len(told.earlier.new)
    # By a state that nobody vouches for: that is told as what it is.
    assert "what is new" in [gap.what for gap in told.gaps]


def test_what_is_found_no_more_is_told_and_not_called_mended(heron: Path, settled: Path) -> None:
    """The other way round: whoever tidied up after themselves is not told to be clean."""
    with open_system(str(settled)) as system, open_system(str(heron)) as before:
        wish = AuditWish(parts_named(["findings"]), FindingsWish(now=NOW), before)
        told = audit(system, wish)
    assert told.earlier is not None
    gone = {one.rule for one in told.earlier.gone}
    assert {"code-altered", "record-made-to-fit", "program-of-nobody"} <= gone
    here = {one.rule for one in told.parts[AuditPart.FINDINGS].records}
    assert "code-altered" not in here
    read = Read(audit_page(told, MADE))
    for one in told.earlier.gone:
        assert one.title in read.text
    assert "Mended, or hidden, or not looked at this time" in read.text


def test_it_says_what_was_judged_and_by_whose_keys(told: Audit, page: str) -> None:
    summary = told.parts[AuditPart.FILES].summary
    text = Read(page).text
    assert f"{summary.paths:,} paths of {summary.packages:,} packages" in text
    for evidence, count in summary.paths_by_evidence.items():
        assert f"{evidence.value} {count:,}" in text
    assert "the root's own: whoever owns it could have put them there" in text


def test_hostile_text_stays_text(told: Audit) -> None:
    """In each field of each record, in gaps, labels and titles."""
    parts: dict[AuditPart, Answer[Any, Any]] = {}
    for part, answer in told.parts.items():
        if part is AuditPart.GRAPH:
            continue
        records = [_spoiled(one) for one in answer.records[:3]]
        parts[part] = replace(answer, records=records, gaps=[Gap(EVIL, EVIL)])
    label = SystemLabel(EVIL, "deb", EVIL)
    spoiled = replace(told, parts=parts, gaps=[Gap(EVIL, EVIL)], system=label)
    page = audit_page(spoiled, MADE, PageWords(EVIL, EVIL))
    read = Read(page)
    assert len(read.of("script")) == 2
    assert read.of("img") == []
    assert not any("onload" in one for _, one in read.elements)
    assert "alert(1)" in read.text
    assert "{{ 7*7 }}" in read.text
    held = [line for line in page.splitlines() if "\x1b" in line]
    assert held == []
    page.encode("utf-8")


def _spoiled(record: Any) -> Any:
    """A record with the same text in every field that holds texts."""
    from dataclasses import fields

    changed: dict[str, Any] = {}
    for one in fields(record):
        value = getattr(record, one.name)
        if type(value) is str:
            changed[one.name] = EVIL
        elif isinstance(value, list) and value and type(value[0]) is str:
            changed[one.name] = [EVIL]
    return replace(record, **changed)


def test_parts_are_chosen_by_name(heron: Path) -> None:
    assert parts_named([]) == tuple(AuditPart)
    with pytest.raises(BadQuestion, match="no part weather"):
        parts_named(["weather"])
    with open_system(str(heron)) as system:
        told = audit(system, AuditWish(parts_named(["keys", "behind"])))
    assert set(told.parts) == {AuditPart.KEYS, AuditPart.BEHIND}
    assert 'id="findings"' not in audit_page(told, MADE)


def test_many_rows_are_folded_and_none_is_cut(told: Audit) -> None:
    keys = told.parts[AuditPart.KEYS]
    many = replace(keys, records=keys.records[:1] * 1001)
    page = audit_page(replace(told, parts={AuditPart.KEYS: many}), MADE)
    assert page.count('<details class="chunk"') == 6
    assert "Rows 1001 to 1001 of 1001" in page
    assert page.count("<tr>") == 1001 + 6
