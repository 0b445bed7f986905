"""What whoever owns a machine writes into its records and its policy, and what that may not become."""

import shutil
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from filigree.model.files import Aspect, Evidence, Sort, Verdict
from filigree.questions.commands.provenance import provenance
from filigree.questions.commands.verify import verify
from filigree.questions.evidence.references import Against
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system
from tests.conftest import LONG
from tests.stands import DEEDS, FAMILIES, PROGRAM, RECORD, Stand, build

CASES = [(family, deed) for family in FAMILIES for deed in DEEDS[family]]
GRAVE = {Verdict.DOCTORED, Verdict.ALTERED, Verdict.MISSING}


def believed(stand: Stand) -> None:
    """Nothing of a program that is not what was shipped is called clean or signed and clean."""
    answer = stand.ask()
    assert answer.exit_status in (1, 3)
    for row in answer.records:
        if row.path == PROGRAM:
            assert row.verdict is not Verdict.INTACT
            assert row.evidence is not Evidence.SIGNED or row.verdict in GRAVE


@pytest.mark.parametrize("family", FAMILIES)
def test_a_stand_as_it_was_shipped_is_clean_and_signed(family: str, tmp_path: Path) -> None:
    answer = build(family, tmp_path).ask()
    assert {row.verdict for row in answer.records} <= {Verdict.INTACT, Verdict.EXCUSED}
    signed = {"deb": 57, "rpm": 55, "arch": 54, "slackware": 58, "apk": 54}
    assert answer.summary.paths_by_evidence["signed"] == signed[family]
    assert {one.sort for one in answer.summary.local_policy} <= {Sort.LINK}
    assert not [gap for gap in answer.gaps if "own policy" not in gap.what]
    assert answer.exit_status == (3 if answer.summary.local_policy else 0)


@pytest.mark.parametrize(("family", "deed"), CASES)
def test_a_swapped_program_is_never_excused_by_the_records(
    family: str, deed: str, tmp_path: Path
) -> None:
    stand = build(family, tmp_path)
    stand.swap()
    DEEDS[family][deed](stand)
    believed(stand)


@pytest.mark.parametrize(("family", "deed"), CASES)
def test_the_record_alone_is_not_quietly_clean(family: str, deed: str, tmp_path: Path) -> None:
    """By the record alone a lie in the record cannot be known; what it no longer tells is a gap, and what
    its policy excuses is told with the file that says so."""
    stand = build(family, tmp_path)
    stand.swap()
    DEEDS[family][deed](stand)
    answer = stand.ask(Evidence.RECORD)
    rows = [row for row in answer.records if row.path.startswith(PROGRAM)]
    told = answer.exit_status in (1, 3) or any(row.verdict is Verdict.EDITED for row in rows)
    told = told or any(row.policy is not None for row in rows)
    # Only a digest that was written anew looks as one that was shipped; and what is on no record at all.
    unknown = deed in (
        "a digest of what is there", "a digest of what is there, unsigned", "a listing of what is there",
        "out of the records", "not on its list", "not among the paths",
        "nothing checked, unsigned", "all of it claimed, unsigned", "as a link",
    )  # fmt: skip
    assert told or unknown
    for row in rows:
        assert row.policy is None or row.evidence is Evidence.RECORD


@settings(max_examples=2000 if LONG else 40)
@given(data=st.data())
@pytest.mark.parametrize("family", FAMILIES)
def test_no_set_of_changes_makes_it_clean(
    family: str, data: st.DataObject, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Whatever is done to records and policy, in whatever order, before or after it is swapped."""
    names = data.draw(st.lists(st.sampled_from(sorted(DEEDS[family])), max_size=4))
    early = data.draw(st.booleans())
    stand = build(family, tmp_path_factory.mktemp("stand"))
    if early:
        stand.swap()
    for name in names:
        try:
            DEEDS[family][name](stand)
        except (AssertionError, OSError):
            continue  # what it would change is gone already
    if not early:
        stand.swap()
    believed(stand)


# -- what policy there is, told as such -----------------------------------------------------


@pytest.mark.parametrize(
    ("family", "deed", "sort", "path"),
    [
        ("deb", "diverted by the administrator", Sort.DIVERSION, f"{PROGRAM}.real"),
        ("deb", "overridden", Sort.OVERRIDE, PROGRAM),
        ("deb", "left out by its name", Sort.EXCLUSION, PROGRAM),
        ("arch", "left out by its name", Sort.EXCLUSION, PROGRAM),
        ("arch", "left out with all", Sort.EXCLUSION, PROGRAM),
    ],
)
def test_policy_is_told_with_the_file_that_says_so(
    family: str, deed: str, sort: Sort, path: str, tmp_path: Path
) -> None:
    stand = build(family, tmp_path)
    DEEDS[family][deed](stand)
    row = stand.row(path)
    assert (row.verdict, row.evidence, row.policy) == (Verdict.EXCUSED, Evidence.RECORD, sort)
    assert row.policy_file is not None
    assert stand.disk.real(row.policy_file).exists()
    answer = stand.ask()
    (told,) = [one for one in answer.summary.local_policy if one.sort is sort]
    assert told.said_in == row.policy_file
    assert told.files == 1
    assert (told.changed_at or "").startswith("20")
    (gap,) = [gap for gap in answer.gaps if "own policy" in gap.what]
    assert row.policy_file in gap.why
    assert (told.changed_at or "") in gap.why
    assert answer.exit_status == (3 if sort is not Sort.DIVERSION else answer.exit_status)


def test_what_stands_where_a_file_was_moved_away_is_named(tmp_path: Path) -> None:
    stand = build("deb", tmp_path)
    stand.swap()
    DEEDS["deb"]["diverted by the administrator"](stand)
    reason = stand.row(f"{PROGRAM}.real").reason or ""
    assert "moved to /usr/bin/tidegauge.real by a diversion of the local administrator" in reason
    assert f"; at {PROGRAM} stands a file that no package has on record there" in reason
    assert any(
        "programs that no record names: /usr/bin/tidegauge" in g.what for g in stand.ask().gaps
    )


@pytest.mark.parametrize("family", FAMILIES)
@pytest.mark.parametrize("place", ["usr/bin", "usr/sbin", "bin"])
def test_a_program_of_nobody_s_is_a_gap(family: str, place: str, tmp_path: Path) -> None:
    stand = build(family, tmp_path)
    before = {gap.what for gap in stand.ask().gaps}
    assert not [what for what in before if what.startswith("programs that no record names")]
    folder = stand.disk.folder / place
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "tideguage").write_text("#!/bin/dsh\n")
    (folder / "tideguage").chmod(0o755)
    answer = stand.ask()
    (gap,) = [gap for gap in answer.gaps if gap.what not in before]
    assert gap.what.startswith("programs that no record names: /")
    assert gap.what.endswith("/tideguage")
    assert answer.exit_status == 3


def test_a_mode_that_is_not_as_it_was_declared(tmp_path: Path) -> None:
    stand = build("deb", tmp_path)
    DEEDS["deb"]["overridden"](stand)
    stand.disk.real(PROGRAM).chmod(0o755)
    row = stand.row()
    assert (row.verdict, row.policy, row.evidence) == (
        Verdict.ALTERED, Sort.OVERRIDE, Evidence.RECORD,
    )  # fmt: skip


@pytest.mark.parametrize(
    "deed", ["removed but for its configuration", "half-installed", "not installed"]
)
def test_a_state_excuses_what_is_absent_and_nothing_that_is_there(
    deed: str, tmp_path: Path
) -> None:
    stand = build("deb", tmp_path)
    DEEDS["deb"][deed](stand)
    assert stand.row().verdict is Verdict.INTACT
    stand.disk.remove(PROGRAM)
    assert (stand.row().verdict, stand.row().policy) == (Verdict.EXCUSED, Sort.STATE)
    stand.swap()
    assert stand.row().verdict is Verdict.ALTERED


@pytest.mark.parametrize(("state", "there", "verdict"), [
    (1, True, Verdict.ALTERED), (1, False, Verdict.EXCUSED), (2, True, Verdict.ALTERED),
    (2, False, Verdict.EXCUSED), (3, True, Verdict.INTACT), (3, False, Verdict.EXCUSED),
    (4, True, Verdict.ALTERED), (4, False, Verdict.EXCUSED), (9, True, Verdict.INTACT),
    (9, False, Verdict.MISSING),
])  # fmt: skip
@pytest.mark.parametrize("least", [Evidence.RECORD, Evidence.SIGNED])
def test_states_of_files_lie_outside_of_what_is_signed(
    state: int, there: bool, verdict: Verdict, least: Evidence, tmp_path: Path
) -> None:
    stand = build("rpm", tmp_path)
    DEEDS["rpm"]["in state 1" if state == 1 else f"in state {state}"](stand)
    if not there:
        stand.disk.remove(PROGRAM)
    row = stand.row(least=least)
    assert row.verdict is verdict
    if verdict is Verdict.EXCUSED:
        assert (row.policy, row.evidence) == (Sort.STATE, Evidence.RECORD)
    gaps = [gap for gap in stand.ask(least).gaps if "a state that is not known" in gap.why]
    assert bool(gaps) == (state == 9)


# -- two places that contradict each other --------------------------------------------------


def contradicted(stand: Stand) -> bool:
    return any("contradict each other" in gap.why for gap in stand.ask(Evidence.RECORD).gaps)


@pytest.mark.parametrize("swapped", [False, True])
@pytest.mark.parametrize(
    "deed", ["two digests", "two digests, the other first", "configuration, with what is there"]
)
def test_the_worse_of_two_digests_counts(deed: str, swapped: bool, tmp_path: Path) -> None:
    stand = build("deb", tmp_path)
    other = stand.swap()
    DEEDS["deb"][deed](stand)
    if not swapped:
        stand.disk.file(PROGRAM, stand.shipped, 0o755)
    row = stand.row(least=Evidence.RECORD)
    assert row.verdict is Verdict.ALTERED
    assert Aspect.CONTENT in {one.aspect for one in row.differences}
    told = " ".join(f"{gap.what} {gap.why}" for gap in stand.ask(Evidence.RECORD).gaps)
    assert "second digest" in told or "contradict" in told
    assert len(other) == len(stand.shipped)


def test_a_setting_among_the_digests_of_one_listing_and_another(tmp_path: Path) -> None:
    stand = build("arch", tmp_path)
    stand.swap()
    DEEDS["arch"]["a listing of what is there"](stand)
    DEEDS["arch"]["configuration, with what was shipped"](stand)
    row = stand.row(least=Evidence.RECORD)
    assert row.verdict is Verdict.EDITED
    assert row.reason == "two places of its record contradict each other"


@pytest.mark.parametrize(
    ("family", "deed", "words"),
    [
        ("deb", "not on its list", "is not on the package's list"),
        ("arch", "not among the paths", "the listing has it, and the list of paths has not"),
        ("arch", "no paths", "there is no list of its paths"),
        ("arch", "neither paths nor listing", "not one path of it is on record"),
        ("arch", "a listing of names", "nothing on record tells what it is to be"),
        ("deb", "no digests", "nothing on record tells what it is to be"),
        ("deb", "no digest of it", "nothing on record tells what it is to be"),
        ("deb", "no list", "there is no file list of it"),
        ("deb", "an empty list", "it is empty"),
        ("slackware", "a record that lists nothing", "not one path of it is on record"),
    ],
)
def test_a_record_that_lost_something_is_a_gap(
    family: str, deed: str, words: str, tmp_path: Path
) -> None:
    stand = build(family, tmp_path)
    DEEDS[family][deed](stand)
    answer = stand.ask(Evidence.RECORD)
    assert words in " ".join(gap.why for gap in answer.gaps)
    assert answer.exit_status == 3


def test_a_listing_of_archives_and_a_record_that_do_not_tell_the_same(
    dunlin: Path, tmp_path: Path
) -> None:
    root = Path(shutil.copytree(dunlin, tmp_path / "dunlin", symlinks=True))
    path = root / RECORD[1:]
    path.write_text(path.read_text().replace("\nusr/bin/tidegauge\n", "\n"))
    with open_system(str(root)) as system:
        answer = verify(system, ["tidegauge"], frozenset(Verdict))
    assert any("the listing of its archive has it" in gap.why for gap in answer.gaps)
    assert PROGRAM in {row.path for row in answer.records}


# -- provenance -----------------------------------------------------------------------------


@pytest.mark.parametrize(("family", "deed"), CASES)
def test_no_chain_of_a_swapped_program_is_whole(family: str, deed: str, tmp_path: Path) -> None:
    stand = build(family, tmp_path)
    stand.swap()
    DEEDS[family][deed](stand)
    with open_system(str(stand.disk.folder)) as system:
        answer = provenance(
            system,
            ["tidegauge", PROGRAM],
            Against(stand.archives),
            RepositoryOptions(keyring=(stand.keyring,)),
        )
    assert not any(row.whole for row in answer.records)


@pytest.mark.parametrize("family", FAMILIES)
def test_the_chain_of_what_was_shipped_is_whole(family: str, tmp_path: Path) -> None:
    stand = build(family, tmp_path)
    with open_system(str(stand.disk.folder)) as system:
        answer = provenance(
            system,
            ["tidegauge", PROGRAM],
            Against(stand.archives),
            RepositoryOptions(keyring=(stand.keyring,)),
        )
    assert [row.whole for row in answer.records] == [True] * len(answer.records)
    assert answer.exit_status == 0
