"""Members of a gzip stream, told apart."""

import gzip
import io
import random

import pytest

from filigree.formats.gzip_members import gzip_members
from filigree.formats.random_access import MemoryBytes
from filigree.formats.unpacking import Unpacked, UnpackError, renew_allowance


def bounds(data: bytes, most: int = 8) -> list[tuple[int, int]]:
    renew_allowance()
    return [tuple(one) for one in gzip_members(MemoryBytes(data), most)]  # type: ignore[misc]


@pytest.mark.parametrize("sizes", [(0,), (5,), (5, 0, 7), (70_000, 200_000, 1), (1 << 17, 3)])
def test_each_member_is_what_was_written(sizes: tuple[int, ...]) -> None:
    draw = random.Random(sum(sizes))
    parts = [draw.randbytes(size) for size in sizes]
    packed = [gzip.compress(part, mtime=0) for part in parts]
    data = b"".join(packed)
    found = bounds(data)
    assert [size for _, size in found] == [len(one) for one in packed]
    for (start, size), part in zip(found, parts, strict=True):
        assert gzip.decompress(data[start : start + size]) == part
        stream = Unpacked(MemoryBytes(data), start, len(data) - start, single=True)
        assert stream.read(1 << 22) == part
        assert stream.read_so_far == size
    whole = Unpacked(MemoryBytes(data), 0, len(data))
    assert whole.read(1 << 22) == b"".join(parts), "read as one, they stand one behind the other"


def test_names_and_comments_belong_to_a_member() -> None:
    out = io.BytesIO()
    with gzip.GzipFile("water.txt", "wb", fileobj=out) as file:
        file.write(b"low")
    named = out.getvalue()
    assert bounds(named + gzip.compress(b"high")) == [
        (0, len(named)), (len(named), len(gzip.compress(b"high"))),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (gzip.compress(b"x") + b"more", "no gzip member"),
        (gzip.compress(b"x")[:-1], "cut off"),
        (gzip.compress(b"x" * 900)[:20], "cut off"),
        (gzip.compress(b"x") + gzip.compress(b"y")[:-9] + b"\0" * 9, "damaged|cut off"),
        (gzip.compress(b"x") * 9, "more than 8 gzip members"),
        (b"plain", "no gzip member"),
    ],
    ids=["more", "trailer", "cut", "second", "many", "plain"],
)
def test_what_is_damaged_is_said(data: bytes, why: str) -> None:
    with pytest.raises(UnpackError, match=why):
        bounds(data)


def test_nothing_has_no_members() -> None:
    assert bounds(b"") == []


def test_a_bomb_is_bounded() -> None:
    bomb = gzip.compress(b"\0" * (1 << 26)) * 40
    with pytest.raises(UnpackError, match="more than 250 times"):
        bounds(bomb, 64)
