"""What each layer of an image did: and how somebody who made one would have it look like nothing."""

import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from filigree.demo import curlew, dunlin, heron, plover, sanderling
from filigree.demo.images import FERRYMAN, NAMES, write_images
from filigree.demo.walk import STATIONS
from filigree.model.errors import BadQuestion
from filigree.model.files import Aspect, Kind, Role, Verdict
from filigree.questions.commands.contents import contents
from filigree.questions.commands.layers import LayerRow, layers
from filigree.questions.commands.owner import owner
from filigree.questions.commands.verify import verify
from filigree.questions.finding.ranks import Rank
from filigree.system import open_system
from tests.making import INFO, STATUS, DebRoot, Root, md5
from tests.trees.images import Entry, entries_of, file, hidden, layer_of, layout, opaque

GAUGE, HORN, CONFIG = "/usr/bin/gauge", "/usr/bin/horn", "/etc/gauge.conf"
CODE = b"the gauge, as it was shipped\n"
Act = Callable[[DebRoot], object]


def changeset(before: Path | None, after: Path) -> list[Entry]:
    """What makes one folder of the other, as members of a layer."""
    old = {} if before is None else {one.path: one for one in entries_of(before)}
    new = {one.path: one for one in entries_of(after)}
    gone = [
        path for path in old if path not in new and path.rpartition("/")[0] not in old.keys() - new
    ]
    return [*map(hidden, gone), *(one for path, one in new.items() if old.get(path) != one)]


def ground(root: DebRoot) -> None:
    root.package("gauge", files={GAUGE: CODE}, config={CONFIG: b"line = 20\n"})
    root.package("horn", files={HORN: b"toot\n"})
    (root.folder / GAUGE[1:]).chmod(0o755)
    root.write("/usr/lib/os-release", "NAME=Test\n")


def _there(folder: Path) -> DebRoot:
    """A root as it is: a new one would be emptied."""
    root = DebRoot.__new__(DebRoot)
    Root.__init__(root, folder)
    return root


def told(tmp_path: Path, *acts: Act) -> list[LayerRow]:
    """What `layers` tells of an image, a layer for each act; the first is of the ground."""
    states = [tmp_path / "state0"]
    ground(DebRoot(states[0]))
    for number, act in enumerate(acts, 1):
        states.append(tmp_path / f"state{number}")
        shutil.copytree(states[-2], states[-1], symlinks=True)
        act(_there(states[-1]))
    made = [
        changeset(before, after) for before, after in zip([None, *states], states, strict=False)
    ]
    return asked(layout(tmp_path / "image", [layer_of(one) for one in made]))


def asked(image: Path) -> list[LayerRow]:
    with open_system(str(image)) as system:
        return layers(system).records


def altered(row: LayerRow) -> dict[str, list[Aspect]]:
    return {one.path: one.aspects for one in row.files.altered}


def swap(root: DebRoot) -> None:
    root.write(GAUGE, b"the gauge, as somebody made it\n", 0o755)


def rewrite(root: DebRoot, path: str, old: str, new: str) -> None:
    text = (root.folder / path).read_text()
    assert old in text
    root.write(path, text.replace(old, new))


def test_a_file_of_another_layers_package_stands_first(tmp_path: Path) -> None:
    ground_, second = told(tmp_path, swap)
    assert {one.name for one in ground_.brings} == {"gauge", "horn"}
    assert not list(ground_.files.foreign)
    (row,) = second.files.altered
    assert (row.path, row.aspects, row.over) == (GAUGE, [Aspect.CONTENT], 0)
    assert (row.package, row.recorded_in, row.rank) == ("gauge", 0, Rank.PROGRAM)
    assert [second.brings, second.changes, second.removes] == [[], [], []]


def test_an_upgrade_is_the_packages_own_affair(tmp_path: Path) -> None:
    def upgrade(root: DebRoot) -> None:
        swap(root)
        rewrite(root, STATUS, "Version: 1.0-1", "Version: 1.1-1")

    _, second = told(tmp_path, upgrade)
    assert {(one.name, one.before, one.version) for one in second.changes} == {
        ("gauge", "1.0-1", "1.1-1"), ("horn", "1.0-1", "1.1-1"),
    }  # fmt: skip
    assert not list(second.files.foreign)


# How somebody would make a swapped program look like nothing, or like a package's own affair.
def _doctored(root: DebRoot) -> None:
    swap(root)
    new = md5((root.folder / GAUGE[1:]).read_bytes())
    rewrite(root, f"{INFO}/gauge.md5sums", md5(CODE), new)


def _claimed(root: DebRoot) -> None:
    swap(root)
    root.package("newcomer", listed=[GAUGE])


def _same_form(root: DebRoot) -> None:
    place = root.folder / GAUGE[1:]
    seen = place.stat()
    root.write(GAUGE, CODE[::-1], 0o755)
    os.utime(place, ns=(seen.st_atime_ns, seen.st_mtime_ns))


@pytest.mark.parametrize("act", [_doctored, _claimed, _same_form])
def test_what_hides_a_swapped_program_hides_nothing(tmp_path: Path, act: Act) -> None:
    _, second = told(tmp_path, act)
    assert altered(second) == {GAUGE: [Aspect.CONTENT]}


def test_another_version_beside_it_makes_a_swap_no_affair_of_its_own(tmp_path: Path) -> None:
    def act(root: DebRoot) -> None:
        swap(root)
        root.package(
            "gauge", "2.0-1", listed=["/usr/share/gauge"], architecture="arm64", stem="gauge:arm64"
        )
        rewrite(
            root,
            STATUS,
            "Architecture: arm64\nVersion: 2.0-1",
            "Architecture: amd64\nVersion: 2.0-1",
        )

    _, second = told(tmp_path, act)
    assert [(one.name, one.version) for one in second.brings] == [("gauge", "2.0-1")]
    assert altered(second) == {GAUGE: [Aspect.CONTENT]}


def test_ten_thousand_harmless_changes_hide_no_program(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("filigree.questions.finding.layer_changes.NAMED", 3)
    papers = {f"/etc/a{number}": b"x" for number in range(9)}
    root = DebRoot(tmp_path / "root")
    ground(root)
    root.package("papers", files=papers)
    above = [*(file(path[1:], b"y") for path in papers), file(GAUGE[1:], b"swapped\n", 0o755)]
    image = layout(tmp_path / "image", [layer_of(entries_of(root.folder)), layer_of(above)])
    with open_system(str(image)) as system:
        answer = layers(system)
    _, second = answer.records
    assert [one.path for one in second.files.altered] == [GAUGE, *list(papers)[:3]]
    assert any("6 paths" in gap.what for gap in answer.gaps)


def test_a_record_that_tells_something_else_of_one_version_is_told(tmp_path: Path) -> None:
    _, second = told(tmp_path, _doctored)
    (change,) = second.changes
    assert (change.name, change.before, change.version) == ("gauge", "1.0-1", "1.0-1")


@pytest.mark.parametrize("status", ["deinstall ok config-files", "purge ok not-installed"])
def test_a_program_whose_package_is_said_to_be_gone_is_nobodys(tmp_path: Path, status: str) -> None:
    def act(root: DebRoot) -> None:
        swap(root)
        rewrite(
            root,
            STATUS,
            "Package: gauge\nStatus: install ok installed",
            f"Package: gauge\nStatus: {status}",
        )

    _, second = told(tmp_path, act)
    assert [one.name for one in second.removes] == ["gauge"]
    assert [one.path for one in second.files.of_nobody] == [GAUGE]


def test_a_program_whose_record_is_gone_is_nobodys(tmp_path: Path) -> None:
    def act(root: DebRoot) -> None:
        swap(root)
        text = (root.folder / STATUS).read_text()
        root.write(STATUS, text[text.index("Package: horn") :])

    _, second = told(tmp_path, act)
    assert [one.path for one in second.files.of_nobody] == [GAUGE]


def test_an_edited_setting_is_told_as_one(tmp_path: Path) -> None:
    _, second = told(tmp_path, lambda root: root.write(CONFIG, b"line = 7\n"))
    (row,) = second.files.altered
    assert (row.path, row.role) == (CONFIG, Role.CONFIG)


def test_a_touched_file_is_none(tmp_path: Path) -> None:
    def act(root: DebRoot) -> None:
        os.utime(root.folder / GAUGE[1:], (1, 1))

    _, second = told(tmp_path, act)
    assert not list(second.files.foreign)


def test_a_file_that_comes_back_without_its_package_is_told(tmp_path: Path) -> None:
    first, second, third = told(
        tmp_path, lambda root: (root.folder / HORN[1:]).unlink(),
        lambda root: root.write(HORN, b"another\n", 0o755),
    )  # fmt: skip
    assert not list(first.files.foreign)
    assert [(one.path, one.recorded_in) for one in second.files.removed] == [(HORN, 0)]
    assert altered(third) == {HORN: [Aspect.PRESENCE]}


FORMS: dict[str, tuple[Entry, list[Aspect]]] = {
    "mode": (Entry("usr/bin/gauge", 0o4755, CODE), [Aspect.MODE]),
    "owner": (Entry("usr/bin/gauge", 0o755, CODE, owner=7), [Aspect.OWNER, Aspect.GROUP]),
    "a link": (Entry("usr/bin/gauge", 0o777, target="horn"), [Aspect.KIND]),
    "a device": (
        Entry("usr/bin/gauge", 0o755, form=b"3", device=(1, 3)), [Aspect.KIND],
    ),
    "capabilities": (
        Entry("usr/bin/gauge", 0o755, CODE, headers={
            "SCHILY.xattr.security.capability":
            bytes.fromhex("0100000200040000000000000000000000000000").decode("latin-1"),
        }), [Aspect.CAPABILITIES],
    ),
}  # fmt: skip


@pytest.mark.parametrize("case", FORMS)
def test_each_way_to_alter_a_file_is_one(tmp_path: Path, case: str) -> None:
    entry, aspects = FORMS[case]
    root = DebRoot(tmp_path / "root")
    ground(root)
    image = layout(tmp_path / "image", [layer_of(entries_of(root.folder)), layer_of([entry])])
    _, second = asked(image)
    assert altered(second) == {GAUGE: aspects}
    assert second.files.altered[0].rank is (
        Rank.RIGHTS if case in ("mode", "capabilities")
        else Rank.OTHER if entry.content is None else Rank.PROGRAM
    )  # fmt: skip


def test_all_ways_to_hide_files_are_told(tmp_path: Path) -> None:
    root = DebRoot(tmp_path / "root")
    ground(root)
    below = layer_of(entries_of(root.folder))
    cases = {
        "alone": [hidden("usr/bin/horn")], "with its directory": [hidden("usr/bin")],
        "all in it": [opaque("usr/bin")], "by a file in its place": [file("usr/bin", b"x")],
    }  # fmt: skip
    for number, (case, entries) in enumerate(cases.items()):
        _, second = asked(layout(tmp_path / str(number), [below, layer_of(entries)]))
        gone = {one.path for one in second.files.removed}
        assert HORN in gone, case
        assert (GAUGE in gone) is (case != "alone")


def test_what_runs_with_others_rights_and_is_hidden_is_bad_news(tmp_path: Path) -> None:
    root = DebRoot(tmp_path / "root")
    ground(root)
    below = [*entries_of(root.folder), file("opt/key", b"k" * 999, 0o4755), file("opt/x", b"xy")]
    image = layout(tmp_path / "image", [layer_of(below), layer_of([hidden("opt")])])
    with open_system(str(image)) as system:
        answer = layers(system)
    first, second = answer.records
    assert answer.bad_news
    assert [(one.path, one.hidden_by, one.rank) for one in first.files.hidden] == [
        ("/opt/key", 1, Rank.RIGHTS)
    ]
    assert (first.files.hidden_count, first.files.hidden_size) == (2, 1001)
    assert not list(second.files.foreign)
    assert answer.summary.hidden_size == 1001


def test_a_hard_link_keeps_in_sight_what_is_hidden_by_name(tmp_path: Path) -> None:
    root = DebRoot(tmp_path / "root")
    ground(root)
    below = [*entries_of(root.folder), file("opt/x", b"xy")]
    above = [Entry("srv/y", joined="opt/x")]
    image = layout(
        tmp_path / "image", [layer_of(below), layer_of(above), layer_of([hidden("opt/x")])]
    )
    first, *_ = asked(image)
    assert first.files.hidden_count == 0


def test_a_disk_has_no_layers(heron: Path) -> None:
    with open_system(str(heron)) as system, pytest.raises(BadQuestion):
        layers(system)


def test_layers_that_bring_no_records_yet_are_told(tmp_path: Path) -> None:
    root = DebRoot(tmp_path / "root")
    ground(root)
    entries = list(entries_of(root.folder))
    late = [one for one in entries if one.path.startswith("var")]
    rest = [one for one in entries if one not in late]
    first, second = asked(layout(tmp_path / "image", [layer_of(rest), layer_of(late)]))
    assert not first.brings
    assert {one.name for one in second.brings} == {"gauge", "horn"}
    assert not list(second.files.foreign), "the record came later: that is told by what it brings"


def test_an_image_without_records_is_a_gap_and_no_error(tmp_path: Path) -> None:
    image = layout(tmp_path / "image", [layer_of([file("usr/bin/gauge", b"x", 0o755)])])
    with open_system(str(image)) as system:
        assert system.family.name == "none"
        assert "no package database" in system.gaps[0].why
        (row,) = layers(system).records
        assert [one.path for one in row.files.of_nobody] == [GAUGE]
        answer = verify(system)
        assert answer.summary.paths == 0
        assert answer.exit_status == 3
        (found,) = owner(system, [GAUGE]).records
        assert (found.owners, found.layers) == ([], [0])


def test_a_small_image_keeps_its_records_as_a_few_files(tmp_path: Path) -> None:
    """As images without a shell do: one file a package, and its digests beside it."""

    def package(name: str, content: bytes) -> list[Entry]:
        place = f"var/lib/dpkg/status.d/{name}"
        told = f"Package: {name}\nVersion: 1.0-1\nArchitecture: amd64\nDescription: x\n"
        sums = f"{md5(content)}  usr/bin/{name}\n"
        return [
            file(place, told.encode()), file(f"{place}.md5sums", sums.encode()),
            file(f"usr/bin/{name}", content, 0o755),
        ]  # fmt: skip

    made = [
        package("gauge", CODE),
        package("horn", b"toot\n"),
        [file("usr/bin/horn", b"TOOT\n", 0o755)],
    ]
    image = layout(tmp_path / "image", [layer_of(one) for one in made])
    with open_system(str(image)) as system:
        assert system.family.name == "deb"
        rows = {row.path: row for row in verify(system, verdicts=frozenset(Verdict)).records}
        assert rows[GAUGE].verdict is Verdict.INTACT
        assert (rows[HORN].verdict, rows[HORN].layers) == (Verdict.ALTERED, [1, 2])
        first, second, third = layers(system).records
    assert [[one.name for one in row.brings] for row in (first, second, third)] == [
        ["gauge"],
        ["horn"],
        [],
    ]
    assert altered(third) == {HORN: [Aspect.CONTENT]}


def test_archives_tell_whose_the_files_of_an_image_without_records_are(
    tmp_path: Path, archives: dict[str, Path]
) -> None:
    image = layout(tmp_path / "image", [layer_of([file("usr/bin/weirgate", b"x", 0o755)])])
    archive = next(path for name, path in archives.items() if name.endswith(".deb"))
    with open_system(str(image)) as system:
        some = next(
            row.path for row in contents(system, [str(archive)]).records if row.kind is Kind.FILE
        )
        (row,) = owner(system, [some], [str(archive)]).records
    assert [one.archive for one in row.owners] == [str(archive)]


# -- the stations -------------------------------------------------------------------------------

TRACES = {
    "heron": {heron.SWAPPED, heron.DOCTORED, heron.OPENED, heron.REDIRECTED},
    "curlew": {curlew.SWAPPED, curlew.DOCTORED, curlew.OPENED},
    "plover": {plover.SWAPPED, plover.OPENED, plover.REDIRECTED},
    "dunlin": {dunlin.SWAPPED, dunlin.OPENED, dunlin.REDIRECTED},
}


@pytest.mark.parametrize("station", TRACES)
def test_the_third_layer_of_a_station_has_the_intruders_traces(
    images: dict[str, Path], station: str
) -> None:
    first, second, third, fourth = asked(images[station])
    assert TRACES[station] <= altered(third).keys()
    assert not list(first.files.foreign)
    assert not list(fourth.files.foreign)
    assert {"quayside", "siltmeter"} <= {one.name for one in second.brings}
    assert [one.before != one.version for one in second.changes if one.name == "mudflatd"] == [True]
    ferry = f"/{FERRYMAN}"
    assert ferry in {one.path for one in first.files.of_nobody}
    assert [(one.path, one.hidden_by) for one in first.files.hidden if one.path == ferry] == [
        (ferry, 3)
    ]
    assert second.made_by == "RUN station-setup quayside siltmeter"


@pytest.mark.parametrize("station", TRACES)
def test_what_verify_finds_names_the_layer(images: dict[str, Path], station: str) -> None:
    with open_system(str(images[station])) as system:
        rows = {row.path: row for row in verify(system).records}
    swapped = next(path for path in TRACES[station] if path in rows)
    assert (rows[swapped].layers or [])[-1:] == [2]


def test_the_small_image_has_two_layers_and_every_trace(images: dict[str, Path]) -> None:
    first, second = asked(images["sanderling"])
    assert {sanderling.SWAPPED, sanderling.OPENED, sanderling.REDIRECTED} <= altered(second).keys()
    assert any(one.path.startswith(sanderling.VANISHED) for one in second.files.removed)
    assert sanderling.STRAY in {one.path for one in second.files.of_nobody}
    assert len(first.brings) == 43
    assert not list(first.files.foreign)
    assert images["sanderling"].stat().st_size < 3 << 20


@pytest.mark.parametrize("station", ["dunlin", "sanderling"])
def test_the_image_of_a_station_has_the_same_bytes_at_every_run(
    images: dict[str, Path], tmp_path: Path, station: str
) -> None:
    write_images(tmp_path, {station: STATIONS[station]})
    again = tmp_path / NAMES[station]
    for path in [again] if again.is_file() else sorted(p for p in again.rglob("*") if p.is_file()):
        first = images[station] / path.relative_to(again) if again.is_dir() else images[station]
        assert path.read_bytes() == first.read_bytes(), path
