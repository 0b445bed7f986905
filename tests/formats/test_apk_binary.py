"""The binary form of `apk`: each of its three files, each packing, and what is wrong with one."""

import random
import stat
import struct
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.formats.apk.binary import (
    BinaryError,
    BinaryFile,
    BinaryPackage,
    is_binary,
    read_binary_records,
)
from filigree.formats.apk.records import LetteredRecord
from filigree.formats.damage import Damage
from filigree.formats.random_access import MemoryBytes
from filigree.formats.unpacking import UnpackError, renew_allowance
from tests.binary_form import Values, block, deflated, whole, zstd

TOLD = {
    "P": "tidegauge", "V": "2.1-r3", "C": bytes(range(32)), "T": "Reads the gauge\nand writes",
    "A": "x86_64", "L": "custom", "o": "tidegauge",
    "m": "Ottoline Marsh <ottoline@tides.example>", "c": b"\xab\xcd",
    "t": 1_768_206_600, "I": 4096, "S": 1 << 40, "k": 10,
    "D": [("libbrine2", 5, "2.1"), ("so:libsaltc.so.6",), ("weirgate", 16)],
    "p": [("cmd:tidegauge", 1, "2.1-r3")], "i": [("mudflatd",), ("seaholly",)],
}  # fmt: skip


def package(values: Values) -> int:
    link = struct.pack("<H", stat.S_IFLNK | 0o777) + b"tidegauge"
    twin = struct.pack("<H", stat.S_IFREG | 0o755) + b"usr/bin/tidegauge"
    device = struct.pack("<HQ", stat.S_IFCHR | 0o600, 0x105)
    folders = [
        values.folder("", []),
        values.folder("usr/bin", [
            values.file("tidegauge", b"code", 0o4755), values.file("tg", target=link),
            values.file("tgx", b"code", target=twin), values.file("gauge0", target=device),
        ]),
        values.folder("etc", [values.file("gauge.conf", b"a = 1\n")], 0o750),
    ]  # fmt: skip
    scripts = [0, values.text("exit 0\n"), values.text("exit 1\n")]
    return values.members([
        values.info(TOLD), values.listed(folders), values.members(scripts), 0, values.number(7),
    ])  # fmt: skip


def archive() -> bytes:
    values = Values()
    root = package(values)
    return whole("package", values.done(root), [(2, 1, b"code"), (3, 1, b"a = 1\n")])


def opened(data: bytes) -> BinaryFile:
    renew_allowance()
    return BinaryFile(MemoryBytes(data))


PACKINGS: dict[str, Callable[[bytes], bytes]] = {
    "plain": bytes, "deflated": deflated, "zstd": zstd,
    "packed by nothing": lambda data: b"ADBc\0\0" + data,
}  # fmt: skip


@pytest.mark.parametrize("packing", PACKINGS)
def test_a_package_is_read_whole(packing: str) -> None:
    data = PACKINGS[packing](archive())
    assert is_binary(data)
    file = opened(data)
    assert file.schema == "package"
    (told,) = file.packages()
    assert isinstance(told, BinaryPackage)
    fields = told.record.fields
    assert (fields["P"], fields["V"], fields["A"]) == ("tidegauge", "2.1-r3", "x86_64")
    assert fields["T"] == "Reads the gauge and writes"
    assert fields["D"] == "libbrine2>=2.1 so:libsaltc.so.6 !weirgate"
    assert fields["p"] == "cmd:tidegauge=2.1-r3"
    assert fields["i"] == "mudflatd seaholly"
    assert (fields["S"], fields["t"], fields["k"], fields["q"]) == (
        str(1 << 40),
        "1768206600",
        "10",
        "7",
    )
    assert fields["C"] == "Q2AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8="
    assert fields["c"] == "abcd"
    paths = {one.path: one for one in told.record.paths}
    assert list(paths) == [
        "", "usr/bin", "usr/bin/tidegauge", "usr/bin/tg", "usr/bin/tgx", "usr/bin/gauge0", "etc",
        "etc/gauge.conf",
    ]  # fmt: skip
    gauge = paths["usr/bin/tidegauge"]
    assert (gauge.mode, gauge.size, gauge.owner) == (0o4755, 4, "root")
    assert (gauge.digest or "").startswith("sha256:5694d08a2e53ffcae0c3103e5ad6f6076abd960e")
    assert paths["usr/bin/tg"].target == "tidegauge"
    assert paths["usr/bin/tgx"].same_as == "usr/bin/tidegauge"
    assert paths["usr/bin/gauge0"].device == 0x105
    assert told.scripts == {"pre-install": b"exit 0\n", "post-install": b"exit 1\n"}
    held = [(numbers, size, b"".join(pieces)) for numbers, size, pieces in file.contents()]
    assert held == [((2, 1), 4, b"code"), ((3, 1), 6, b"a = 1\n")]


@pytest.mark.parametrize("long", [False, True])
def test_indexes_and_installed_records(long: bool) -> None:
    values = Values()
    infos = [values.info({"P": f"shoal{n}", "V": f"1.{n}-r0"}) for n in range(300)]
    root = values.members([values.text("The office's"), values.listed(infos)])
    data = whole("index", values.done(root), long=long)
    found = list(read_binary_records(data))
    assert [one.fields["P"] for one in found if isinstance(one, LetteredRecord)] == [
        f"shoal{n}" for n in range(300)
    ]
    values = Values()
    root = values.members([values.listed([package(values), package(values)])])
    records = list(read_binary_records(whole("installed", values.done(root), long=long)))
    assert [len(one.paths) for one in records if isinstance(one, LetteredRecord)] == [8, 8]


def test_contents_can_be_passed_over() -> None:
    values = Values()
    root = package(values)
    big = bytes(300_000)
    data = whole("package", values.done(root), [(2, 1, big), (3, 1, b"a = 1\n")], long=True)
    found = []
    for numbers, size, pieces in opened(data).contents():
        if numbers == (2, 1):
            assert next(pieces)  # and no more of it
        else:
            assert b"".join(pieces) == b"a = 1\n"
        found.append((numbers, size))
    assert found == [((2, 1), 300_000), ((3, 1), 6)]


# -- what is wrong ---------------------------------------------------------------------------


def values_of(change: Callable[[Values], int]) -> bytes:
    values = Values()
    root = change(values)
    return whole("package", values.done(root))


WRONG: dict[str, bytes] = {
    "nothing": b"", "a mark alone": b"ADB.", "another schema": b"ADB.gull" + block(0, bytes(8)),
    "no values": b"ADB.pckg", "a signature first": b"ADB.pckg" + block(1, bytes(8)),
    "a block that ends early": b"ADB.pckg" + struct.pack("<I", 4000) + bytes(40),
    "a block smaller than its head": b"ADB.pckg" + struct.pack("<I", 2) + bytes(40),
    "a long block smaller than its head": b"ADB.pckg" + struct.pack("<IIQ", 3 << 30, 0, 4) + bytes(40),
    "a long block of all there is": b"ADB.pckg" + struct.pack("<IIQ", 3 << 30, 0, (1 << 64) - 1),
    "values that are cut off": b"ADB.pckg" + block(0, bytes(4)),
    "no root": values_of(lambda _: 0),
    "a root that is a number": values_of(lambda values: values.number(7)),
    "a root behind the end": values_of(lambda _: 0xE << 28 | 0xFFFFFF),
    "a list without end": values_of(lambda values: values.members([1 << 28]) and 0xE << 28 | 4),
    "packed in a way of its own": b"ADBc\x09\x01" + bytes(40),
    "packed, and no end": deflated(archive())[:60],
    "packed twice": deflated(deflated(archive())),
}  # fmt: skip


@pytest.mark.parametrize("what", WRONG)
def test_what_makes_no_sense_is_refused(what: str) -> None:
    with pytest.raises((BinaryError, UnpackError)):
        list(opened(WRONG[what]).packages())
    assert all(isinstance(one, Damage) for one in read_binary_records(WRONG[what]))


@pytest.mark.parametrize("name", ["../up", "", "..", "a/b"])
def test_names_that_lead_elsewhere_are_refused(name: str) -> None:
    data = values_of(
        lambda v: v.members([v.info(TOLD), v.listed([v.folder("usr", [v.file(name, b"x")])])])
    )
    with pytest.raises(BinaryError, match="no name"):
        list(opened(data).packages())


@pytest.mark.parametrize("schema", ["index", "installed"])
def test_a_root_that_holds_nothing_is_empty(schema: str) -> None:
    assert list(read_binary_records(whole(schema, Values().done(0)))) == []


def test_one_damaged_package_costs_itself() -> None:
    values = Values()
    infos = [
        values.info({"P": "a", "V": "1"}),
        0x8 << 28 | 9_999_999,
        values.info({"P": "b", "V": "1"}),
    ]
    data = whole("index", values.done(values.members([0, values.listed(infos)])))
    assert [type(one) for one in read_binary_records(data)] == [
        LetteredRecord,
        Damage,
        LetteredRecord,
    ]


def test_values_that_hold_each_other_again_and_again_are_bounded() -> None:
    """A list of one package many times over is small as it lies, and large when it is read."""
    values = Values()
    heavy = values.info({"P": "a", "V": "1", "T": "x" * 60_000})
    data = whole("index", values.done(values.members([0, values.listed([heavy] * 100_000)])))
    found = list(read_binary_records(data))
    assert isinstance(found[-1], Damage)
    assert "more often than makes sense" in found[-1].why
    assert len(found) < 1000


@given(st.data())
def test_cut_off_anywhere_it_ends(data: st.DataObject) -> None:
    whole_file = PACKINGS[data.draw(st.sampled_from(sorted(PACKINGS)))](archive())
    cut = data.draw(st.integers(0, len(whole_file) - 1))
    try:
        file = opened(whole_file[:cut])
        list(file.packages())
        for _, _, pieces in file.contents():
            list(pieces)
    except (BinaryError, UnpackError):
        return
    # Only what fills up a block at its end may be missing.
    assert len(whole_file) - cut <= 8


def test_two_thousand_mutations_end() -> None:
    dice = random.Random("blocks")
    seeds = [packing(archive()) for packing in PACKINGS.values()]
    refused = 0
    for _ in range(2000):
        data = bytearray(dice.choice(seeds))
        for _ in range(dice.randrange(1, 6)):
            at = dice.randrange(len(data))
            data[at : at + dice.randrange(3)] = dice.randbytes(dice.randrange(3))
        try:
            file = opened(bytes(data))
            list(file.packages())
            for _, _, pieces in file.contents():
                list(pieces)
        except (BinaryError, UnpackError):
            refused += 1
    assert refused > 500
