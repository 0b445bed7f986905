"""Inventories of other programs as sides of a comparison: what they tell, and what they do not."""

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.fleet.comparing import compare_held
from filigree.fleet.held import held_inventory, held_system
from filigree.formats.inventories import InventoryError, ListedPackage, read_inventory
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.questions.comparing.differences import ChangeKind, Compared, What
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.reporting.inventory import inventory
from filigree.system import open_system
from filigree.views.handover import cyclonedx, spdx
from filigree.views.handover.shared import Handed, json_lines
from tests.conftest import Run

MADE = Handed("filigree", "0", datetime(2026, 1, 1, tzinfo=UTC))
FORMS = {"cyclonedx": cyclonedx.document, "spdx": spdx.document}


def told(root: Path, form: str) -> dict[str, Any]:
    with open_system(str(root)) as system:
        return FORMS[form](inventory(system), MADE)


def against(document: dict[str, Any], root: Path, tmp_path: Path) -> Answer[Compared, Any]:
    path = tmp_path / "document.json"
    path.write_text("\n".join(json_lines(document)))
    with open_system(str(root)) as system:
        now = held_system(system, RepositoryOptions())
    return compare_held(held_inventory(str(path)), now)


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("station", ["heron", "curlew", "plover", "dunlin", "sanderling"])
def test_of_the_same_system_nothing_differs(
    request: pytest.FixtureRequest, tmp_path: Path, station: str, form: str
) -> None:
    root = request.getfixturevalue(station)
    answer = against(told(root, form), root, tmp_path)
    assert answer.records == []
    what = {gap.what.partition(" of ")[0] for gap in answer.gaps}
    assert {"files", "keys", "repositories", "the rest"} <= what
    assert answer.exit_status == 3


@pytest.mark.parametrize("form", FORMS)
def test_what_came_went_and_changed_is_told(heron: Path, tmp_path: Path, form: str) -> None:
    document = told(heron, form)
    name = "components" if form == "cyclonedx" else "packages"
    listed = [one for one in document[name] if one["name"] not in ("tidegauge", "foghorn")]
    old = next(one for one in document[name] if one["name"] == "foghorn")
    text = json.dumps(old).replace("3.2.0-1", "3.1.9-1")
    gone = text.replace("foghorn", "fogbell")
    document[name] = [*listed, json.loads(text), json.loads(gone)]
    rows = {row.subject: row for row in against(document, heron, tmp_path).records}
    assert {subject: row.change for subject, row in rows.items()} == {
        "tidegauge:amd64": ChangeKind.CAME, "foghorn:amd64": ChangeKind.NEWER,
        "fogbell:amd64": ChangeKind.GONE,
    }  # fmt: skip
    # The history is of later than the document by what that says: what it tells may explain.
    assert all(row.what is What.PACKAGE for row in rows.values())


def test_what_happened_before_a_document_was_made_explains_nothing(
    heron: Path, tmp_path: Path
) -> None:
    document = told(heron, "cyclonedx")
    document["components"] = [one for one in document["components"] if one["name"] != "tidegauge"]
    document["metadata"]["timestamp"] = "2030-01-01T00:00:00Z"
    (row,) = against(document, heron, tmp_path).records
    assert row.explained_by is None
    del document["metadata"]["timestamp"]
    (row,) = against(document, heron, tmp_path).records
    assert row.explained_by is None


def test_two_documents_are_not_said_to_have_a_history(heron: Path, tmp_path: Path) -> None:
    paths = [tmp_path / name for name in ("then.json", "now.json")]
    document = told(heron, "cyclonedx")
    paths[0].write_text(json.dumps(document))
    document["components"] = [one for one in document["components"] if one["name"] != "tidegauge"]
    paths[1].write_text(json.dumps(document))
    before, after = (held_inventory(str(path)) for path in paths)
    (row,) = compare_held(before, after).records
    assert (row.change, row.explained_by) == (ChangeKind.GONE, None)
    assert row.why == "what was compared tells no history"


def test_what_is_of_another_kind_is_counted_and_not_compared(heron: Path, tmp_path: Path) -> None:
    document = told(heron, "cyclonedx")
    document["components"] += [
        {"type": "library", "name": "left", "version": "1", "purl": "pkg:generic/left@1"},
        {"type": "library", "name": "nameless"}, {"type": "file", "name": "/a"},
        {"type": "library", "name": "in it", "components": [
            {"type": "library", "name": "deep", "version": "2", "purl": "pkg:generic/deep@2"},
        ]},
    ]  # fmt: skip
    answer = against(document, heron, tmp_path)
    assert answer.records == []
    assert any(gap.what.startswith("4 parts of") for gap in answer.gaps)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "no JSON"), ("[1]", "known form"), ("{}", "no CycloneDX"),
        ('{"spdxVersion": "SPDX-3.0"}', "no SPDX"),
        ("[" * 100_000, "no JSON"), ('{"bomFormat": "CycloneDX", "components": ' + '[{"components": ' * 40
         + "[]" + "}]" * 40 + "}", "deep"),
    ],
)  # fmt: skip
def test_what_is_no_inventory_is_said(text: str, says: str, tmp_path: Path) -> None:
    with pytest.raises(InventoryError, match=says):
        read_inventory(text.encode())
    path = tmp_path / "file"
    path.write_text(text)
    with pytest.raises(BadQuestion):
        held_inventory(str(path))


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=9),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(
        st.sampled_from(["name", "version", "purl", "components", "type", "externalRefs", "packages",
                         "versionInfo", "referenceType", "referenceLocator", "metadata", "creationInfo"]),
        inner, max_size=4),
    max_leaves=20,
)  # fmt: skip


@given(VALUES, VALUES, VALUES)
def test_whatever_stands_where_it_is_read(one: Any, other: Any, third: Any) -> None:
    for head in ({"bomFormat": "CycloneDX"}, {"spdxVersion": "SPDX-2.3"}):
        document = {**head, "components": one, "packages": one, "metadata": other,
                    "creationInfo": other, "name": third}  # fmt: skip
        found = read_inventory(json.dumps(document).encode())
        assert all(isinstance(package, ListedPackage) for package in found.packages)


def test_the_program_reads_one_and_says_what_it_rests_on(
    run: Run, heron: Path, tmp_path: Path
) -> None:
    out = tmp_path / "heron.json"
    run("report", str(out), "--as", "spdx", "--root", str(heron))
    done = run("compare", str(out), str(heron))
    assert (done.returncode, done.stdout) == (3, "")
    assert "what another program wrote, as SPDX" in done.stderr
    bad = tmp_path / "bad.json"
    bad.write_text("{")
    done = run("compare", str(bad), str(heron))
    assert done.returncode == 2
    assert "no JSON" in done.stderr
