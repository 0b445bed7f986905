"""Archives as bytes: containers, compressions, payloads, capabilities; bounded, and never trusted."""

import gc
import io
import os
import random
import stat
import tarfile
import weakref
from collections.abc import Iterator

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.demo.deb import ar, tar
from filigree.demo.goods import Good
from filigree.demo.rpm_bytes import PACKERS, PayloadMember, cpio, stripped_cpio
from filigree.formats.ar import read_members
from filigree.formats.cpio import Numbered, read_cpio
from filigree.formats.file_capabilities import (
    CapabilityError,
    FileCapabilities,
    canonical,
    parse_capabilities,
    read_attribute,
    write_attribute,
    write_capabilities,
)
from filigree.formats.members import Member, PayloadError
from filigree.formats.random_access import ContainerError, MemoryBytes
from filigree.formats.tar_stream import read_small_tar, read_tar
from filigree.formats.unpacking import (
    MEMORY_LIMIT,
    RATIO,
    Unpacked,
    UnpackError,
    renew_allowance,
)
from filigree.model.files import Kind

SAMPLE = random.Random("payload").randbytes(200_000) + bytes(300_000)
SHA256_OF_ABC = "sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"


def unpacked(data: bytes) -> Unpacked:
    return Unpacked(MemoryBytes(data), 0, len(data))


def whole(stream: Unpacked, step: int = 70_000) -> bytes:
    parts = []
    while data := stream.read(step):
        parts.append(data)
    return b"".join(parts)


# -- compressions ---------------------------------------------------------------------------


@pytest.mark.parametrize("packer", PACKERS)
def test_every_compression_is_told_and_unpacked(packer: str) -> None:
    stream = unpacked(PACKERS[packer](SAMPLE))
    assert stream.compression == packer
    assert whole(stream) == SAMPLE
    assert stream.position == len(SAMPLE)


@pytest.mark.parametrize("packer", PACKERS)
def test_a_stream_is_let_go(packer: str) -> None:
    stream = unpacked(PACKERS[packer](SAMPLE))
    stream.read(1000)
    there = weakref.ref(stream)
    del stream
    gc.collect()
    assert there() is None


@pytest.mark.parametrize("packer", ["gzip", "bzip2", "xz", "zstd"])
def test_streams_one_behind_the_other(packer: str) -> None:
    pack = PACKERS[packer]
    assert whole(unpacked(pack(SAMPLE[:1000]) + pack(b"") + pack(SAMPLE[1000:]))) == SAMPLE


@pytest.mark.parametrize("packer", ["gzip", "bzip2", "xz", "lzma"])
def test_a_stream_that_is_cut_off_says_where(packer: str) -> None:
    data = PACKERS[packer](SAMPLE)
    with pytest.raises(UnpackError, match=r"cut off \(at byte [\d,]+ of it, after [\d,]+ bytes"):
        whole(unpacked(data[: len(data) // 2]))


@pytest.mark.parametrize("packer", [name for name in PACKERS if name != "none"])
def test_a_damaged_stream_is_an_error_or_other_bytes(packer: str) -> None:
    data = bytearray(PACKERS[packer](SAMPLE))
    data[len(data) // 3 : len(data) // 3 + 40] = bytes(40)
    try:
        found = whole(unpacked(bytes(data)))
    except UnpackError:
        return  # said in words
    assert found != SAMPLE


@pytest.mark.parametrize("packer", ["gzip", "xz", "zstd", "bzip2"])
def test_what_unpacks_to_far_more_than_it_is_ends(
    packer: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    allowed = 1 << 22
    monkeypatch.setattr("filigree.formats.unpacking.ALLOWANCE", allowed)
    renew_allowance()
    part = 10_000_000
    bomb = PACKERS[packer](bytes(part))
    assert len(bomb) * RATIO < part
    stream = unpacked(bomb * (allowed // (part - len(bomb) * RATIO) + 2))
    with pytest.raises(UnpackError, match="unpacks to more than"):
        whole(stream)
    assert stream.position <= allowed + RATIO * stream.read_so_far + 70_000


def test_what_streams_may_give_beyond_their_share_is_counted_for_all_of_them(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    allowed = 1 << 22
    monkeypatch.setattr("filigree.formats.unpacking.ALLOWANCE", allowed)
    renew_allowance()
    small = PACKERS["xz"](bytes(allowed // 2))
    assert len(whole(unpacked(small))) == allowed // 2
    assert len(whole(unpacked(small))) == allowed // 2
    with pytest.raises(UnpackError, match="unpacks to more than"):
        whole(unpacked(small))
    # What keeps to its share is read all the same; and so is everything at the next question.
    honest = bytes(range(256)) * 40
    assert whole(unpacked(PACKERS["xz"](honest))) == honest
    renew_allowance()
    assert len(whole(unpacked(small))) == allowed // 2


def test_an_unpacker_that_wants_much_memory_is_refused() -> None:
    import lzma

    wide = [{"id": lzma.FILTER_LZMA2, "preset": 1, "dict_size": 4 * MEMORY_LIMIT}]
    head = lzma.compress(b"abc", lzma.FORMAT_XZ, filters=wide)
    with pytest.raises(UnpackError, match=r"[Mm]emory"):
        whole(unpacked(head))


# -- ar -------------------------------------------------------------------------------------


def test_members_lie_where_they_are_said_to() -> None:
    data = ar({"debian-binary": b"2.0\n", "odd": b"abc", "even": b"abcd"})
    found = [(m.name, data[m.start : m.start + m.size]) for m in read_members(MemoryBytes(data))]
    assert found == [("debian-binary", b"2.0\n"), ("odd", b"abc"), ("even", b"abcd")]


def test_a_name_may_end_in_a_slash() -> None:
    data = ar({"data.tar/": b""})
    assert [m.name for m in read_members(MemoryBytes(data))] == ["data.tar"]


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"", "no ar archive"),
        (ar({"a": b"abcdef"})[:-3], "cut off"),
        (ar({"a": b"ab"}) + b"x", "no member"),
        (ar({"a": b"ab"}).replace(b"`\n", b"``"), "no member"),
        (ar({"a": b"ab"}).replace(b"2         `", b"-2        `"), "no member"),
        (b"!<arch>\n" + ar({"a": b""})[8:] * 1001, "more than 1000"),
    ],
)
def test_what_is_no_archive_says_where(data: bytes, why: str) -> None:
    with pytest.raises(ContainerError, match=why):
        list(read_members(MemoryBytes(data)))


# -- payloads -------------------------------------------------------------------------------

PUT = [
    PayloadMember("./usr", stat.S_IFDIR | 0o755),
    PayloadMember("./usr/abc", stat.S_IFREG | 0o4755, b"abc", 7),
    PayloadMember("./usr/empty", stat.S_IFREG | 0o600),
    PayloadMember("./usr/link", stat.S_IFLNK | 0o777, b"../abc"),
    PayloadMember("./usr/one", stat.S_IFREG | 0o644, b"", inode=9, links=2),
    PayloadMember("./usr/two", stat.S_IFREG | 0o644, b"abc", inode=9, links=2),
    PayloadMember("./pipe", stat.S_IFIFO | 0o600),
]


def sha256(_: str) -> str:
    return "sha256"


def test_cpio_is_read_as_written() -> None:
    found = {m.path: m for m in read_cpio(unpacked(cpio(PUT)), sha256)}
    assert [*found] == [put.path for put in PUT]
    assert found["./usr/abc"] == Member("./usr/abc", Kind.FILE, 0o4755, 3, 7, digest=SHA256_OF_ABC)
    assert found["./usr/link"].link_target == "../abc"
    assert found["./usr"].kind is Kind.DIRECTORY
    assert found["./pipe"].kind is Kind.PIPE
    # The content of hard links stands at the last of them.
    assert (found["./usr/one"].digest, found["./usr/two"].digest) == (None, SHA256_OF_ABC)


def test_cpio_for_very_large_files_takes_names_from_the_header() -> None:
    numbered = [
        Numbered("/a", stat.S_IFREG | 0o644, 3, 1),
        Numbered("/l", stat.S_IFLNK | 0o777, 2, 1),
    ]
    found = list(read_cpio(unpacked(stripped_cpio([(1, b"/a"), (0, b"abc")])), sha256, numbered))
    assert [(m.path, m.link_target, m.digest) for m in found] == [
        ("/l", "/a", None),
        ("/a", None, SHA256_OF_ABC),
    ]
    with pytest.raises(PayloadError, match="no file that the header knows"):
        list(read_cpio(unpacked(stripped_cpio([(2, b"")])), sha256, numbered))


@pytest.mark.parametrize(
    ("data", "why"), [(b"070709" + bytes(104), "no member where one belongs"), (b"0707", "cut off")]
)
def test_what_is_no_cpio_says_why(data: bytes, why: str) -> None:
    with pytest.raises(PayloadError, match=why):
        list(read_cpio(unpacked(data), sha256))


GOODS = [
    Good("./usr", 0o755),
    Good("./usr/abc", 0o4755, b"abc"),
    Good("./usr/link", target="../abc"),
    Good(f"./usr/{'long' * 60}", 0o600, b""),
]


def test_tar_is_read_as_written() -> None:
    found = {m.path: m for m in read_tar(unpacked(tar(GOODS)), sha256)}
    assert [*found] == [good.path for good in GOODS]
    abc = found["./usr/abc"]
    assert (abc.kind, abc.mode, abc.owner, abc.digest) == (Kind.FILE, 0o4755, "root", SHA256_OF_ABC)
    assert found["./usr/link"].link_target == "../abc"


def test_tar_keeps_names_that_are_not_text_hard_links_and_devices() -> None:
    out = io.BytesIO()
    with tarfile.open(
        fileobj=out, mode="w", format=tarfile.PAX_FORMAT, errors="surrogateescape"
    ) as file:
        for name, kind in (
            ("./b\udcff", tarfile.REGTYPE),
            ("./h", tarfile.LNKTYPE),
            ("./n", tarfile.CHRTYPE),
        ):
            info = tarfile.TarInfo(name)
            info.type, info.linkname = kind, "./b" if kind == tarfile.LNKTYPE else ""
            info.devmajor, info.devminor = 1, 3
            file.addfile(info)
    odd, hard, null = read_tar(unpacked(out.getvalue()), sha256)
    assert odd.path == "./b\udcff"
    assert hard.same_as == "./b"
    assert (null.kind, null.device) == (Kind.CHARACTER_DEVICE, os.makedev(1, 3))
    assert odd.owner == "#0"


@pytest.mark.parametrize("form", ["cpio", "tar"])
@pytest.mark.parametrize("share", [0.2, 0.5, 0.9])
def test_a_payload_that_is_cut_off_gives_what_came_before(form: str, share: float) -> None:
    data = cpio(PUT) if form == "cpio" else tar(GOODS)
    read = read_cpio if form == "cpio" else read_tar
    found: list[str] = []

    def collect(members: Iterator[Member]) -> None:
        found.extend(member.path for member in members)

    cut = data[: int(len(data.rstrip(b"\0")) * share)]
    with pytest.raises(PayloadError) as caught:
        collect(read(unpacked(cut), sha256))
    assert caught.value.offset <= len(cut)
    names = [put.path for put in PUT] if form == "cpio" else [good.path for good in GOODS]
    assert found == names[: len(found)]


def test_a_long_name_that_never_ends_is_not_read() -> None:
    info = tarfile.TarInfo("././@LongLink")
    info.type, info.size = tarfile.GNUTYPE_LONGNAME, 1 << 33
    with pytest.raises(PayloadError, match="a name or a head of"):
        list(read_tar(unpacked(info.tobuf(tarfile.GNU_FORMAT) + bytes(4096)), sha256))


def test_heads_without_end_are_no_recursion_without_end() -> None:
    info = tarfile.TarInfo("x")
    info.type, info.size = tarfile.XHDTYPE, 0
    with pytest.raises(PayloadError):
        list(read_tar(unpacked(info.tobuf(tarfile.USTAR_FORMAT) * 5000), sha256))


def test_a_small_payload_is_bounded() -> None:
    assert read_small_tar(unpacked(tar(GOODS)))["./usr/abc"] == b"abc"
    with pytest.raises(PayloadError, match="unreasonably large"):
        read_small_tar(unpacked(tar([Good("./control", content=bytes(2000))])), 1000)


# -- capabilities ---------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "same"),
    [
        ("cap_net_raw=ep", "cap_net_raw=ep"),
        ("cap_net_raw+ep", "cap_net_raw=ep"),
        ("= cap_net_raw+ep", "cap_net_raw=ep"),
        ("cap_setgid,cap_setuid=pe", "cap_setgid,cap_setuid=ep"),
        ("cap_chown=ep cap_chown-e", "cap_chown=p"),
        ("cap_net_admin+p cap_net_raw+i", "cap_net_raw=i cap_net_admin=p"),
        ("cap_chown=", ""),
        ("cap_bpf=ep", "cap_bpf=ep"),
        ("no capabilities", "no capabilities"),
    ],
)
def test_one_way_to_write_capabilities(text: str, same: str) -> None:
    assert canonical(text) == same


BITS = st.integers(0, (1 << 41) - 1)


@given(BITS, BITS, st.booleans())
def test_an_attribute_is_read_as_written(permitted: int, inheritable: int, effective: bool) -> None:
    on = permitted | inheritable if effective else 0
    there = FileCapabilities(permitted, inheritable, on)
    assert read_attribute(write_attribute(there)) == there
    assert parse_capabilities(write_capabilities(there)) == there


@given(st.binary(max_size=40))
def test_any_attribute_is_capabilities_or_an_error(data: bytes) -> None:
    try:
        write_capabilities(read_attribute(data))
    except CapabilityError:
        pass


# -- mutations ------------------------------------------------------------------------------

EDITS = st.lists(
    st.tuples(st.floats(0, 1), st.integers(0, 40), st.binary(max_size=16)), min_size=1, max_size=5
)


@given(st.sampled_from([*PACKERS]), st.sampled_from(["cpio", "tar", "ar"]), EDITS, st.booleans())
def test_mutated_payloads_are_members_or_errors(
    packer: str, form: str, edits: list[tuple[float, int, bytes]], inside: bool
) -> None:
    whole_form = {"cpio": cpio(PUT), "tar": tar(GOODS), "ar": ar({"a": b"abc", "b": b"d"})}[form]
    data = bytearray(whole_form if inside else PACKERS[packer](whole_form))
    for where, cut, put in edits:
        at = int(where * len(data))
        data[at : at + cut] = put
    packed = PACKERS[packer](bytes(data)) if inside else bytes(data)
    try:
        if form == "ar":
            list(read_members(MemoryBytes(bytes(data))))
        else:
            read = read_cpio if form == "cpio" else read_tar
            for member in read(unpacked(packed), sha256):
                assert member.path
    except (PayloadError, UnpackError, ContainerError):
        pass
