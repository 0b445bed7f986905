"""The open formats: held against their published schemas, and read by programs of others."""

import base64
import hashlib
import io
import json
import os
import shutil
import subprocess
import tarfile
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.demo.offering import write_repositories
from filigree.model.answer import Answer, Gap, SystemLabel
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.files import FileRecord, Kind, Verdict
from filigree.model.findings import Finding, Severity
from filigree.model.package import Package, State
from filigree.questions.asking.subjects import match_subjects
from filigree.questions.commands.verify import verify
from filigree.questions.commands.whatif import VERSIONS, whatif
from filigree.questions.planning.future import Plan
from filigree.questions.planning.outcomes import PlanAction
from filigree.questions.planning.wanted import ALL
from filigree.questions.reporting.found import found_files
from filigree.questions.reporting.inventory import Component, InventorySummary, inventory
from filigree.questions.rules.findings import FindingsWish, every_rule, findings
from filigree.system import System, open_system
from filigree.views.handover import cyclonedx, sarif, spdx
from filigree.views.handover.junit import junit
from filigree.views.handover.mtree import mtree
from filigree.views.handover.shared import Handed, json_lines, licence_expression
from filigree.views.handover.statements import PAYLOAD, SubjectDigest, enveloped, statement

jsonschema_rs = pytest.importorskip(
    "jsonschema_rs", reason="what validates by a schema is an extra"
)
DATA = Path(__file__).parents[1] / "data"
MADE = Handed("filigree", "0.1.0", datetime(2026, 3, 9, 12, tzinfo=UTC))
STATIONS = ("heron", "curlew", "plover", "dunlin", "sanderling")


@cache
def schema(name: str) -> Any:
    """A published schema, as it was published."""
    with tarfile.open(DATA / "published-schemas.tar.xz") as kept:
        file = kept.extractfile(f"{name}.json")
        assert file is not None
        text = file.read().decode()
    if name == "sarif-2.1.0":
        # A bracket that not every reader of expressions takes for itself.
        text = text.replace("{2}]?$", "{2}\\\\]?$")
    if name == "spdx-2.2":
        # What 2.3 added, of what is used here.
        told = json.loads(text)
        package = told["properties"]["packages"]["items"]
        package["properties"] |= {
            "primaryPackagePurpose": {"enum": ["OPERATING-SYSTEM", "LIBRARY"]},
            "builtDate": {"type": "string"},
        }
        categories = package["properties"]["externalRefs"]["items"]["properties"][
            "referenceCategory"
        ]
        categories["enum"] = ["OTHER", "PERSISTENT-ID", "SECURITY", "PACKAGE-MANAGER"]
        return told
    return json.loads(text)


@cache
def validator(name: str) -> Any:
    base = "http://cyclonedx.org/schema/"
    others = [(f"{base}spdx.SNAPSHOT.schema.json", schema("licences")),
              (f"{base}jsf-0.82.SNAPSHOT.schema.json", schema("signatures"))]  # fmt: skip
    registry = jsonschema_rs.Registry(others)
    return jsonschema_rs.validator_for(schema(name), registry=registry, validate_formats=True)


def errors(name: str, document: Any) -> list[str]:
    """What a schema says against a document, as it is written."""
    read = json.loads("\n".join(json_lines(document)))
    return [
        f"{list(one.instance_path)}: {one.message}" for one in validator(name).iter_errors(read)
    ]


@pytest.fixture(params=STATIONS)
def inventoried(request: pytest.FixtureRequest) -> Answer[Component, InventorySummary]:
    with open_system(str(request.getfixturevalue(request.param))) as system:
        return inventory(system, with_files=True)


Told = Answer[Component, InventorySummary]


def test_the_schemas_refuse_what_is_wrong(inventoried: Told) -> None:
    """They are those of the formats, and do say no."""
    told = cyclonedx.document(inventoried, MADE)
    assert errors("cyclonedx-1.6", {**told, "specVersion": 16})
    assert errors("cyclonedx-1.6", {**told, "components": [{"name": "a"}]})
    assert errors("spdx-2.2", {**spdx.document(inventoried, MADE), "packages": [{"name": "a"}]})
    assert errors("sarif-2.1.0", {"version": "2.1.0", "runs": [{}]})


def test_an_inventory_as_cyclonedx(inventoried: Told) -> None:
    told = cyclonedx.document(inventoried, MADE)
    assert errors("cyclonedx-1.6", told) == []
    components = {one["bom-ref"]: one for one in told["components"]}
    assert len(components) == len(inventoried.records) == inventoried.summary.packages
    for one in inventoried.records:
        made = components[one.url]
        assert (made["name"], made["version"]) == (one.package.name, one.package.version)
        files = {part["name"] for part in made.get("components", ())}
        assert files == {
            record.path for record in one.files if record.kind not in (Kind.DIRECTORY, Kind.LINK)
        }
    ties = {one["ref"]: one["dependsOn"] for one in told["dependencies"]}
    assert {ref for needs in ties.values() for ref in needs} <= set(components)
    assert ties[told["metadata"]["component"]["bom-ref"]] == list(components)
    whole = next(one["aggregate"] for one in told["compositions"] if "assemblies" in one)
    assert whole == ("incomplete" if inventoried.gaps else "complete")
    assert cyclonedx.document(inventoried, MADE) == told


def test_an_inventory_as_spdx(inventoried: Told) -> None:
    told = spdx.document(inventoried, MADE)
    assert errors("spdx-2.2", told) == []
    identities = [one["SPDXID"] for one in (*told["packages"], *told.get("files", ()))]
    assert len(set(identities)) == len(identities)
    known = {*identities, "SPDXRef-DOCUMENT", spdx.NOTHING}
    for one in told["relationships"]:
        assert one["spdxElementId"] in known
        assert one["relatedSpdxElement"] in known
    referred = {one["licenseId"] for one in told.get("hasExtractedLicensingInfos", ())}
    for one in told["packages"]:
        assert (
            not one["licenseDeclared"].startswith("LicenseRef-")
            or one["licenseDeclared"] in referred
        )


def test_outsiders_and_what_is_unmet_are_told_as_incomplete(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = inventory(system)
    outsiders = {one.url for one in answer.records if one.outsider}
    assert {one.package.name for one in answer.records if one.outsider} == {"spindrift"}
    told = cyclonedx.document(answer, MADE)
    parts = {one["aggregate"]: one for one in told["compositions"]}
    assert set(parts["incomplete_third_party_only"]["dependencies"]) == outsiders
    unmet = [one for one in answer.records if one.unmet]
    assert [one.package.name for one in unmet] == ["lockgate-firmware"]


@pytest.mark.parametrize("station", STATIONS)
def test_of_a_plan_it_is_what_the_plan_says(request: pytest.FixtureRequest, station: str) -> None:
    """Held against the plan itself: what is there, less what goes, with what comes."""
    with open_system(str(request.getfixturevalue(station))) as system:
        told = whatif(system, upgrade=[ALL], drop=["foghorn"])
        assert told.summary.possible
        assert told.summary.upgrade + told.summary.change > 0
        before = inventory(system)
        answer = inventory(system, plan=Plan((), ("foghorn",), (ALL,)))
    there = {(one.package.name, one.package.version) for one in before.records}
    gone = {(row.name, row.version) for row in told.records if row.action is PlanAction.DROP}
    gone |= {(row.name, row.before) for row in told.records if row.before is not None}
    come = {
        (row.name, row.version) for row in told.records if row.action in (PlanAction.ADD, *VERSIONS)
    }
    assert {
        (one.package.name, one.package.version) for one in answer.records
    } == there - gone | come
    for one in answer.records:
        comes = (one.package.name, one.package.version) in come
        # An index of sanderling tells an archive's identity, and no digest of the whole.
        assert (one.digest is not None) == (comes and station != "sanderling"), one.url
        assert (one.package.state is State.AVAILABLE) == comes
    for name, document in (
        ("cyclonedx-1.6", cyclonedx.document(answer, MADE)), ("spdx-2.2", spdx.document(answer, MADE))
    ):  # fmt: skip
        assert errors(name, document) == []
        assert "drop foghorn, upgrade *" in json.dumps(document)


def test_digests_of_what_would_come_are_those_of_the_archives(heron: Path, tmp_path: Path) -> None:
    """By the index, and held against the files that a repository serves."""
    repository = tmp_path / "repository"
    write_repositories(repository)
    with open_system(str(heron)) as system:
        answer = inventory(system, plan=Plan(("weirgate",)))
    told = {one.digest for one in answer.records if one.digest is not None}
    files = {
        f"sha256:{hashlib.sha256(path.read_bytes()).hexdigest()}"
        for path in repository.rglob("*.deb")
    }
    assert told
    assert told <= files


@pytest.mark.parametrize(
    ("plan", "says"),
    [
        (Plan(("nosuch",)), "no repository offers"),
        (Plan((), ("nosuch",)), "on record"),
        (Plan(("weirgate",), ("weirgate",)), "on record"),
        (Plan(("lockgate",), ("libsaltc6",)), "there is no way to it"),
    ],
)  # fmt: skip
def test_of_a_plan_that_there_is_not_no_inventory_is_made(
    heron: Path, plan: Plan, says: str
) -> None:
    with open_system(str(heron)) as system, pytest.raises(BadQuestion, match=says):
        inventory(system, plan=plan)


@pytest.mark.parametrize("station", STATIONS)
def test_every_package_url_points_at_its_package(
    request: pytest.FixtureRequest, station: str
) -> None:
    root = str(request.getfixturevalue(station))
    with open_system(root) as system:
        for one in inventory(system).records:
            found = match_subjects(system, [one.url.partition("&also=")[0]]).packages
            assert one.package in found, one.url


@given(st.text(max_size=40))
def test_identifiers_are_made_reversibly(text: str) -> None:
    made = spdx.mangled(text)
    assert spdx.original(made) == text
    assert all(sign.isascii() and (sign.isalnum() or sign in ".-") for sign in made)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("MIT", "MIT"), ("GPL-2.0-or-later AND (MIT OR Zlib)", "GPL-2.0-or-later AND (MIT OR Zlib)"),
        ("Tide Office licence", None), ("GPL", None), ("", None), ("MIT OR", None), ("((((", None),
    ],
)  # fmt: skip
def test_a_licence_is_an_expression_or_words(text: str, expected: str | None) -> None:
    assert licence_expression(text) == expected


def odd_component() -> Told:
    text = "a\udcff\x1b[2J</script>\n\u2028'\"&<>\x00"
    package = Package(
        text, f"1{text}", "amd64", "deb", license=text, maintainer=text, vendor=text, summary=text,
        homepage=f"https://x.example/{text}", source=text,
    )  # fmt: skip
    record = FileRecord(f"/srv/{text}", "", Kind.FILE, "md5:" + "0" * 32)
    one = Component(package, "pkg:deb/x@1", [], [text], True, text, [record])
    label = SystemLabel("/", "deb", text)
    summary = InventorySummary({"NAME": text}, 1, 1, True, True)
    return Answer("inventory", label, [one], summary, [Gap(text, text)])


def test_hostile_texts_stay_texts() -> None:
    answer = odd_component()
    for name, told in (
        ("cyclonedx-1.6", cyclonedx.document(answer, MADE)),
        ("spdx-2.2", spdx.document(answer, MADE)),
    ):
        assert errors(name, told) == []
        written = "\n".join(json_lines(told))
        assert written.encode("utf-8").isascii() or "\udcff" not in written
    lines = [*mtree(answer.records[0].files)]
    assert len(lines) == 2
    assert lines[1].isascii()
    assert "\x1b" not in lines[1]


def found_at(root: Path) -> Any:
    with open_system(str(root)) as system:
        return findings(system, FindingsWish(waived=True, now=MADE.made_at))


def test_findings_as_sarif(heron: Path) -> None:
    answer = found_at(heron)
    told = sarif.document(answer, [rule.facts for rule in every_rule()], MADE)
    assert errors("sarif-2.1.0", told) == []
    (run,) = told["runs"]
    rules = run["tool"]["driver"]["rules"]
    assert len(run["results"]) == len(answer.records)
    for result, one in zip(run["results"], answer.records, strict=True):
        assert rules[result["ruleIndex"]]["id"] == result["ruleId"] == one.rule
    prints = [result["partialFingerprints"]["filigree/1"] for result in run["results"]]
    assert len(set(prints)) == len(prints)
    again = sarif.document(found_at(heron), [], MADE)["runs"][0]["results"]
    assert [one["partialFingerprints"]["filigree/1"] for one in again] == prints


def test_what_is_waived_is_suppressed_with_its_reason() -> None:
    one = Finding(
        "key-weak", Severity.LOW, "a key", None, [], [], ["ab"], 1, None, None, None, "ask", None,
        waived_by=["by Ada until June: it goes"],
    )  # fmt: skip
    answer: Any = Answer("findings", SystemLabel("/", "deb", "x"), [one], None)
    told = sarif.document(answer, [], MADE)
    assert errors("sarif-2.1.0", told) == []
    (result,) = told["runs"][0]["results"]
    assert result["suppressions"][0]["justification"] == "by Ada until June: it goes"


def test_a_verification_as_junit(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = verify(system, None, frozenset(Verdict))
    answer.gaps.append(Gap("/a\x00b<", 'one "gap"'))
    whole = ElementTree.fromstring("\n".join(junit(answer, MADE)))
    assert whole.get("tests") == str(len(answer.records) + 1)
    cases = {(one.get("classname"), one.get("name")): one for one in whole.iter("testcase")}
    for row in answer.records:
        case = cases[f"{row.package}:{row.architecture}", row.path]
        assert (case.find("failure") is not None) == (not row.verdict.quiet)
    assert int(str(whole.get("failures"))) == len(whole.findall("*/testcase/failure"))
    assert int(str(whole.get("errors"))) == len(whole.findall("*/testcase/error")) == 1


@pytest.mark.skipif(shutil.which("bsdtar") is None, reason="there is no bsdtar here")
def test_an_independent_reader_reads_the_paths(tmp_path: Path) -> None:
    names = ["/usr/bin/tide gauge", "/srv/a\\b#c*", "/srv/\udcffü", "/srv/plain", "/srv/=x"]
    records = [FileRecord(one, one, Kind.FILE, "md5:" + "0" * 32, 3, 0o4755) for one in names]
    made = tmp_path / "all.mtree"
    made.write_text("".join(f"{line}\n" for line in mtree(records)))
    done = subprocess.run(["bsdtar", "-tvf", str(made)], capture_output=True, check=True)
    assert done.stdout.count(b"-rwsr-xr-x") == len(names)
    # What comes out as a packed root has just these names.
    packed = subprocess.run(
        ["bsdtar", "-cf", "-", "--format=pax", f"@{made}"], capture_output=True, check=False
    ).stdout
    with tarfile.open(fileobj=io.BytesIO(packed)) as archive:
        found = {one.name.removeprefix(".") for one in archive}
    assert found == set(names)


@pytest.mark.parametrize("station", STATIONS)
def test_what_was_found_is_what_stands_there(station: str, request: pytest.FixtureRequest) -> None:
    """Each path by itself, as the system's own calls tell it; a file that is gone is not in it."""
    root = Path(request.getfixturevalue(station))
    with open_system(str(root)) as system:
        told = found_files(system)
        wanted = {r.location for p in system.packages for r in system.database.files(p)}
        listed = {record.path: record for record in told.records}
        for path in wanted:
            there = root / real_parent(system, path)
            if not os.path.lexists(there):
                assert path not in listed
                continue
            seen, record = there.lstat(), listed.pop(path)
            assert record.mode == seen.st_mode & 0o7777
            assert record.owner in (system.users.names.get(seen.st_uid), f"#{seen.st_uid}")
            if there.is_symlink():
                assert record.link_target == os.readlink(there)
            elif there.is_file():
                data = there.read_bytes()
                assert record.digest == f"sha256:{hashlib.sha256(data).hexdigest()}"
                assert record.size == len(data)
    assert listed == {}
    assert told.summary.missing + told.summary.paths == len(wanted)


def test_without_a_list_of_users_all_are_numbers_and_that_is_told(own_heron: Path) -> None:
    (own_heron / "etc/passwd").write_bytes(b"")
    (own_heron / "etc/passwd").unlink()
    with open_system(str(own_heron)) as system:
        told = found_files(system)
    assert {record.owner for record in told.records} == {f"#{os.getuid()}"}
    assert any("users" in gap.what or "passwd" in gap.what for gap in told.gaps)


def real_parent(system: System, path: str) -> str:
    try:
        return system.tree.real_path(path, follow=False).lstrip("/")
    except AccessError:
        return path.lstrip("/")


@pytest.mark.skipif(shutil.which("bsdtar") is None, reason="there is no bsdtar here")
def test_what_was_found_is_what_an_independent_writer_writes(heron: Path, tmp_path: Path) -> None:
    """The same paths by a program of others, word for word of what both tell."""
    with open_system(str(heron)) as system:
        records = [one for one in found_files(system).records if one.kind is not Kind.DIRECTORY]
        inside = [one for one in records if real_parent(system, one.path) == one.path.lstrip("/")]
    lines = [line for line in mtree(inside) if line.startswith("./")]
    ours = {line.split()[0]: set(line.split()[1:]) for line in lines}
    names = tmp_path / "names"
    names.write_bytes(
        b"".join(one.path[1:].encode("utf-8", "surrogateescape") + b"\0" for one in inside)
    )
    done = subprocess.run(
        ["bsdtar", "-cf", "-", "--format=mtree", "--options=!all,type,mode,size,sha256,link,uid,gid",
         "-C", str(heron), "--no-recursion", "--null", "-T", str(names)],
        capture_output=True, check=True,
    )  # fmt: skip
    default: set[str] = set()
    compared = 0
    for line in done.stdout.decode().splitlines():
        name, *words = line.split()
        if name == "/set":
            default = set(words)
        elif name.startswith(("./", "/")) or "/" in name:
            theirs = told_of(default, words)
            mine = ours.pop(f"./{name.removeprefix('./')}")
            for key in ("type", "size", "sha256digest", "link"):
                assert value_of(mine, key) == value_of(theirs, key), (name, key)
            assert int(value_of(mine, "mode") or "0", 8) == int(value_of(theirs, "mode") or "0", 8)
            compared += 1
    assert ours == {}
    assert compared == len(inside) > 300


def told_of(default: set[str], words: list[str]) -> set[str]:
    own = {word.partition("=")[0] for word in words}
    return {*words, *(word for word in default if word.partition("=")[0] not in own)}


def value_of(words: set[str], key: str) -> str | None:
    return next((word.partition("=")[2] for word in words if word.startswith(f"{key}=")), None)


def test_who_has_no_name_is_told_by_number() -> None:
    record = FileRecord("/srv/x", "/srv/x", Kind.FILE, None, 1, 0o644, "#1007", "tide")
    assert list(mtree([record]))[1] == "./srv/x type=file mode=0644 uid=1007 gname=tide size=1"


@pytest.mark.skipif(shutil.which("openssl") is None, reason="there is no openssl here")
@pytest.mark.parametrize("kind", ["ed25519", "EC", "RSA"])
def test_another_program_verifies_the_envelope(tmp_path: Path, kind: str) -> None:
    """What is signed is put together here by the published rule, and not by what made it."""
    from filigree.formats.document_keys import read_document_key

    more = {
        "EC": ("-pkeyopt", "ec_paramgen_curve:P-256"),
        "RSA": ("-pkeyopt", "rsa_keygen_bits:2048"),
    }
    secret, public = tmp_path / "secret.pem", tmp_path / "public.pem"
    _openssl("genpkey", "-algorithm", kind, *more.get(kind, ()), "-out", secret)
    _openssl("pkey", "-in", secret, "-pubout", "-out", public)
    key = read_document_key(secret.read_bytes())
    payload = statement(
        [SubjectDigest("heron", {"sha256": "0" * 64})], "https://x.example/v1", {"a": 1}
    )
    told = json.loads(enveloped(payload, key.identity, key.sign))
    content = base64.b64decode(told["payload"])
    assert json.loads(content)["subject"] == [{"digest": {"sha256": "0" * 64}, "name": "heron"}]
    data, sign = tmp_path / "data", tmp_path / "sign"
    data.write_bytes(b"DSSEv1 28 application/vnd.in-toto+json %d %s" % (len(content), content))
    sign.write_bytes(base64.b64decode(told["signatures"][0]["sig"]))
    assert len(PAYLOAD) == 28
    checked: tuple[object, ...]
    if kind == "ed25519":
        checked = (
            "pkeyutl",
            "-verify",
            "-pubin",
            "-inkey",
            public,
            "-rawin",
            "-in",
            data,
            "-sigfile",
            sign,
        )
    else:
        checked = ("dgst", "-sha256", "-verify", public, "-signature", sign, data)
    assert _openssl(*checked).returncode == 0
    data.write_bytes(data.read_bytes() + b" ")
    assert _openssl(*checked, check=False).returncode != 0
    der = _openssl("pkey", "-in", secret, "-pubout", "-outform", "DER").stdout
    assert told["signatures"][0]["keyid"] == f"SHA256:{hashlib.sha256(der).hexdigest()}"


def _openssl(*words: object, check: bool = True) -> "subprocess.CompletedProcess[bytes]":
    return subprocess.run(["openssl", *map(str, words)], capture_output=True, check=check)


@pytest.mark.parametrize("part", ["findings", "files", "packages", "timeline", "keys", "behind"])
def test_a_part_of_an_audit_as_a_table(heron: Path, tmp_path: Path, part: str) -> None:
    """Held against the JSON of the same answer, by the engine that reads such files."""
    duckdb = pytest.importorskip("duckdb", reason="the library that writes it is an extra")
    from filigree.questions.reporting.audit import AuditWish, audit, parts_named
    from filigree.views.handover.parquet import parquet
    from filigree.views.plain import json_object

    with open_system(str(heron)) as system:
        (answer,) = audit(system, AuditWish(parts_named([part]))).parts.values()
    out = tmp_path / "part.parquet"
    out.write_bytes(parquet(answer))
    told = duckdb.sql(f"SELECT * FROM read_parquet('{out}')")
    rows = [dict(zip(told.columns, row, strict=True)) for row in told.fetchall()]
    expected = json_object(answer)["records"]
    assert len(rows) == len(expected) > 0
    for row, record in zip(rows, expected, strict=True):
        assert list(row) == list(record)
        for name, value in record.items():
            plainly = value is None or isinstance(value, (str, bool, int))
            assert (row[name] if plainly else json.loads(row[name])) == value


def test_a_table_of_nothing_has_no_row(tmp_path: Path) -> None:
    duckdb = pytest.importorskip("duckdb", reason="the library that writes it is an extra")
    from filigree.views.handover.parquet import parquet

    nothing: Any = Answer("keys", SystemLabel("/", "deb", ""), [], None)
    out = tmp_path / "none.parquet"
    out.write_bytes(parquet(nothing))
    assert duckdb.sql(f"SELECT count(*) FROM read_parquet('{out}')").fetchall() == [(0,)]
