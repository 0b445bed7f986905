"""Heads that are read quickly: what the standard library makes of the same bytes, whatever they are."""

import io
import random
import shutil
import subprocess
import tarfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.formats.members import PayloadError
from filigree.formats.tar_heads import plain_head
from filigree.formats.tar_stream import tar_members

FIELDS = (
    "name", "mode", "uid", "gid", "size", "mtime", "type", "linkname", "uname", "gname", "devmajor",
    "devminor", "pax_headers", "offset_data",
)  # fmt: skip


class Plain:
    """Bytes as a stream, whatever they begin with."""

    def __init__(self, data: bytes) -> None:
        self._file = io.BytesIO(data)

    @property
    def position(self) -> int:
        return self._file.tell()

    def read(self, size: int) -> bytes:
        return self._file.read(size)


def quickly(data: bytes) -> list[Any]:
    """The members as they are read here, and the error that ends them."""
    found: list[Any] = []
    try:
        for info, _ in tar_members(Plain(data)):
            found.append([getattr(info, name) for name in FIELDS])
    except PayloadError:
        found.append("damaged")
    return found


def by_the_library(data: bytes) -> list[Any]:
    """The same by the standard library alone, which takes a damaged or missing end for the end."""
    found: list[Any] = []
    stream = io.BytesIO(data)
    try:
        tar = tarfile.TarFile(fileobj=stream, errors="surrogateescape", encoding="utf-8")
        while (info := tar.next()) is not None:
            found.append([getattr(info, name) for name in FIELDS])
            if info.offset_data > len(data):
                break
        end = data[tar.offset : tar.offset + 512]
        if len(end) < 512 or end.strip(b"\0"):
            found.append("damaged")
    except (tarfile.TarError, ValueError, OverflowError, TypeError, KeyError):
        found.append("damaged")
    return found


NAMES = st.text(st.characters(exclude_characters="\0", codec="utf-8"), min_size=1, max_size=180)
TYPES = st.sampled_from(b"0123456\0")


@st.composite
def members(draw: st.DrawFn) -> tuple[tarfile.TarInfo, bytes]:
    info = tarfile.TarInfo(draw(NAMES))
    info.type = bytes([draw(TYPES)])
    info.mode = draw(st.integers(0, 0o7777))
    info.uid, info.gid = (draw(st.integers(0, 1 << 33)) for _ in range(2))
    info.mtime = draw(st.integers(-5, 1 << 34) | st.floats(0, 1e10).map(lambda x: round(x, 6)))
    info.uname, info.gname = draw(NAMES)[:31], draw(NAMES)[:31]
    if info.type in b"12":
        info.linkname = draw(NAMES)
    if info.type in b"34":
        info.devmajor, info.devminor = draw(st.integers(0, 4095)), draw(st.integers(0, 1 << 20))
    content = draw(st.binary(max_size=1300)) if info.type in b"0\0" else b""
    info.size = len(content)
    if draw(st.booleans()):
        info.pax_headers = draw(
            st.dictionaries(
                st.sampled_from(["mtime", "comment", "SCHILY.xattr.user.a", "uid", "atime", "path"]),
                NAMES, max_size=3,
            )
        )  # fmt: skip
    return info, content


FORMS = (tarfile.USTAR_FORMAT, tarfile.GNU_FORMAT, tarfile.PAX_FORMAT)


@given(st.lists(members(), min_size=1, max_size=5), st.sampled_from(FORMS))
def test_what_a_writer_writes(rows: list[tuple[tarfile.TarInfo, bytes]], form: int) -> None:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=form, errors="surrogateescape") as tar:
        for info, content in rows:
            try:
                tar.addfile(info, io.BytesIO(content))
            except ValueError:  # this form cannot hold it
                continue
    data = out.getvalue()
    assert quickly(data) == by_the_library(data)


def _sample() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as tar:
        for number in range(4):
            info = tarfile.TarInfo(f"usr/share/{'n' * 60 * number}")
            info.size = 700 * number
            if number % 2:
                info.pax_headers = {"mtime": "1700000000.25", "comment": "c" * number}
            tar.addfile(info, io.BytesIO(bytes(info.size)))
    return out.getvalue()


@given(st.integers(0, (1 << 32) - 1))
def test_what_somebody_changed(seed: int) -> None:
    """A few bytes changed, the checksums made right again or not."""
    chance = random.Random(seed)
    data = bytearray(_sample())
    for _ in range(chance.randint(1, 4)):
        data[chance.randrange(len(data))] = chance.choice(
            b"\0 017x=L\x80\xff\n" + bytes([chance.randrange(256)])
        )
    if chance.random() < 0.8:
        for at in range(0, len(data), 512):
            if data[at + 257 : at + 262] == b"ustar":
                block = data[at : at + 512]
                total = 256 + sum(block) - sum(block[148:156])
                data[at + 148 : at + 156] = b"%06o\0 " % total
    if chance.random() < 0.2:
        del data[chance.randrange(len(data)) :]
    changed = bytes(data)
    assert quickly(changed) == by_the_library(changed)


@pytest.mark.skipif(shutil.which("tar") is None, reason="there is no tar here to write with")
@pytest.mark.parametrize("form", ["gnu", "pax", "ustar", "v7", "oldgnu"])
def test_what_another_program_writes(tmp_path: Path, form: str) -> None:
    top = tmp_path / "top"
    (top / ("d" * 90)).mkdir(parents=True)
    (top / "a").write_bytes(b"a" * 1000)
    (top / "b").hardlink_to(top / "a")
    (top / "c").symlink_to("a")
    if form not in ("v7", "ustar"):
        (top / ("d" * 90) / ("e" * 150)).write_bytes(b"e")
        with (top / "holes").open("wb") as file:
            file.truncate(1 << 20)
            file.seek(1 << 19)
            file.write(b"x")
    path = tmp_path / "made.tar"
    sparse = ["--sparse"] if form in ("gnu", "pax", "oldgnu") else []
    subprocess.run(
        ["tar", "-C", str(top), f"--format={form}", *sparse, "-cf", str(path), "."], check=True
    )
    data = path.read_bytes()
    assert quickly(data) == by_the_library(data)


def test_plain_heads_are_taken_here() -> None:
    """Without this all of the above would hold of a reader that leaves everything to the library."""
    data = _sample()
    info = plain_head(data[:512], 0)
    assert info is not None
    assert (info.name, info.size) == ("usr/share/", 0)
