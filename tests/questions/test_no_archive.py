"""What is no archive, and globs of archives that match nothing: told, with what was meant."""

from pathlib import Path

import pytest

from filigree.questions.asking.subjects import match_subjects
from filigree.questions.commands.dossier import dossier
from filigree.system import open_system


@pytest.mark.parametrize(
    ("name", "content", "why"),
    [
        ("gull_1-1_all.deb", b"no archive at all", "it is no archive of a known family"),
        ("gull-1-1.noarch.rpm", b"", "it is empty"),
        ("gull-1-1.noarch.rpm", b"\xed\xab\xee\xdb\x03\x00", "no archive that can be read"),
        ("gull-1-1-any.pkg.tar.zst", b"(\xb5/\xfd" + bytes(40), "no archive that can be read"),
        ("gull-1-noarch-1.txz", b"\xfd7zXZ\0" + bytes(40), "no archive that can be read"),
    ],
)
def test_a_file_that_is_called_like_an_archive_and_is_none(
    heron: Path, tmp_path: Path, name: str, content: bytes, why: str
) -> None:
    path = tmp_path / name
    path.write_bytes(content)
    with open_system(str(heron)) as system:
        answer = dossier(system, [str(path)])
    assert answer.records == []
    assert answer.exit_status == 1
    (note,) = answer.notes
    assert str(path) in note
    assert why in note


def test_what_is_not_there_and_what_a_glob_does_not_match(heron: Path, tmp_path: Path) -> None:
    (tmp_path / "notes.txt").write_text("notes")
    with open_system(str(heron)) as system:
        for subject, why in (
            (f"{tmp_path}/gull_1_all.deb", f"there is no archive {tmp_path}/gull_1_all.deb"),
            (f"{tmp_path}/*.deb", f"there is no archive {tmp_path}/*.deb"),
            (f"{tmp_path}/notes.txt", f"no package on record has the path {tmp_path}/notes.txt"),
        ):
            matched = match_subjects(system, [subject])
            assert matched.packages == []
            assert [one.why for one in matched.unmatched] == [why]


def test_of_several_those_that_are_none_are_gaps(
    heron: Path, tmp_path: Path, archives: dict[str, Path]
) -> None:
    (tmp_path / "good.deb").write_bytes(archives["tidegauge_2.2-1_amd64.deb"].read_bytes())
    (tmp_path / "torn.deb").write_bytes(b"!<arch>\n")
    with open_system(str(heron)) as system:
        answer = dossier(system, [f"{tmp_path}/*.deb"])
        assert [row.name for row in answer.records] == ["tidegauge"]
        (gap,) = [one for one in answer.gaps if "torn.deb" in one.why]
    assert "is no archive that can be read" in gap.why
