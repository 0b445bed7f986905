"""Package headers, their versions and their containers: read as written, and never trusted."""

import shutil
import struct
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.demo.rpm_bytes import Row, hash_file, header, slot_file
from filigree.families.rpm import described
from filigree.formats.random_access import ContainerError, MemoryBytes
from filigree.formats.rpm import tags
from filigree.formats.rpm.bdb_hash import byte_order, is_hash_file, read_pairs
from filigree.formats.rpm.header import MAGIC, Header, HeaderError, Type, read_header
from filigree.formats.rpm.slot_file import is_slot_file, read_slots
from filigree.formats.rpm.versions import compare_versions, part_key

# -- versions --------------------------------------------------------------------------------

OLDER_NEWER = [
    ("1.0", "1.1"), ("1.9", "1.10"), ("1.0", "1.0.1"), ("1.0~rc1", "1.0"), ("1.0~rc1", "1.0~rc2"),
    ("1.0~", "1.0"), ("1.0~~", "1.0~"), ("1.0", "1.0^"), ("1.0^", "1.0.1"), ("1.0^git1", "1.0^git2"),
    ("1.0^git1", "1.01"), ("1.0~rc1^git1", "1.0"), ("1.0~rc1", "1.0~rc1^git1"), ("1.0a", "1.0.1"),
    ("a", "1"), ("1.0a", "1.0b"), ("1.0A", "1.0a"), ("9", "1:0"), ("1:9", "2:0"), ("1.0-1", "1.0-2"),
    ("1.0-1", "1.0-1.1"), ("1.0-1.fc1", "1.0-1.fc2"), ("1.0", "1.0.a"), ("8" * 20, "9" * 20),
    ("5.5p1", "5.5p2"), ("5.5p1", "5.5p10"), ("10xyz", "10.1xyz"), ("xyz10", "xyz10.1"),
    ("xyz.4", "8"), ("2_0", "2.0.1"),
]  # fmt: skip
SAME = [
    ("1.0", "1.0"), ("1.0", "0:1.0"), ("1.0", "1_0"), ("1.0", "1..0"), ("1.0", "1.0."), ("1.01", "1.1"),
    ("1.0", "1.0-9"), ("1.0-1", "1.0"), ("+", "_"), ("1.a", "1a"), ("", "."),
]  # fmt: skip


@pytest.mark.parametrize(("older", "newer"), OLDER_NEWER)
def test_known_pairs(older: str, newer: str) -> None:
    assert compare_versions(older, newer) == -1
    assert compare_versions(newer, older) == 1


@pytest.mark.parametrize(("one", "other"), SAME)
def test_versions_that_are_the_same(one: str, other: str) -> None:
    assert compare_versions(one, other) == 0


PARTS = st.text(st.sampled_from("019aZ~^.+_"), max_size=8)


@given(PARTS, PARTS, PARTS)
def test_the_order_of_parts_is_total(a: str, b: str, c: str) -> None:
    keys = sorted([part_key(a), part_key(b), part_key(c)])
    assert keys[0] <= keys[1] <= keys[2]
    assert compare_versions(f"{a}-{b}", f"{b}-{c}") == -compare_versions(f"{b}-{c}", f"{a}-{b}")


# -- headers ---------------------------------------------------------------------------------

ROWS: list[Row] = [
    (tags.NAME, Type.STRING, "tidegauge"),
    (tags.VERSION, Type.STRING, "2.1"),
    (tags.EPOCH, Type.INT32, 1),
    (1004, Type.TRANSLATED, ["Reads the gauge", "Liest den Pegel"]),
    (1030, Type.INT16, [0o100755, 0o40755]),
    (tags.LONG_FILE_SIZES, Type.INT64, [1 << 40, 7]),
    (tags.DIRECTORY_INDEXES, Type.INT32, [1, 0]),
    (tags.BASE_NAMES, Type.STRINGS, ["tidegauge", "b\udcff"]),
    (tags.DIRECTORY_NAMES, Type.STRINGS, ["/etc/", "/usr/bin/"]),
    (1029, Type.CHAR, [0, 3]),
    (261, Type.BINARY, b"\x00\x01\x02"),
    (999_999, Type.STRING, "unknown tags are kept"),
]


def test_every_type_is_read_as_written() -> None:
    found = read_header(header(ROWS))
    assert found.text(tags.NAME) == "tidegauge"
    assert found.number(tags.EPOCH) == 1
    assert found.texts(1004) == ("Reads the gauge", "Liest den Pegel")
    assert found.numbers(1030) == (0o100755, 0o40755)
    assert found.sizes == (1 << 40, 7)
    assert found.paths == ("/usr/bin/tidegauge", "/etc/b\udcff")
    assert found.value(1029) == (0, 3)
    assert found.value(261) == b"\x00\x01\x02"
    assert found.text(999_999) == "unknown tags are kept"
    assert found.value(1) is None
    assert found.number(tags.NAME) is None
    assert found.texts(tags.EPOCH) == ()


def test_whole_names_of_long_ago() -> None:
    found = read_header(header([(tags.OLD_FILE_NAMES, Type.STRINGS, ["/bin/a", "/etc/a"])]))
    assert found.paths == ("/bin/a", "/etc/a")


def test_the_immutable_part_is_what_was_signed() -> None:
    signed = header(ROWS, magic=True)
    installed = header(ROWS, after=[(1008, Type.INT32, 1_768_200_000), (1127, Type.INT32, 0)])
    assert read_header(signed, magic=True).immutable() == signed
    assert read_header(installed).immutable() == signed
    assert read_header(installed).number(1008) == 1_768_200_000
    assert read_header(header(ROWS, region=None)).immutable() is None


@pytest.mark.parametrize(
    ("blob", "why"),
    [
        (b"", "without its counts"),
        (struct.pack(">2I", 1, 0), "is cut off"),
        (struct.pack(">2I", 0xFFFFFFFF, 0xFFFFFFFF), "is cut off"),
        (header(ROWS)[:-1], "is cut off"),
    ],
)
def test_counts_are_claims(blob: bytes, why: str) -> None:
    with pytest.raises(HeaderError, match=why):
        read_header(blob)


@pytest.mark.parametrize(
    ("entry", "why"),
    [
        ((1000, 6, 99, 1), "outside|fewer"),
        ((1000, 8, 0, 0xFFFFFFFF), "fewer"),
        ((1000, 4, 0, 0x40000000), "reach out"),
        ((1000, 7, 2, 3), "reach out"),
        ((1000, 77, 0, 1), "unknown type"),
    ],
)
def test_entries_are_claims(entry: tuple[int, int, int, int], why: str) -> None:
    blob = struct.pack(">2I", 1, 4) + struct.pack(">4I", *entry) + b"abcd"
    with pytest.raises(HeaderError, match=why):
        read_header(blob).value(1000)


def test_a_region_that_does_not_end_where_it_says() -> None:
    good = header(ROWS)
    count, _ = struct.unpack_from(">2I", good)
    region_offset = struct.unpack_from(">4I", good, 8)[2]
    trailer = 8 + 16 * count + region_offset
    for back in (0, -8, -16 * (count + 1), 16):
        bad = good[: trailer + 8] + struct.pack(">i", back) + good[trailer + 12 :]
        with pytest.raises(HeaderError, match="region"):
            read_header(bad).immutable()


def test_every_tag_has_a_name_and_a_meaning() -> None:
    assert tags.tag_name(1000) == "Name"
    assert tags.tag_name(1000, signing=True) == "Size"
    assert tags.tag_name(424_242) == "Tag424242"
    names = [tag.name for tag in tags.TAGS.values()]
    assert len(set(names)) == len(names)
    assert all(tag.meaning for tag in tags.SIGNATURE_TAGS.values())


GOOD = header(ROWS, after=[(1008, Type.INT32, 7)])


@given(
    st.lists(st.tuples(st.integers(0, len(GOOD) - 1), st.integers(0, 255)), max_size=8),
    st.integers(0, len(GOOD)),
)
def test_mutated_headers_are_values_or_header_errors(
    edits: list[tuple[int, int]], cut: int
) -> None:
    data = bytearray(GOOD)
    for at, byte in edits:
        data[at] = byte
    for blob in (bytes(data), bytes(data[:cut])):
        try:
            found = Header(blob)
        except HeaderError:
            continue
        for read in (lambda h: h.paths, lambda h: h.sizes, lambda h: h.immutable()):
            with_error(lambda read=read, found=found: read(found))
        for tag in found:
            with_error(lambda tag=tag, found=found: found.value(tag))


def with_error(read: object) -> None:
    assert callable(read)
    try:
        read()
    except HeaderError:
        pass


def test_the_magic_is_asked_for() -> None:
    with pytest.raises(HeaderError):
        read_header(header(ROWS), magic=True)
    assert read_header(b"lead" + header(ROWS, magic=True), 4, magic=True).text(1000) == "tidegauge"
    assert MAGIC.startswith(b"\x8e\xad\xe8\x01")


# -- containers ------------------------------------------------------------------------------

BLOBS = [GOOD, b"", b"x" * 5000, b"yz"]


def test_a_slot_file_gives_back_its_blobs() -> None:
    source = MemoryBytes(slot_file(BLOBS))
    assert is_slot_file(source)
    assert [(blob.number, blob.data) for blob in read_slots(source)] == list(enumerate(BLOBS, 1))


def test_a_damaged_blob_costs_itself() -> None:
    data = bytearray(slot_file(BLOBS))
    at = data.index(b"xxxx")
    data[at] = 0
    found = list(read_slots(MemoryBytes(bytes(data))))
    assert [blob.data for blob in found] == [GOOD, b"", None, b"yz"]
    assert found[2].damage is not None
    assert "checksum" in found[2].damage


LARGE = bytes(range(256)) * 20
PAIRS = [(b"\0\0\0\0", b"\x05\0\0\0"), (b"\x01\0\0\0", GOOD), (b"\x02\0\0\0", LARGE), (b"k", b"")]


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("version", [8, 9])
@pytest.mark.parametrize("size", [512, 4096, 65536 // 2])
def test_a_hash_file_gives_back_its_pairs(order: str, version: int, size: int) -> None:
    source = MemoryBytes(hash_file(PAIRS, order, size, version))
    assert is_hash_file(source)
    assert byte_order(source) == order
    assert [(pair.key, pair.value) for pair in read_pairs(source)] == PAIRS


def test_a_chain_that_goes_in_a_circle_ends() -> None:
    data = bytearray(hash_file([(b"k", LARGE)]))
    second = 3 * 512
    data[second + 16 : second + 20] = struct.pack("<I", 2)  # the page after the second is the first
    (pair,) = read_pairs(MemoryBytes(bytes(data)))
    assert pair.value is None or len(pair.value) == len(LARGE)


@pytest.mark.parametrize("reader", [read_slots, read_pairs])
@pytest.mark.parametrize("data", [b"", b"RpmP", b"\0" * 5000, b"RpmP" + b"\xff" * 5000])
def test_what_is_no_container_is_refused(reader: object, data: bytes) -> None:
    assert callable(reader)
    with pytest.raises(ContainerError):
        list(reader(MemoryBytes(data)))


def test_a_hash_file_that_is_another_says_so() -> None:
    data = bytearray(hash_file(PAIRS))
    data[25] ^= 1
    with pytest.raises(ContainerError, match="the first page describes no hash"):
        list(read_pairs(MemoryBytes(bytes(data))))


def test_a_slot_beyond_the_end_says_so() -> None:
    data = slot_file(BLOBS)
    with pytest.raises(ContainerError, match="became shorter while it was read"):
        list(read_slots(MemoryBytes(data), len(data) - 3))


@pytest.mark.parametrize(("size", "says"), [(64, ""), (65, " … (65 bytes)")])
def test_long_values_are_told_by_their_start(size: int, says: str) -> None:
    assert described._told(bytes(size)) == "00" * 64 + says


SLOTS, HASHES = slot_file(BLOBS), hash_file(PAIRS)


@given(st.data())
def test_mutated_containers_are_pairs_or_damage(data: st.DataObject) -> None:
    for whole, reader in ((SLOTS, read_slots), (HASHES, read_pairs)):
        mutated = bytearray(whole)
        for _ in range(data.draw(st.integers(1, 6))):
            mutated[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
        cut = data.draw(st.integers(0, len(whole)))
        for blob in (bytes(mutated), bytes(mutated[:cut])):
            try:
                found = list(reader(MemoryBytes(blob)))
            except ContainerError:
                continue
            assert len(found) <= len(whole) // 8


def test_a_file_that_the_librarys_own_tools_wrote(tmp_path: Path) -> None:
    if shutil.which("db5.3_load") is None:
        pytest.skip("db5.3_load is not here to write a hash file")
    pairs = {f"{number:04x}": bytes([number % 256]) * (number * 37) for number in range(1, 300)}
    text = "VERSION=3\nformat=bytevalue\ntype=hash\ndb_pagesize=4096\nHEADER=END\n"
    for key, value in pairs.items():
        text += f" {key}\n {value.hex()}\n"
    subprocess.run(
        ["db5.3_load", str(tmp_path / "Packages")], input=text + "DATA=END\n", text=True, check=True
    )
    found = list(read_pairs(MemoryBytes((tmp_path / "Packages").read_bytes())))
    assert {pair.key.hex(): pair.value for pair in found} == pairs
    assert [pair.damage for pair in found if pair.damage] == []
