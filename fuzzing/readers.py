"""Every reader of what a system, a repository or an archive holds: bytes in, looked at to its end."""

import gzip
import io
import lzma
import struct
import tarfile
import tempfile
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any, NamedTuple

from filigree.access.images.layers import LayerPromise, LayerReader
from filigree.access.images.overlay import Overlay
from filigree.demo import apk, arch, curlew, deb, dunlin, plover, rpm, sanderling, slackware
from filigree.demo.goods import goods_of
from filigree.demo.repository import clear_signed, detached, public_key
from filigree.demo.rpm_bytes import hash_file, slot_file
from filigree.demo.rpm_repository import rpm_indexes
from filigree.demo.world import WARES
from filigree.families.apk import offers as apk_offers
from filigree.families.apk.archive import BinaryArchive, MembersArchive
from filigree.families.arch.archive import ArchArchive
from filigree.families.deb.archive import DebArchive
from filigree.families.rpm.archive import RpmArchive
from filigree.families.rpm.signatures import record_signature
from filigree.families.slackware.archive import SlackwareArchive
from filigree.formats import (
    accounts,
    ar,
    bounded_yaml,
    change_logs,
    cpio,
    digest_list,
    file_capabilities,
    key_box,
    link_groups,
    openpgp,
    openpgp_keys,
    os_release,
    patterns,
    stanzas,
    tar_stream,
    temporary_files,
    unpacking,
)
from filigree.formats.apk import binary as apk_binary
from filigree.formats.apk import fixes as apk_fixes
from filigree.formats.apk import log as apk_log
from filigree.formats.apk import members as apk_members
from filigree.formats.apk import protection as apk_protection
from filigree.formats.apk import records as apk_records
from filigree.formats.apk import relations as apk_relations
from filigree.formats.apk import versions as apk_versions
from filigree.formats.arch import field_blocks, mtree, trust_database
from filigree.formats.arch import relations as arch_relations
from filigree.formats.arch import versions as arch_versions
from filigree.formats.deb import configuration as deb_configuration
from filigree.formats.deb import contents as deb_contents
from filigree.formats.deb import index as deb_index
from filigree.formats.deb import layout as deb_layout
from filigree.formats.deb import preferences as deb_preferences
from filigree.formats.deb import relations as deb_relations
from filigree.formats.deb import release as deb_release
from filigree.formats.deb import sources as deb_sources
from filigree.formats.deb import versions as deb_versions
from filigree.formats.images import descriptors
from filigree.formats.random_access import MemoryBytes
from filigree.formats.rpm import bdb_hash, metalink, repo_files, repomd
from filigree.formats.rpm import header as rpm_header
from filigree.formats.rpm import lists as rpm_lists
from filigree.formats.rpm import modules as rpm_modules
from filigree.formats.rpm import primary as rpm_primary
from filigree.formats.rpm import relations as rpm_relations
from filigree.formats.rpm import slot_file as slots
from filigree.formats.rpm import versions as rpm_versions
from filigree.formats.slackware import build_scripts, file_sizes, long_listing
from filigree.formats.slackware import changes as slackware_changes
from filigree.formats.slackware import names as slackware_names
from filigree.formats.slackware import needs as slackware_needs
from filigree.formats.slackware import records as slackware_records
from filigree.formats.slackware import scripts as slackware_scripts
from filigree.formats.slackware import versions as slackware_versions
from filigree.model.keys import Key
from filigree.model.needs import Relation

NOW = datetime(2026, 3, 1, tzinfo=UTC)


class Reader(NamedTuple):
    """What is done with bytes, and bytes that it begins with.

    `slow` is one that takes milliseconds an input: it gets a tenth of what the others get. `refuses` are
    errors, besides the product's own, by which it says what it does not take.
    """

    read: Callable[[bytes], object]
    seeds: tuple[bytes, ...]
    slow: bool = False
    refuses: tuple[type[Exception], ...] = ()


def every(items: Iterable[Any]) -> None:
    for _ in items:
        pass


def text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")


def pair(data: bytes) -> tuple[str, str]:
    one, _, other = text(data).partition("\n")
    return one, other


def stream(data: bytes) -> unpacking.Unpacked:
    return unpacking.Unpacked(MemoryBytes(data), 0, len(data))


@lru_cache(maxsize=1)
def office() -> list[Key]:
    return openpgp_keys.read_keys(public_key(), "office")


def header_of(data: bytes) -> None:
    found = rpm_header.read_header(data)
    every(found.paths)
    for tag in found:
        found.value(tag)
    record_signature(found, office(), NOW)


def whole_archive(kind: Callable[..., Any]) -> Callable[[bytes], None]:
    def read(data: bytes) -> None:
        unpacking.renew_allowance()
        found = kind(MemoryBytes(data), "x", lambda _: None)
        every(found.listing())
        every(found.files())
        every(found.configuration())
        every(found.expected())
        every(found.needs())
        every(found.capabilities())
        every(found.scripts())
        every(found.checks())
        found.signature(office(), NOW, b"")

    return read


def layer(data: bytes) -> None:
    """A layer, read into a record, and laid over nothing."""
    unpacking.renew_allowance()
    with tempfile.TemporaryDirectory() as folder:
        record, tree = f"{folder}/layer", f"{folder}/tree"
        LayerReader(record, lambda _: True, ("md5",)).read(MemoryBytes(data), LayerPromise())
        overlay = Overlay(tree, journal=True)
        overlay.lay(0, record)
        every(overlay.changes())
        overlay.close()


IMAGE = (
    b'{"schemaVersion":2,"manifests":[{"mediaType":"application/vnd.oci.image.manifest.v1+json",'
    b'"digest":"sha256:'
    + b"0"
    * 64
    + b'","size":9,"platform":{"os":"linux","architecture":"amd64"},'
    b'"annotations":{"org.opencontainers.image.ref.name":"a:1"}}]}',
    b'{"schemaVersion":2,"config":{"mediaType":"application/vnd.oci.image.config.v1+json",'
    b'"digest":"sha256:' + b"0" * 64 + b'","size":9},"layers":[{"mediaType":'
    b'"application/vnd.oci.image.layer.v1.tar+gzip","digest":"sha256:'
    + b"1" * 64
    + b'","size":7}]}',
    b'{"created":"2026-01-12T08:30:00Z","os":"linux","architecture":"amd64","config":{"User":"u",'
    b'"Env":["A=b"],"Entrypoint":["/x"],"Cmd":["y"],"ExposedPorts":{"1/tcp":{}}},"rootfs":{"type":"layers",'
    b'"diff_ids":["sha256:' + b"2" * 64 + b'"]},"history":[{"created":"2026-01-12T08:30:00Z",'
    b'"created_by":"RUN x"},{"empty_layer":true}]}',
    b'[{"Config":"c.json","RepoTags":["a:1"],"Layers":["a/layer.tar"]}]',
)


def _layer() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as tar:
        for name, kind, target in (
            ("usr", tarfile.DIRTYPE, ""), ("usr/a", tarfile.REGTYPE, ""), ("usr/.wh.b", tarfile.REGTYPE, ""),
            ("usr/.wh..wh..opq", tarfile.REGTYPE, ""), ("c", tarfile.SYMTYPE, "usr"),
            ("d", tarfile.LNKTYPE, "usr/a"), ("c/e", tarfile.REGTYPE, ""), ("dev", tarfile.CHRTYPE, ""),
        ):  # fmt: skip
            info = tarfile.TarInfo(name)
            info.type, info.linkname = kind, target
            info.pax_headers = {"mtime": "1.5", "SCHILY.xattr.security.capability": "x"}
            tar.addfile(info)
    return out.getvalue()


LAYER = _layer()


def unpacked(data: bytes) -> None:
    unpacking.renew_allowance()
    source = stream(data)
    while source.read(1 << 16):
        pass


def glob_of(data: bytes) -> None:
    pattern, subject = pair(data)
    patterns.glob(pattern).matches(subject)
    patterns.Patterns([patterns.glob(pattern), patterns.glob("*")]).every(subject)


def expression_of(data: bytes) -> None:
    pattern, subject = pair(data)
    patterns.expression(pattern).is_in(subject)


GAUGE = next(ware for ware in WARES if ware.name == "tidegauge")
ONE = deb.Installed(GAUGE, goods_of(GAUGE))
SHIPPED = curlew.shipped(GAUGE)
HEADER = rpm.installed_header(SHIPPED)
KEPT = plover.kept(GAUGE)
OLD = dunlin.kept(GAUGE)
XML = rpm_indexes()
REPOSITORY = dunlin.repository()
TAR = arch._tar(KEPT.goods)


def _xml(part: str) -> bytes:
    data = next(content for name, content in XML.items() if part in name)
    for unpack in (gzip.decompress, lzma.decompress):
        try:
            return unpack(data)
        except (OSError, lzma.LZMAError):
            continue
    return data


SMALL = sanderling.kept(GAUGE)
SMALL_INDEX = apk.index([sanderling.kept(ware) for ware in WARES[10:14]])


def _blocks(schema: bytes) -> bytes:
    """A package of a name and a version, in the form of blocks: by itself, or in a list."""
    data = bytearray(8)

    def put(what: bytes) -> int:
        data.extend(what)
        return len(data) - len(what)

    name, version = (0x80000000 | put(text) for text in (b"\5gauge", b"\x061.0-r0"))
    put(bytes(-len(data) % 4))
    root = 0xE0000000 | put(struct.pack("<3I", 3, name, version))
    if schema == b"pckg":
        root = 0xE0000000 | put(struct.pack("<2I", 2, root))
    else:
        listed = 0xD0000000 | put(struct.pack("<2I", 2, root))
        root = 0xE0000000 | put(struct.pack("<3I", 3, 0, listed))
    struct.pack_into("<I", data, 4, root)
    block = struct.pack("<I", len(data) + 4) + data
    return b"ADB." + schema + block + bytes(-len(block) % 8)


BLOCKS, BLOCK_INDEX = _blocks(b"pckg"), _blocks(b"indx")


def small_index(data: bytes) -> None:
    """An index of whatever form, to its end."""
    unpacking.renew_allowance()
    found = apk_offers.open_index(MemoryBytes(data))
    found.signature(office())
    every(apk_offers.read_offers(found, "x", lambda _: None))


def small_members(data: bytes) -> None:
    unpacking.renew_allowance()
    found = apk_members.SignedMembers(MemoryBytes(data), 3)
    for one in found.members:
        every(found.files(one))


READERS: dict[str, Reader] = {
    "apk versions": Reader(lambda d: (apk_versions.compare_versions(*pair(d)), apk_versions.begins(*pair(d))),
                           (b"1.02_rc1-r2\n1.2_p~1a-r10",)),
    "apk relation": Reader(lambda d: every(apk_relations.relations_in(text(d))), (b"a>=1 !b so:c.so.1=2 d@t ~e",)),
    "apk records": Reader(lambda d: every(apk_records.read_records([d])),
                          (("".join(f"{k}:{v}\n" for k, v in apk.fields_of(SMALL).items())
                            + "".join(apk._paths(SMALL.goods))).encode()[:3000],)),
    "apk protection": Reader(lambda d: every(apk_protection.read_protected(d)), (b"+etc\n-etc/*.d\n@a\n!b\n",)),
    "apk log": Reader(lambda d: (every(apk_log.read_log(d)), every(apk_log.read_runs(d))),
                      (b"Running `x` at 2026-01-12 08:30:00\n(1/1) Upgrading a (1 -> 2)\nOK: 1\n",)),
    "apk fixes": Reader(apk_fixes.read_fixes, (b'{"distroversion":"v1","reponame":"main","packages":[{"pkg":'
                        b'{"name":"a","secfixes":{"1.0-r0":["CVE-2026-1 X-2"],"0":["CVE-2026-3"]}}}]}',),
                        refuses=(ValueError,)),
    "apk blocks": Reader(lambda d: every(apk_binary.read_binary_records(d)), (BLOCKS, BLOCK_INDEX)),
    "apk members": Reader(small_members, (apk.archive(SMALL), SMALL_INDEX)),
    "apk index": Reader(small_index, (SMALL_INDEX, BLOCK_INDEX), refuses=(ValueError,)),
    "apk archive": Reader(whole_archive(MembersArchive), (apk.archive(SMALL),), True),
    "apk archive of blocks": Reader(whole_archive(BinaryArchive), (BLOCKS,)),
    "accounts": Reader(accounts.read_accounts, (b"root:x:0:0::/:/bin/dsh\n",)),
    "ar": Reader(lambda d: every(ar.read_members(MemoryBytes(d))), (deb.ar({"a": b"xyz", "b": b""}),)),
    "arch relation": Reader(lambda d: arch_relations.parse_wish(text(d)), (b"x>=1:2-3", b"x: for y")),
    "arch versions": Reader(lambda d: arch_versions.compare_versions(*pair(d)), (b"1:2.0-1\n1:2.0rc1-1",)),
    "hash file": Reader(lambda d: every(bdb_hash.read_pairs(MemoryBytes(d))),
                        (hash_file([(b"\1\0\0\0", b"x" * 5000), (b"\2\0\0\0", b"y")]),)),
    "yaml": Reader(lambda d: every(bounded_yaml.read_documents(d)), (b"---\na: {b: [c, 1.10]}\n",)),
    "script info": Reader(build_scripts.read_info, (slackware.info_text(GAUGE).encode(),)),
    "script list": Reader(lambda d: every(build_scripts.read_script_list([d])),
                          (slackware.script_list([GAUGE]).encode(),)),
    "deb log": Reader(lambda d: every(change_logs.read_deb_log(d)),
                      (b"2026-01-12 08:30:00 upgrade a:amd64 1 2\n",)),
    "rpm log": Reader(lambda d: every(change_logs.read_rpm_log(d)),
                      (b"2026-01-12T08:30:00Z SUBDEBUG Upgrade: gull-1:1.0-1.x86_64\nJan  2 08:30:00 Erased: a-1-1.i386\n",)),
    "arch log": Reader(lambda d: every(change_logs.read_arch_log(d)),
                       (b"[2026-01-12T08:30:00+0000] [ALPM] upgraded a (1 -> 2)\n",)),
    "cpio": Reader(lambda d: every(cpio.read_cpio(stream(d), lambda _: "sha256")), (b"070701" + b"0" * 104,)),
    "deb settings": Reader(lambda d: (deb_configuration.read_configuration(d), deb_configuration.read_lists(d)),
                           (b'APT { A "b"; }; APT::C:: "d"; /* x */\n',)),
    "deb contents": Reader(lambda d: every(deb_contents.read_contents([d])), (b"usr/bin/a  x/y,x/z\n",)),
    "deb index": Reader(lambda d: every(deb_index.read_index([d])), (deb.stanza(ONE).encode(),)),
    "diversions": Reader(deb_layout.read_diversions, (b"/a\n/b\n:\n",)),
    "overrides": Reader(deb_layout.read_overrides, (b"root root 4755 /a\n",)),
    "path rules": Reader(deb_layout.read_path_rules, (b"path-exclude=/usr/*\n",)),
    "preferences": Reader(lambda d: every(deb_preferences.read_preferences(d)),
                          (b"Package: *\nPin: release o=x\nPin-Priority: 9\n",)),
    "deb needs": Reader(lambda d: deb_relations.parse_needs(text(d), Relation.REQUIRES), (b"a (>= 1) | b:any, c",)),
    "deb release": Reader(deb_release.read_release, (b"Suite: x\nDate: Mon, 12 Jan 2026 08:30:00 UTC\nSHA256:\n a 1 b\n",)),
    "deb sources": Reader(lambda d: every(deb_sources.read_lines(d)), (b"deb [arch=a] http://x/ y z\n",)),
    "deb source stanzas": Reader(lambda d: every(deb_sources.read_source_stanzas(d)),
                                 (b"Types: deb\nURIs: http://x/\nSuites: y\nComponents: z\n",)),
    "deb versions": Reader(lambda d: deb_versions.compare_versions(*pair(d)), (b"1:2.0~rc1-1\n1:2.0-1",)),
    "digests": Reader(digest_list.read_digest_list, (b"0" * 32 + b"  usr/bin/a\n",)),
    "blocks": Reader(field_blocks.read_blocks, (b"%NAME%\na\n\n%FILES%\nusr/\n",)),
    "pairs": Reader(field_blocks.read_pairs, (b"pkgname = a\n# x\n",)),
    "capabilities": Reader(file_capabilities.read_attribute, (b"\1\0\0\2" + b"\0" * 16,)),
    "capability words": Reader(lambda d: file_capabilities.parse_capabilities(text(d)), (b"cap_net_raw=ep",)),
    "sizes": Reader(file_sizes.read_sizes, (REPOSITORY["FILELIST.TXT"][:2000],)),
    "trust database": Reader(lambda d: every(trust_database.read_trust(d)),
                             (b"\1gpg" + bytes(36) + b"\x0c" + bytes(25) + b"\0\0\0\2" + bytes(10) + b"\x0d" + bytes(39),)),
    "key box": Reader(lambda d: every(key_box.keys_in(d)), (b"\0\0\0\x20\1\1\0\0KBXf" + b"\0" * 20,)),
    "keys": Reader(lambda d: openpgp_keys.read_keys(d, "x"), (public_key(),), True, (ValueError,)),
    "link group": Reader(lambda d: link_groups.read_link_group("x", d), (b"auto\n/usr/bin/x\n\n/usr/bin/y\n10\n\n",)),
    "listing of archives": Reader(lambda d: every(long_listing.read_listings([d])), (slackware.manifest([OLD]),)),
    "mirrors": Reader(lambda d: metalink.read_metalink([d]), (b"<metalink><file><url>http://x</url></file></metalink>",)),
    "listing": Reader(lambda d: every(mtree.read_listing(d)), (arch.listing(KEPT)[:3000],)),
    "clear-signed": Reader(lambda d: openpgp.judge_clear_signed(d, office(), NOW), (clear_signed(b"x\n"),), True),
    "signature": Reader(lambda d: openpgp.judge_detached(b"x\n", d, office(), NOW), (detached(b"x\n", armoured=False),), True),
    "release names": Reader(os_release.read_os_release, (b'NAME="x"\nID=y\n',)),
    "glob": Reader(glob_of, (b"/usr/*/[!a-c]?\n/usr/x/y",)),
    "expression": Reader(expression_of, (b"(a+)+b\naaaa",)),
    "sections": Reader(repo_files.read_sections, (b"[a]\nb=c\n d\n",)),
    "repomd": Reader(repomd.read_repomd, (_xml("repomd") if any("repomd" in n for n in XML) else b"<repomd/>",)),
    "rpm header": Reader(header_of, (HEADER,), True),
    "rpm names": Reader(lambda d: every(rpm_lists.read_named([d])), (_xml("filelists"),)),
    "rpm updates": Reader(lambda d: every(rpm_lists.read_updates([d])), (_xml("updateinfo"),)),
    "rpm groups": Reader(lambda d: every(rpm_lists.read_collections([d])), (_xml("group"),)),
    "rpm streams": Reader(lambda d: every(rpm_modules.read_modules([d])), (_xml("modules"),)),
    "rpm primary": Reader(lambda d: every(rpm_primary.read_primary([d])), (_xml("primary")[:20_000],)),
    "rpm relation": Reader(lambda d: rpm_relations.condition_of(text(d), 8, "1"), (b"(a >= 1 if (b or c) else d)",)),
    "rpm versions": Reader(lambda d: rpm_versions.compare_versions(*pair(d)), (b"1:2.0~rc1-1\n1:2.0^git1-1",)),
    "changes": Reader(lambda d: every(slackware_changes.read_changes([d])), (REPOSITORY["ChangeLog.txt"],)),
    "labels": Reader(lambda d: (slackware_names.split_label(text(d)), slackware_names.split_gone(text(d))),
                     (b"a-1-noarch-1-upgraded-2026-01-12,08:30:00",)),
    "slackware need": Reader(lambda d: slackware_needs.parse_need(text(d)), (b"a >= 1 | b",)),
    "record": Reader(lambda d: slackware_records.paths_of(text(d), slackware_records.read_record(text(d))),
                     (slackware.record(OLD, 9).encode(),)),
    "list": Reader(lambda d: every(slackware_records.read_list([d])), (REPOSITORY["PACKAGES.TXT"][:3000],)),
    "script": Reader(lambda d: (slackware_scripts.read_links(text(d)), slackware_scripts.read_settings(text(d))),
                     (slackware.script(OLD).encode(),)),
    "slackware versions": Reader(lambda d: slackware_versions.compare_versions(*pair(d)), (b"5.4.2-1\n5.4.2rc1-1",)),
    "slot file": Reader(lambda d: every(slots.read_slots(MemoryBytes(d))), (slot_file([b"x" * 50, b"y"]),)),
    "stanzas": Reader(lambda d: every(stanzas.read_stanzas([d])), (deb.stanza(ONE).encode(),)),
    "image index": Reader(descriptors.read_index, (IMAGE[0],)),
    "image manifest": Reader(descriptors.read_manifest, (IMAGE[1],)),
    "image configuration": Reader(descriptors.read_configuration, (IMAGE[2],)),
    "saved images": Reader(descriptors.read_saved, (IMAGE[3],)),
    "layer": Reader(layer, (LAYER, gzip.compress(LAYER, mtime=0)), slow=True),
    "tar": Reader(lambda d: every(tar_stream.read_tar(stream(d), lambda _: "sha256")), (TAR[:40_000],)),
    "temporary files": Reader(lambda d: every(temporary_files.read_rules(d)), (b"d /run/x 0755 root root -\n",)),
    "unpacking": Reader(unpacked, (gzip.compress(b"x" * 99), lzma.compress(b"y" * 99))),
    "deb archive": Reader(whole_archive(DebArchive), (deb.archive(ONE, "none"), deb.archive(ONE, "gzip"))),
    "rpm archive": Reader(whole_archive(RpmArchive), (rpm.archive(SHIPPED, "none"),), True),
    "arch archive": Reader(whole_archive(ArchArchive), (arch.archive(KEPT, "none"), arch.archive(KEPT, "gzip")), True),
    "slackware archive": Reader(whole_archive(SlackwareArchive), (slackware.archive(OLD, "gzip"),)),
}  # fmt: skip
"""By name, every reader."""
