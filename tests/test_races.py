"""What changes while it is looked at: never a traceback, and never called intact what was not."""

import os
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from filigree.access.trees import directory as tree
from filigree.demo.curlew import build_curlew
from filigree.model.files import Verdict
from filigree.questions.commands.verify import verify
from filigree.system import open_system
from tests.making import DebRoot

EVERY = frozenset(Verdict)
LARGE = bytes(range(256)) * 2048
"""More than is read at once."""


def swap(path: Path) -> None:
    other = path.with_name("other")
    other.write_bytes(path.read_bytes()[:-1] + b"!")
    other.rename(path)


def overwrite(path: Path) -> None:
    with path.open("r+b") as file:
        file.seek(-1, os.SEEK_END)
        file.write(b"!")


def truncate(path: Path) -> None:
    os.truncate(path, path.stat().st_size // 2)


def grow(path: Path) -> None:
    with path.open("ab") as file:
        file.write(b"more")


def remove(path: Path) -> None:
    path.unlink()


def to_pipe(path: Path) -> None:
    path.unlink()
    os.mkfifo(path)


def to_link(path: Path) -> None:
    path.unlink()
    path.symlink_to("/dev/zero")


def to_directory(path: Path) -> None:
    path.unlink()
    path.mkdir()


def lock(path: Path) -> None:
    path.chmod(0)


DEEDS = [swap, overwrite, truncate, grow, remove, to_pipe, to_link, to_directory]
if os.geteuid() != 0:
    DEEDS.append(lock)


class Meddler:
    """Does a deed once, the first time that a call is made on the file."""

    def __init__(
        self, monkeypatch: pytest.MonkeyPatch, path: Path, deed: Callable[[Path], None]
    ) -> None:
        self._patch = monkeypatch
        self._path = path
        self._deed = deed
        self.done = False

    def once(self) -> None:
        if not self.done:
            self.done = True
            self._deed(self._path)

    def before_opening(self) -> None:
        real = os.open

        def opened(name: Any, *more: Any, **options: Any) -> int:
            if os.fsencode(name) == self._path.name.encode():
                self.once()
            return real(name, *more, **options)

        self._patch.setattr(tree, "_open", opened)
        self._patch.setattr(os, "open", opened)

    def while_reading(self) -> None:
        """After the first part was read."""
        real = os.readv

        def read(handle: int, buffers: Any) -> int:
            count = real(handle, buffers)
            if count and os.fstat(handle).st_ino == self._inode:
                self.once()
            return count

        self._inode = self._path.stat().st_ino
        self._patch.setattr(os, "readv", read)


@pytest.mark.parametrize("moment", ["before_opening", "while_reading"])
@pytest.mark.parametrize("deed", DEEDS)
@pytest.mark.parametrize("listed", [True, False], ids=["all listed", "only what is wrong"])
def test_a_file_that_changes_meanwhile(
    deb_root: DebRoot,
    monkeypatch: pytest.MonkeyPatch,
    deed: Callable[[Path], None],
    moment: str,
    listed: bool,
) -> None:  # fmt: skip
    deb_root.package("a", files={"/opt/target": LARGE, "/opt/still": b"x"})
    path = deb_root.folder / "opt/target"
    meddler = Meddler(monkeypatch, path, deed)
    with open_system(deb_root.path) as system:
        getattr(meddler, moment)()
        shown = EVERY if listed else EVERY - {Verdict.INTACT}
        answer = verify(system, verdicts=shown, workers=1)
        monkeypatch.undo()
    assert meddler.done
    rows = {row.path: row for row in answer.records}
    left = deed is swap and moment == "while_reading"
    verdict = rows["/opt/target"].verdict if "/opt/target" in rows else Verdict.INTACT
    if left or (
        moment == "while_reading" and deed in (remove, to_pipe, to_link, to_directory, lock)
    ):
        # What was read to its end is still the file that it was, by then under no name or another.
        assert verdict in EVERY
        assert verdict is not Verdict.INTACT or answer.summary.bytes_read >= len(LARGE)
    else:
        assert verdict is not Verdict.INTACT
    assert answer.exit_status in (0, 1, 3)
    if verdict is Verdict.UNREADABLE:
        assert answer.gaps


@pytest.mark.parametrize("harm", ["gone", "empty", "cut", "noise"])
def test_a_database_that_is_replaced_while_it_is_read(tmp_path: Path, harm: str) -> None:
    root = build_curlew(tmp_path / "curlew")
    (database,) = root.glob("usr/lib/sysimage/rpm/rpmdb.sqlite")
    with open_system(str(root)) as system:
        data = database.read_bytes()
        if harm == "gone":
            database.unlink()
        else:
            content = {"empty": b"", "cut": data[:5000], "noise": os.urandom(len(data))}[harm]
            database.write_bytes(content)
        answer = verify(system, verdicts=EVERY, workers=1)
    # What is asked is the database as it was when it was opened.
    assert answer.summary.verdicts[Verdict.INTACT] > 900
    assert not answer.gaps
    shutil.rmtree(root)


def test_records_that_go_while_they_are_read(deb_root: DebRoot) -> None:
    deb_root.package("a", files={"/opt/a": b"x"})
    deb_root.package("b", files={"/opt/b": b"x"})
    with open_system(deb_root.path) as system:
        assert system.packages
        _ = system.database.files(system.packages[0])
        (deb_root.folder / "var/lib/dpkg/info/b.md5sums").unlink()
        (deb_root.folder / "var/lib/dpkg/info/b.list").unlink()
        answer = verify(system, verdicts=EVERY, workers=1)
    assert {row.package for row in answer.records} == {"a"}
    assert answer.gaps
    assert answer.exit_status == 3
