"""How many workers are of use: by whether files are in memory, and whether a disk does several things at
once. Nothing but regular files below the root is ever opened for it."""

import os
import time
from pathlib import Path

import pytest

from filigree.access.trees import trial
from filigree.access.trees.directories import Directories
from filigree.access.trees.directory import DirectoryTree


@pytest.fixture
def root(tmp_path: Path) -> Path:
    folder = tmp_path / "root"
    folder.mkdir()
    for number in range(64):
        (folder / f"{number}").write_bytes(b"%d" % number * 9000)
    return folder


def groups(root: Path) -> list[trial.Group]:
    return [lambda path=f"/{one}": [path] for one in sorted(os.listdir(root))]  # type: ignore[misc]


def let_go(path: Path) -> None:
    """Have the kernel forget what is in a file."""
    with path.open("rb") as file:
        os.fsync(file.fileno())
        os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)


def test_what_was_read_is_in_memory_and_what_was_let_go_is_not(root: Path) -> None:
    directories = Directories(str(root))
    (root / "1").read_bytes()
    if trial.is_in_memory(directories, "/1") is None:
        pytest.skip("this file system does not tell")
    assert trial.is_in_memory(directories, "/1") is True
    let_go(root / "1")
    if trial.is_in_memory(directories, "/1"):
        pytest.skip("this file system keeps everything in memory")
    assert trial.is_in_memory(directories, "/1") is False
    directories.close()


def test_files_in_memory_take_no_more_workers_than_processors(root: Path) -> None:
    assert DirectoryTree(str(root)).useful_workers(groups(root), 2) == 2
    assert DirectoryTree(str(root)).useful_workers([], 2) == 2


@pytest.mark.parametrize(
    ("together", "expected"), [(0.1, 8), (0.9, 2), (5.0, 2)],
)  # fmt: skip
def test_more_workers_are_taken_where_files_come_faster_together(
    root: Path, monkeypatch: pytest.MonkeyPatch, together: float, expected: int
) -> None:
    monkeypatch.setattr(trial, "is_in_memory", lambda _, __: False)
    tried: list[int] = []

    def seconds(_: Directories, paths: list[str], at_once: int) -> float:
        tried.append(len(paths))
        return len(paths) * (1.0 if at_once == 1 else together)

    monkeypatch.setattr(trial, "_seconds", seconds)
    assert trial.useful_workers(str(root), groups(root), 2) == expected
    assert sum(tried) <= 96
    assert trial.useful_workers(str(root), groups(root), 64) == 64


def test_nothing_else_than_files_below_the_root_is_opened(
    root: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A pipe would wait for ever, a link could lead to a device of the auditor's own machine."""
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret").write_text("x")
    os.mkfifo(root / "pipe")
    (root / "led").symlink_to(outside)
    (root / "link").symlink_to(outside / "secret")
    opened: list[bytes] = []
    really = os.open

    def noting(path: bytes, flags: int, *rest: int, **more: int) -> int:
        if flags & os.O_PATH == 0:
            opened.append(path)
        return really(path, flags, *rest, **more)

    monkeypatch.setattr(os, "open", noting)
    started = time.monotonic()
    paths = ["/pipe", "/link", "/led/secret", "/../outside/secret", "/gone", "/\udcff", "/a\0b", ""]
    directories = Directories(str(root))
    assert {trial.is_in_memory(directories, one) for one in paths} == {None}
    assert trial.useful_workers(str(root), [lambda: paths] * 20, 2) == 2
    assert opened == []
    assert time.monotonic() - started < 5  # a bound against a hang
