"""What is remembered of unpacked indexes: only of the very bytes, and never of what failed."""

import gzip
import hashlib
from collections.abc import Iterator
from pathlib import Path

import pytest

from filigree.access.store import Store
from filigree.access.trees.directory import DirectoryTree
from filigree.families.shared import indexes
from filigree.families.shared.indexes import digest_found
from filigree.model.answer import Gap
from filigree.model.repositories import IndexFile, IndexKind
from filigree.questions.commands.repos import repos
from filigree.questions.offers.keeping import remembered
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system
from tests.questions.test_repos import forge_the_index

TEXT = b"/usr/bin/tidegauge  tidegauge\n" * 2000
PROMISED = f"sha256:{hashlib.sha256(TEXT).hexdigest()}"


@pytest.fixture(autouse=True)
def _however_small(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(indexes, "REMEMBERED_FROM", 0)


class Shelf:
    """A folder with an index, and a cache beside it."""

    def __init__(self, folder: Path) -> None:
        (folder / "root").mkdir()
        self.index = folder / "root/index.gz"
        self.index.write_bytes(gzip.compress(TEXT))
        self.cache = folder / "cache"
        self.gaps: list[Gap] = []
        self.tree = DirectoryTree(str(folder / "root"))
        self.file = IndexFile(IndexKind.PATHS, "/index.gz", PROMISED, True)

    def digest(self) -> str | None:
        store = Store(str(self.cache), self.gaps.append)
        return digest_found(self.tree, self.file, self.gaps.append, remembered(store))


@pytest.fixture
def shelf(tmp_path: Path) -> Shelf:
    return Shelf(tmp_path)


def test_the_same_bytes_are_unpacked_once(shelf: Shelf, monkeypatch: pytest.MonkeyPatch) -> None:
    assert shelf.digest() == PROMISED

    def never(*_: object) -> Iterator[bytes]:
        raise AssertionError("it was unpacked again")

    monkeypatch.setattr(indexes, "_unpacked", never)
    assert shelf.digest() == PROMISED
    assert shelf.gaps == []


def test_other_bytes_are_unpacked_and_refused(shelf: Shelf) -> None:
    assert shelf.digest() == PROMISED
    shelf.index.write_bytes(gzip.compress(TEXT.replace(b"gauge", b"gouge", 1)))
    assert shelf.digest() is None
    (gap,) = shelf.gaps
    assert "not what the signed file says" in gap.why


def test_what_is_promised_counts_and_not_what_is_remembered(shelf: Shelf) -> None:
    assert shelf.digest() == PROMISED
    shelf.file = shelf.file._replace(digest="sha256:" + "0" * 64)
    assert shelf.digest() is None


def test_nothing_is_remembered_of_what_cannot_be_unpacked(shelf: Shelf) -> None:
    whole = shelf.index.read_bytes()
    shelf.index.write_bytes(whole[:-30])
    for times in (1, 2):
        assert shelf.digest() is None
        assert len(shelf.gaps) == times
    assert list(shelf.cache.iterdir()) == []


@pytest.mark.parametrize("readings", [1, 2])
def test_a_file_that_is_swapped_meanwhile_is_not_remembered_for_another(
    shelf: Shelf, monkeypatch: pytest.MonkeyPatch, readings: int
) -> None:
    """Whoever owns the root shows a forged index, and the true one to whom reads once more."""
    true = shelf.index.read_bytes()
    forged = gzip.compress(TEXT.replace(b"gauge", b"gouge", 1))
    shelf.index.write_bytes(forged)
    real = DirectoryTree.pieces
    read = 0

    def pieces(tree: DirectoryTree, path: str, size: int = 1 << 20) -> Iterator[bytes]:
        nonlocal read
        yield from real(tree, path, size)
        read += 1
        if read == readings:
            shelf.index.write_bytes(true)

    monkeypatch.setattr(DirectoryTree, "pieces", pieces)
    first = shelf.digest()
    assert read == 2
    assert first is None
    monkeypatch.undo()
    monkeypatch.setattr(indexes, "REMEMBERED_FROM", 0)
    shelf.index.write_bytes(forged)
    assert shelf.digest() is None
    shelf.index.write_bytes(true)
    assert shelf.digest() == PROMISED


def test_a_list_that_was_forged_after_it_was_counted_is_told(
    own_heron: Path, tmp_path: Path
) -> None:
    (tmp_path / "cache").mkdir(mode=0o700)
    options = RepositoryOptions(cache=str(tmp_path / "cache"))
    told = []
    for forge in (None, None, forge_the_index):
        if forge is not None:
            forge(own_heron)
        with open_system(str(own_heron)) as system:
            told.append(
                [(row.packages, row.matches) for row in repos(system, options=options).records]
            )
    first, again, forged = told
    assert first == again
    assert first[0][1] is True
    assert forged[0][1] is False
    assert any(tmp_path.glob("cache/unpacked-*")), "nothing was remembered at all"
