"""The other indexes: paths, advisories, groups, changes, streams, mirrors; as written, and hostile."""

import gzip
import json
import lzma
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.demo.offering import deb_indexes
from filigree.demo.rpm_repository import rpm_indexes
from filigree.families.rpm.offers import read_advisories, read_changes, read_groups, read_offers
from filigree.formats.damage import Damage
from filigree.formats.deb.configuration import read_configuration
from filigree.formats.deb.contents import LINE_LIMIT, read_contents
from filigree.formats.deb.index import read_index
from filigree.formats.deb.preferences import read_preferences
from filigree.formats.openpgp import judge_clear_signed
from filigree.formats.openpgp_keys import read_keys
from filigree.formats.random_access import MemoryBytes
from filigree.formats.rpm.lists import read_collections, read_named, read_updates
from filigree.formats.rpm.metalink import read_metalink
from filigree.formats.rpm.modules import Default, ModulesError, ModuleStream, read_modules
from filigree.formats.rpm.primary import read_primary
from filigree.formats.rpm.repomd import XmlError
from filigree.formats.unpacking import Unpacked, UnpackError
from filigree.model.repositories import Membership
from filigree.model.signatures import SignatureVerdict

DATA = Path(__file__).parents[1] / "data"
XML = rpm_indexes()


def pieces(data: bytes, step: int) -> list[bytes]:
    return [data[at : at + step] for at in range(0, len(data), step)]


def contents(text: str, step: int = 1 << 20) -> list[Any]:
    return list(read_contents(pieces(text.encode("utf-8", "surrogateescape"), step)))


def test_paths_and_their_packages() -> None:
    text = (
        "bin/dsh                 shells/dulse\nusr/share/a b/c d.tbl\tscience/tide,contrib/other/x\n"
        "./usr/lib/x  libs/x\nusr/\udcff  libs/y"
    )
    expected = [
        ("/bin/dsh", "dulse"), ("/usr/share/a b/c d.tbl", "tide"), ("/usr/share/a b/c d.tbl", "x"),
        ("/usr/lib/x", "x"), ("/usr/\udcff", "y"),
    ]  # fmt: skip
    for step in (1, 3, 7, 1000):
        assert contents(text, step) == expected


def test_a_text_before_the_paths_of_long_ago() -> None:
    text = "This file maps files to packages.\nIt is large.\n\nFILE   LOCATION\nbin/a  x/a\nodd\n"
    found = contents(text)
    assert found[0] == ("/bin/a", "a")
    assert isinstance(found[1], Damage)


@pytest.mark.parametrize("step", [1 << 12, 1 << 16, 1 << 23])
def test_a_line_of_a_million_signs(step: int) -> None:
    text = "bin/a  x/a\n" + "y" * (LINE_LIMIT + 5) + "  x/y\nbin/b  x/b\n"
    found = contents(text, step)
    assert (found[0], found[2]) == (("/bin/a", "a"), ("/bin/b", "b"))
    assert isinstance(found[1], Damage)


def test_the_fields_of_an_index_with_a_line_of_a_million_signs() -> None:
    long = (
        b"Package: a\nVersion: 1\nDescription: "
        + b"x" * 1_000_000
        + b"\n\nPackage: b\nVersion: 2\n"
    )
    for step in (1 << 10, 1 << 18):
        found = [one for one in read_index(pieces(long, step)) if not isinstance(one, Damage)]
        assert [one.fields["Package"] for one in found] == ["a", "b"]
    endless = b"Package: a\nDescription: " + b"x" * (40 << 20) + b"\n\nPackage: b\nVersion: 2\n"
    told = list(read_index(pieces(endless, 1 << 20)))
    assert isinstance(told[0], Damage)


def test_primary_tells_relations_paths_and_both_kinds_of_text() -> None:
    by_name = {offer.name: offer for offer in read_offers(pieces(XML["primary"], 999))}
    weir = by_name["weirgate"]
    assert ("path", "/etc/weirgate.conf") in weir.named
    assert ("provides", "config(weirgate)") in weir.named
    assert ("obsoletes", "ropewalk-common") in by_name["ropewalk-patterns"].named
    one = next(o for o in read_primary([XML["primary"]]) if o.texts["name"] == "weirgate")
    assert ("lockgate", 0, "") in one.relations["conflicts"]
    assert ("libsluice3", 12, "3.1") in one.relations["requires"]
    before = [flags for name, flags, _ in one.relations["requires"] if name == "/usr/bin/dsh"]
    assert not before or before[0] & (1 << 6)


def test_advisories_groups_and_changes() -> None:
    fixes = {one.identity: one for one in read_advisories(pieces(XML["updateinfo"], 50))}
    first = fixes["TIDE-2026-11"]
    assert (first.kind, first.severity, first.security) == ("security", "important", True)
    assert {name for name, _, _ in first.fixed} == {"jetty", "jetty-client"}
    assert first.issued_at == datetime(2026, 2, 19, 8, 30, tzinfo=UTC)
    assert (fixes["TIDE-2026-14"].kind, fixes["TIDE-2026-14"].severity) == ("repair", None)
    groups = {one.identity: one for one in read_groups(pieces(XML["group"], 7))}
    station = groups["gauge-station"]
    assert station.name == "Gauge station"
    assert ("tidegauge", Membership.MANDATORY) in station.members
    assert groups["gauge-house"].groups == ("gauge-station", "coast-network")
    changes = list(read_changes([XML["other"]]))
    assert all(holder.count("\t") == 2 and change.at for holder, change in changes)


def test_streams() -> None:
    found = list(read_modules([XML["modules"]]))
    assert Default("tide", "1") in found
    assert {one.stream for one in found if isinstance(one, ModuleStream)} == {"1", "2"}
    text = b"---\ndocument: modulemd\ndata:\n  name: x\n  stream: 1.10\n"
    text += b"  artifacts: {rpms: [a-0:1-1.x, 7]}\n"
    assert list(read_modules([text])) == [ModuleStream("x", "1.10", ("a-0:1-1.x", "7"))]


@pytest.mark.parametrize(
    "text",
    ["a: &a [1]\nb: *a\n", "a: [", "\x00", "!!python/object/apply:os.system [x]", "{" * 5000,
     "a: &a [x, x]\nb: &b [*a, *a]\nc: &c [*b, *b]\nd: [*c, *c]\n"],
)  # fmt: skip
def test_hostile_documents(text: str) -> None:
    with pytest.raises(ModulesError):
        list(read_modules([text.encode()]))


HOSTILE = (
    b'<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;">]><x>&b;</x>',
    b'<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]><x>&a;</x>',
    b'<!DOCTYPE x SYSTEM "http://127.0.0.1:9/x.dtd"><x>&undefined;</x>',
    b"<x>&undefined;</x>",
    b"<x",
    b"\xff\xfe<",
    b"<x>" * 100_000,
)
READERS: tuple[Callable[[Iterable[bytes]], Iterable[Any]], ...] = (
    read_primary, read_named, read_updates, read_collections, lambda data: [read_metalink(data)],
)  # fmt: skip


@pytest.mark.parametrize("reader", READERS)
@pytest.mark.parametrize("data", HOSTILE, ids=range(len(HOSTILE)))
def test_entities_and_nonsense_are_refused(
    reader: Callable[[Iterable[bytes]], Iterable[Any]], data: bytes
) -> None:
    with pytest.raises(XmlError):
        list(reader([data]))


def test_a_text_without_end_is_refused() -> None:
    text = [b"<metadata><package><summary>", *[b"x" * (1 << 16)] * 40, b"</summary></package>"]
    with pytest.raises(XmlError, match="a text of more than"):
        list(read_primary(text))


def test_mirrors_and_their_digest() -> None:
    text = (
        '<metalink xmlns="x"><files><file name="repomd.xml"><mm0:alternates xmlns:mm0="y"><a>'
        '<hash type="sha256">11</hash></a></mm0:alternates><verification><hash type="md5">22</hash>'
        '<hash type="sha512">AB</hash></verification><resources><url>https://a.example/repodata/repomd.xml'
        "</url><url>rsync://b.example/x</url></resources></file></files></metalink>"
    )
    found = read_metalink([text.encode()])
    assert found.digest == "sha512:ab"
    assert found.addresses[0] == "https://a.example/repodata/repomd.xml"
    assert read_metalink([b"<metalink/>"]).addresses == ()


@pytest.mark.parametrize("pack", [gzip.compress, lzma.compress])
def test_what_would_expand_without_end(pack: Callable[[bytes], bytes]) -> None:
    # One packed part after the other: each is honest, and all of them are 100 GB.
    part = pack(bytes(64 << 20))
    count = (100 << 30) // (64 << 20)
    data = _Repeated(part, count)
    stream = Unpacked(data, 0, data.size)

    def read_on() -> None:
        while stream.read(1 << 22):
            assert stream.position < 3 << 30

    with pytest.raises(UnpackError):
        read_on()


class _Repeated(MemoryBytes):
    """The same bytes over and over, without having them all."""

    def __init__(self, part: bytes, count: int) -> None:
        super().__init__(part)
        self._part, self._count = part, count

    @property
    def size(self) -> int:
        return len(self._part) * self._count

    def at(self, offset: int, count: int) -> bytes:
        start = offset % len(self._part)
        end = min(offset + count, self.size) - offset
        return (self._part * (2 + end // len(self._part)))[start : start + end]


def test_a_signature_by_an_algorithm_of_long_ago() -> None:
    key = DATA / "key-of-long-ago.asc"
    signature, text = judge_clear_signed(
        (DATA / "signed-with-sha1.asc").read_bytes(), read_keys(key.read_bytes(), str(key)),
        datetime(2026, 12, 1, tzinfo=UTC),
    )  # fmt: skip
    assert (signature.verdict, signature.signers[0].verdict) == (
        SignatureVerdict.WEAK,
        SignatureVerdict.WEAK,
    )
    assert signature.reason == "it is made with SHA1, which is no longer trusted"
    assert text.startswith(b"Origin: Office")


# -- mutated ---------------------------------------------------------------------------------

_CONTENTS = deb_indexes("saltmarsh")[0]["main/Contents-amd64"][:4000]
_BITS = [XML[kind][:6000] for kind in ("primary", "filelists", "updateinfo", "group", "other")]


@given(st.sampled_from(_BITS), st.binary(max_size=40), st.integers(0, 6000), st.integers(0, 200))
def test_mutated_lists_are_read_or_refused(data: bytes, put: bytes, at: int, cut: int) -> None:
    mutated = data[:at] + put + data[at + cut :]
    for reader in READERS:
        try:
            list(reader(pieces(mutated, 512)))
        except XmlError:
            pass


@given(st.binary(max_size=60), st.integers(0, 4000), st.integers(0, 300), st.integers(1, 600))
def test_mutated_paths_are_paths_or_damages(put: bytes, at: int, cut: int, step: int) -> None:
    for row in read_contents(pieces(_CONTENTS[:at] + put + _CONTENTS[at + cut :], step)):
        assert isinstance(row, Damage) or row[0].startswith("/")


@given(st.binary(max_size=200))
def test_any_bytes_are_settings_and_preferences_or_none(data: bytes) -> None:
    assert all(name == name.lower() for name in read_configuration(data))
    list(read_preferences(data))
    list(read_preferences(b"Package: a\nPin-Priority: 1\nPin: " + data))
    try:
        list(read_modules([data]))
    except ModulesError:
        pass


_NAMES = ["document", "data", "name", "stream", "artifacts", "rpms", "module", "modulemd"]
_SHAPES = st.recursive(
    st.none() | st.text(max_size=5) | st.integers(),
    lambda kids: (
        st.lists(kids, max_size=3) | st.dictionaries(st.sampled_from(_NAMES), kids, max_size=4)
    ),
    max_leaves=12,
)


@given(_SHAPES)
def test_documents_of_any_shape(value: Any) -> None:
    for kind in ("modulemd", "modulemd-defaults"):
        document = {"document": kind, "data": value}
        try:
            list(read_modules([json.dumps(document).encode()]))
        except ModulesError:
            pass
