"""Every format of every answer: schema, one record a line, nothing lost."""

import csv
import io
import json
import re
import unicodedata
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, fields, is_dataclass, replace
from datetime import UTC, datetime
from enum import Enum
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.demo.dunlin import repository as shore
from filigree.demo.offering import write_repositories
from filigree.demo.plover import repository
from filigree.demo.sanderling import repository as of_sanderling
from filigree.model.answer import Answer, Gap, SystemLabel, iso
from filigree.model.files import Evidence, Role, Verdict
from filigree.model.needs import Relation
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.because import because
from filigree.questions.commands.behind import behind
from filigree.questions.commands.census import census
from filigree.questions.commands.contents import contents
from filigree.questions.commands.dossier import dossier
from filigree.questions.commands.draw import draw
from filigree.questions.commands.groups import groups
from filigree.questions.commands.keys import keys
from filigree.questions.commands.layers import layers
from filigree.questions.commands.leftover import leftover
from filigree.questions.commands.needs import needed_by, needs
from filigree.questions.commands.obstacles import obstacles
from filigree.questions.commands.owner import owner
from filigree.questions.commands.provenance import provenance
from filigree.questions.commands.refresh import refresh
from filigree.questions.commands.repos import repos
from filigree.questions.commands.seek import seek
from filigree.questions.commands.strays import strays
from filigree.questions.commands.survey import survey
from filigree.questions.commands.verify import verify
from filigree.questions.commands.whatif import whatif
from filigree.questions.comparing.comparing import compare
from filigree.questions.keeping.taking import Taking, snapshot
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.reporting.handing import ReportRow, reported
from filigree.questions.rules.findings import findings, rules
from filigree.questions.running.rows import (
    HeldRow,
    RunningKind,
    RunningRow,
    RunningState,
    RunningSummary,
)
from filigree.questions.timeline.periods import Span, by_period
from filigree.questions.timeline.timeline import timeline
from filigree.system import System, open_system
from filigree.views.options import ViewOptions
from filigree.views.page import Ink
from filigree.views.plain import _json, jsonl_text, plain
from filigree.views.render import OPTIONS, SCREENS, TEXTS, Format, render
from filigree.views.text import decodable, discreet

ASK: dict[str, Callable[[System], Answer[Any, Any]]] = {
    "survey": survey,
    "census": census,
    "dossier": lambda system: dossier(system, ["tidegauge", "*gauge"], full=True),
    "contents": lambda system: contents(system, ["tidegauge", "tidetables"]),
    "owner": lambda system: owner(system, ["/usr", "/usr/bin/plot-chart", "/usr/sbin/gullcheck"]),
    "needs": lambda system: needs(system, ["tidegauge", "lockgate-firmware"], None),
    "needed-by": lambda system: needed_by(system, ["libbrine2"], None),
    "because": lambda system: because(system, ["brine-data", "tidegauge", "jetty-client"]),
    "obstacles": lambda system: obstacles(system, ["weirgate", "kittiwake"]),
    "whatif": lambda system: whatif(system, ["weirgate"], ["libbrine2"], ["*"]),
    "leftover": leftover,
    "draw": lambda system: draw(
        system, ["libbrine2", "lockgate-firmware"], kinds=frozenset(Relation)
    ),
    "verify": verify,
    "provenance": lambda system: provenance(
        system, ["siltmeter", "/usr/bin/tidegauge", "lockgate"]
    ),
    "keys": keys,
    "strays": strays,
    "repos": repos,
    "seek": lambda system: seek(system, ["tide"]),
    "behind": behind,
    "groups": groups,
    "timeline": timeline,
    "findings": findings,
    "rules": rules,
}
OF_ONE = [one for one in SCREENS if not one.startswith("fleet ")]
"""What is asked of one system; tests/fleet holds the others to the same."""
# The promise. A field may be added; one that is here never goes.
SCHEMA = {
    "survey": "family label architecture packages states reasons held_packages troubled_packages "
    "installed_size paths distinct_paths newest_change newest_package age_days biggest most_needed "
    "kept room image taken",
    "census": "name version architecture family state reason held section source summary description "
    "homepage license maintainer vendor installed_size archive_size built_at build_host installed_at "
    "repository signature key_id offered_by impact",
    "dossier": "name version architecture family state reason held section source summary description "
    "homepage license maintainer vendor installed_size archive_size built_at build_host installed_at "
    "repository signature key_id offered_by impact parts wanted damaged protected source_version paths "
    "needs "
    "provides configuration scripts other_fields archive misnamed installed_here choices changes address "
    "digest silent_on history layers",
    "contents": "package path kind role size mode owner group digest link_target architecture version "
    "remarks escape",
    "owner": "path resolved owners dead_end layers",
    "needs": "name version depth kind requirement status via repeat via_version architecture reason "
    "repository archive_size chosen would_meet",
    "needed-by": "name version depth kind requirement status via repeat via_version architecture reason "
    "repository archive_size chosen would_meet",
    "because": "subject version architecture reason status words chains more",
    "obstacles": "subject version architecture repository installed installable reasons helps added "
    "changed dropped fetch_size",
    "whatif": "action name version reason architecture before asked replaced chosen protected repository "
    "archive_size installed_size",
    "leftover": "name version architecture installed_size cluster leaf island needed_by",
    "draw": "node name version architecture side depth status chosen installed_size repository "
    "packages ties",
    "verify": "package architecture path role verdict evidence differences reason version seen "
    "policy policy_file layers",
    "provenance": "subject package version architecture evidence links signature whole breaks_at archive",
    "keys": "fingerprint identity algorithm made_at expires_at revoked file scope everything how "
    "weakness revoked_at held_by needed_by subkeys archives",
    "strays": "path kind size owner group mode modified rank cause detail below link_target layers",
    "repos": "identity name enabled address suite component architecture priority packages size "
    "made_at fetched_at expires_at signature signers configured_in addresses keys must_be_signed path "
    "own matches reason remarks archives_must_be_signed other_release",
    "seek": "name version architecture installed summary repositories candidate rank matched",
    "behind": "name architecture installed candidate repository size security advisories held status "
    "candidate_name why_security why",
    "refresh": "identity address architecture outcome why signature made_at expires_at packages sent "
    "remarks "
    "older",
    "groups": "identity name summary repository installed missing members groups",
    "compare": "what change subject package before after aspects explained_by why rank layer",
    "snapshot": "file size began ended paths digested contents contents_size changed unread unlisted "
    "signed host label",
    "report": "file form size digest question records signed",
    "timeline": "at until action subject package version before architecture by command outcome session "
    "told_in clock explained_by explains doubts aspects rank began",
    "periods": "at until happenings packages sessions unexplained doubtful by_action",
    "findings": "rule severity title package paths packages subjects count cause evidence since advice "
    "explained_by state waived_by",
    "running": "what pid name user began_at program package verdict evidence state script libraries "
    "mapped digest root remarks",
    "rules": "identity severity title parts looks_at why mistaken ask",
    "layers": "number digest made_at made_by size unpacked brings changes removes files troubles",
}


@pytest.fixture(
    scope="module",
    params=["heron", "curlew", "plover", "dunlin", "sanderling", "archives", "offered"],
)
def answers(
    request: pytest.FixtureRequest,
    heron: Path,
    curlew: Path,
    plover: Path,
    dunlin: Path,
    sanderling: Path,
    archives: dict[str, Path],
    images: dict[str, Path],
    settled: Path,
    tmp_path_factory: pytest.TempPathFactory,
) -> Iterator[dict[str, Answer[Any, Any]]]:
    """Every question's answer, by station; of the archives what can be asked of them."""
    roots = {"heron": heron, "plover": plover, "dunlin": dunlin, "sanderling": sanderling}
    name = request.param if request.param in roots else "curlew"
    with open_system(str(roots.get(name, curlew))) as system:
        if name not in _TOLD:
            image = images[name]
            _TOLD[name] = asked(system, settled, image, tmp_path_factory.mktemp("kept"))
        found = dict(_TOLD[name])
        if request.param == "offered":
            scope = Scope.AVAILABLE
            found["census"] = census(system, scope=Scope.ANY)
            found["dossier"] = dossier(system, ["quayside", "tidegauge"], True, scope)
            found["contents"] = contents(system, ["tidegauge", "saltwort"], (), scope)
            found["owner"] = owner(system, ["kittiwake", "/etc/*"], (), scope)
            found["needs"] = needs(system, ["tide-essentials"], None, scope=scope)
            found["needed-by"] = needed_by(system, ["libgannet6"], None, scope=scope)
        if request.param == "archives":
            paths = sorted(map(str, archives.values()))
            found["dossier"] = dossier(system, paths, full=True)
            found["contents"] = contents(system, paths)
            found["needs"] = needs(system, paths, None, frozenset(Relation))
            found["owner"] = owner(system, ["/etc/**", "tidegauge", "nothing"], paths)
            found["provenance"] = provenance(system, paths)
        yield found


_TOLD: dict[str, dict[str, Answer[Any, Any]]] = {}
"""What each station answers to every question: asked once."""


def asked(system: System, settled: Path, image: Path, folder: Path) -> dict[str, Answer[Any, Any]]:
    """Every question of one station, of its image, and of a snapshot of it."""
    found = {question: ask(system) for question, ask in ASK.items()}
    found["running"] = runs(system)
    found["periods"] = by_period(found["timeline"], Span.WEEK)
    found["refresh"] = refreshed(system, folder)
    with open_system(str(image)) as packed:
        found["layers"] = layers(packed)
    out = folder / "snapshot"
    found["snapshot"] = snapshot(system, str(out), Taking("a test", "0"))
    row = ReportRow(str(out), "spdx", 9, "sha256:00", "inventory", 3, False)
    found["report"] = reported(found["snapshot"], [row])
    with open_system(str(out)) as kept, open_system(str(settled)) as earlier:
        found["compare"] = compare(earlier, kept)
    return found


def runs(system: System) -> Answer[Any, Any]:
    """Two processes, as they would be told: no root of a test runs anything."""
    library = HeldRow("/usr/lib/libbrine.so.2", "libbrine2", Verdict.ALTERED, RunningState.GONE)
    one = RunningRow(
        what=RunningKind.PROCESS, pid=7, name="mudflatd\x1b", user="root", began_at=None,
        program="/usr/sbin/mudflatd", package="mudflatd", verdict=Verdict.INTACT,
        evidence=Evidence.RECORD, state=RunningState.REPLACED, script=None, libraries=[library],
        mapped=3, digest="sha256:00", root="/", remarks=["anybody may write to /usr/sbin"],
    )  # fmt: skip
    rows = [one, replace(one, pid=8, script=library, libraries=[])]
    summary = RunningSummary(2, 40, 0, 0, 2, 1, {RunningState.REPLACED: 2})
    return Answer("running", system.system_label, rows, summary, system.gaps, bad_news=True)


def refreshed(system: System, folder: Path) -> Answer[Any, Any]:
    """Indexes out of a folder: no server is asked."""
    offered = write_repositories(folder / "offered")
    small = {f"apk/{path}": content for path, content in of_sanderling().items()}
    for path, content in (*repository().items(), *shore().items(), *small.items()):
        (offered / path).parent.mkdir(parents=True, exist_ok=True)
        (offered / path).write_bytes(content)
    address = {
        "deb": f"{offered}/coast saltmarsh main", "rpm": f"{offered}/rpm/base",
        "arch": f"{offered} coast", "slackware": f"{offered} shore", "apk": f"{offered}/apk/coast",
    }[system.family.name]  # fmt: skip
    options = RepositoryOptions(cache=str(folder / "cache"), addresses=(address,))
    return refresh(system, options=options, added_only=True)


def text_of(answer: Answer[Any, Any], form: Format, **options: Any) -> str:
    wished = OPTIONS.get(answer.question, ViewOptions)(**options)
    return "".join(f"{text}\n" for text in render(answer, form, Ink(False, 100), wished))


@pytest.mark.parametrize("question", OF_ONE)
def test_the_schema_is_kept(answers: dict[str, Answer[Any, Any]], question: str) -> None:
    whole = json.loads(text_of(answers[question], Format.JSON))
    assert list(whole) == ["schema", "question", "system", "records", "summary", "gaps"]
    assert (whole["schema"], whole["question"]) == ("filigree/1", question)
    assert set(whole["system"]) == {"root", "family", "label", "seen_at"}
    # What is left over is not known of the one family; the other has no groups.
    known = (answers[question].system.family, question)
    nothing = known in (("slackware", "leftover"), ("apk", "groups"))
    assert bool(whole["records"]) is not nothing
    for record in whole["records"]:
        assert list(record) == SCHEMA[question].split()


@pytest.mark.parametrize("question", OF_ONE)
def test_every_field_is_documented(question: str) -> None:
    page = (Path(__file__).parents[2] / "docs/output.md").read_text()
    section = page.partition(f"## `{question}`")[2].partition("\n## ")[0]
    if question == "dossier":
        section += page.partition("## `census`")[2].partition("\n## ")[0]
    if question == "needed-by":
        section += page.partition("## `needs`")[2].partition("\n## ")[0]
    missing = [name for name in SCHEMA[question].split() if f"`{name}`" not in section]
    assert not missing


@pytest.mark.parametrize("question", OF_ONE)
def test_json_lines_are_the_records_alone(
    answers: dict[str, Answer[Any, Any]], question: str
) -> None:
    whole = json.loads(text_of(answers[question], Format.JSON))
    alone = [json.loads(text) for text in text_of(answers[question], Format.JSONL).splitlines()]
    assert alone == whole["records"]


@pytest.mark.parametrize("question", OF_ONE)
def test_lines_and_csv_hold_the_same(answers: dict[str, Answer[Any, Any]], question: str) -> None:
    lines = text_of(answers[question], Format.LINES).splitlines()
    rows = list(csv.reader(io.StringIO(text_of(answers[question], Format.CSV))))
    assert [text.split("\t") for text in lines] == rows[1:]
    assert len({len(row) for row in rows}) == 1


@pytest.mark.parametrize("question", OF_ONE)
@pytest.mark.parametrize("width", [0, 40, 80, 158])
def test_tables_fit_the_window(
    answers: dict[str, Answer[Any, Any]], question: str, width: int
) -> None:
    ink = Ink(False, width)
    shown = list(render(answers[question], Format.TABLE, ink))
    assert shown
    if width >= 80:
        assert [text for text in shown if len(text) > width] == []


def as_the_rule_has_it(value: Any) -> Any:
    """A value as JSON has it, written plainly: field by field, and no text passed over."""
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, str):
        return re.sub(
            "[\ud800-\udfff]|\\\\(?=[\\\\xuU\ud800-\udfff])",
            lambda found: "\\\\" if found[0] == "\\" else f"\\x{ord(found[0]) - 0xDC00:02x}",
            discreet(value),
        )
    if isinstance(value, datetime):
        return iso(value)
    if isinstance(value, Mapping):
        return {as_the_rule_has_it(str(key)): as_the_rule_has_it(one) for key, one in value.items()}
    if value is None or isinstance(value, (bool, int, float)):
        return value
    names = (
        [one.name for one in fields(value)]
        if is_dataclass(value)
        else getattr(value, "_fields", None)
    )
    if names is not None:
        return {name: as_the_rule_has_it(getattr(value, name)) for name in names}
    return [as_the_rule_has_it(one) for one in value]


@pytest.mark.parametrize("question", OF_ONE)
def test_json_is_what_the_plain_rule_makes(
    answers: dict[str, Answer[Any, Any]], question: str
) -> None:
    answer = answers[question]
    told = json.loads(text_of(answer, Format.JSON))
    assert told["records"] == [as_the_rule_has_it(one) for one in answer.records]
    assert told["summary"] == as_the_rule_has_it(answer.summary)


@given(st.text(st.characters(exclude_categories=()), max_size=30))
def test_a_text_in_json_is_what_the_plain_rule_makes(text: str) -> None:
    only_bytes = "".join(one for one in text if not "\ud800" <= one <= "\udc7f")
    for one in (only_bytes, f"\\{only_bytes}", f"http://a:b@{only_bytes}", f"{only_bytes}\udcff"):
        assert decodable(one) == as_the_rule_has_it(one)


@dataclass(frozen=True, slots=True)
class Written:
    """A record with a field of each sort."""

    name: str
    role: Role
    count: int | None
    told: list[str]
    at: datetime | None


_ODD = st.one_of(
    st.text(st.characters(exclude_categories=()), max_size=12),
    st.sampled_from(
        ["plain", "http://a:b@x.example/", "see http://x.example/y", "http://a", "b@x", "\x7f", "a\\u1",
         "\u202e", "\udcff", "é", '"', "://", "x://@", "h://u:p", "\u2028"]
    ),
)  # fmt: skip


@given(st.lists(st.tuples(_ODD, _ODD), min_size=1, max_size=4))
def test_a_record_that_is_seen_at_once_is_what_field_by_field_makes(told: Any) -> None:
    """Whatever stands in it, and in the field after it: most records hold nothing to be escaped."""
    records = [
        Written(one, Role.PROGRAM, None if n % 2 else n, [other], datetime(2026, 1, 2, tzinfo=UTC))
        for n, (one, other) in enumerate(told)
    ]
    answer = Answer("seek", SystemLabel("/", "deb", ""), records, None, [])
    for line, record in zip(jsonl_text(answer), records, strict=True):
        plainly = {
            "name": as_the_rule_has_it(record.name), "role": "program", "count": record.count,
            "told": [as_the_rule_has_it(one) for one in record.told], "at": "2026-01-02T00:00:00Z",
        }  # fmt: skip
        assert json.loads(line) == plainly
        assert line == _json(plain(record))
        assert not any(is_unseen(sign) for sign in line)


def is_unseen(sign: str) -> bool:
    return unicodedata.category(sign) in ("Cc", "Cf", "Zl", "Zp")


def test_a_root_that_lies_deep_fits_the_window_too(answers: dict[str, Answer[Any, Any]]) -> None:
    told = answers["survey"]
    deep = replace(told, system=told.system._replace(root="/deep/below" * 20))
    assert max(map(len, render(deep, Format.TABLE, Ink(False, 80)))) <= 80


def test_other_shapes_of_contents(answers: dict[str, Answer[Any, Any]]) -> None:
    tree = text_of(answers["contents"], Format.TABLE, tree=True)
    told = answers["contents"].records[0].mode is not None
    assert ("    gauge.conf  config, " if told else "    gauge.conf  config") in tree
    totals = text_of(answers["contents"], Format.LINES, totals=True)
    programs = sum(row.role is Role.PROGRAM for row in answers["contents"].records)
    assert dict(row.split("\t")[:2] for row in totals.splitlines())["program"] == str(programs)


def test_columns_and_count(answers: dict[str, Answer[Any, Any]]) -> None:
    columns = text_of(answers["census"], Format.LINES, columns=("version", "name"))
    version = {"slackware": "2.1-3", "apk": "2.1-r3"}.get(
        answers["census"].system.family, "1:2.1-3"
    )
    assert f"{version}\ttidegauge" in columns.splitlines()
    count = text_of(answers["census"], Format.LINES, count=True)
    assert count == f"{len(answers['census'].records)}\n"


def test_hostile_text_in_every_format() -> None:
    from filigree.questions.commands.owner import OwnerSummary, PathOwners

    path = "/tmp/\x1b[31mred\n\udcff\ttab"
    answer = Answer(
        "owner", SystemLabel("/", "deb", "\x1b]0;x\x07"), [PathOwners(path, path, [])],
        OwnerSummary(paths=1, owned=0, of_nobody=1), [Gap("\x1b[2J", "why\n")],
    )  # fmt: skip
    for form in TEXTS:
        text = text_of(answer, form)
        assert "\x1b" not in text
        text.encode("utf-8")
    assert (
        json.loads(text_of(answer, Format.JSON))["records"][0]["path"]
        == "/tmp/\x1b[31mred\n\\xff\ttab"
    )
    assert len(text_of(answer, Format.LINES).splitlines()) == 1
