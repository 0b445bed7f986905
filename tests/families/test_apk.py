"""The family `apk`: records, world, protected paths, needs, archives, indexes, keys, and lies in each."""

import gzip
import hashlib
import json
import os
import re
import shutil
import stat
import struct
import subprocess
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric import rsa

from filigree.access.trees.directory import DirectoryTree
from filigree.demo import apk
from filigree.demo.goods import Good
from filigree.demo.sanderling import ADDRESS, TOOLS, build_sanderling, kept, offered, repository
from filigree.demo.world import WARES
from filigree.families.apk import places
from filigree.families.apk.archive import BinaryArchive, MembersArchive
from filigree.families.apk.repositories import INDEX, short_digest
from filigree.formats.apk.records import written_digest
from filigree.formats.public_keys import read_public_keys
from filigree.formats.random_access import MemoryBytes
from filigree.model.answer import Gap
from filigree.model.errors import DatabaseError
from filigree.model.files import Aspect, Evidence, Sort, Verdict
from filigree.model.needs import Join, Relation
from filigree.model.package import Reason, State
from filigree.model.signatures import SignatureVerdict
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.behind import behind
from filigree.questions.commands.census import Filter, Matching, census
from filigree.questions.commands.needs import needs
from filigree.questions.commands.obstacles import obstacles
from filigree.questions.commands.provenance import provenance
from filigree.questions.commands.refresh import refresh
from filigree.questions.commands.repos import repos
from filigree.questions.commands.verify import verify
from filigree.questions.evidence.references import Against
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.timeline.timeline import timeline
from filigree.questions.verifying.verdicts import FileVerdict, Manner
from filigree.system import System, open_system
from tests.binary_form import Values, deflated, whole, zstd

NOW = datetime(2026, 3, 1, tzinfo=UTC)
EVERY = frozenset(Verdict)
INSTALLED = "lib/apk/db/installed"


class ApkRoot:
    """A small root of this family, written line by line."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.lines: list[str] = []
        self.world = ""
        self.write("etc/passwd", f"root:x:{os.getuid()}:{os.getgid()}:root:/root:/bin/dsh\n")
        self.write("etc/group", f"root:x:{os.getgid()}:\n")
        self.write("etc/apk/arch", "x86_64\n")

    def write(self, path: str, content: bytes | str, mode: int = 0o644) -> Path:
        real = self.folder / path
        real.parent.mkdir(parents=True, exist_ok=True)
        real.write_bytes(content.encode() if isinstance(content, str) else content)
        real.chmod(mode)
        return real

    def package(self, name: str, version: str = "1.0-r0", more: str = "", **files: bytes) -> None:
        """A package with files in `/usr/bin`, on record and on the disk."""
        self.lines.append(f"P:{name}\nV:{version}\nA:x86_64\n{more}")
        if files:
            self.lines.append("F:usr/bin\n")
            self.rights(0o755, "M")
        for called, content in files.items():
            self.write(f"usr/bin/{called}", content, 0o755)
            self.lines.append(f"R:{called}\n")
            self.rights(0o755)
            self.lines.append(f"Z:{digest(content)}\n")
        self.lines.append("\n")

    def rights(self, mode: int, letter: str = "a") -> None:
        self.lines.append(f"{letter}:{os.getuid()}:{os.getgid()}:{mode:o}\n")

    def open(self) -> System:
        self.write(INSTALLED, "".join(self.lines))
        self.write("etc/apk/world", self.world)
        return open_system(str(self.folder))

    def verdicts(self, **how: Any) -> dict[str, FileVerdict]:
        with self.open() as system:
            return {
                row.path: row for row in verify(system, verdicts=EVERY, workers=1, **how).records
            }


def digest(content: bytes) -> str:
    return written_digest(f"sha1:{hashlib.sha1(content).hexdigest()}")


@pytest.fixture
def root(tmp_path: Path) -> ApkRoot:
    return ApkRoot(tmp_path / "root")


@pytest.fixture
def own(tmp_path: Path) -> Path:
    """A sanderling of one's own, to be changed at will."""
    return build_sanderling(tmp_path / "sanderling")


def packages(root: ApkRoot) -> dict[str, Any]:
    with root.open() as system:
        return {one.name: one for one in system.packages}


# -- what is installed -----------------------------------------------------------------------


def test_why_packages_are_here(root: ApkRoot) -> None:
    root.package("gauge", more="p:so:libgauge.so.1=1 cmd:gauge=1.0-r0\n")
    root.package("brine")
    root.package("horn", "3.2-r1")
    root.package("chart")
    root.package("lens")
    identity = written_digest("sha1:" + "00" * 20)
    root.world = f"cmd:gauge\nhorn=3.2-r1 !weir chart@trials\nlens><{identity}\n"
    found = packages(root)
    assert {name: one.reason for name, one in found.items()} == {
        "gauge": Reason.CHOSEN, "brine": Reason.DEPENDENCY, "horn": Reason.CHOSEN,
        "chart": Reason.CHOSEN, "lens": Reason.CHOSEN,
    }  # fmt: skip
    assert {name for name, one in found.items() if one.held} == {"horn", "lens"}


def test_without_a_world_nothing_tells_why(root: ApkRoot) -> None:
    root.package("gauge")
    with root.open() as system:
        (root.folder / "etc/apk/world").unlink()
    with open_system(str(root.folder)) as system:
        assert [one.reason for one in system.packages] == [None]
        assert any("nothing tells what was chosen" in gap.why for gap in system.gaps)


def test_a_world_that_makes_no_sense_costs_the_part_that_does_not(root: ApkRoot) -> None:
    root.package("gauge")
    root.world = "gauge =1 brine>=\n"
    with root.open() as system:
        assert [one.reason for one in system.packages] == [Reason.CHOSEN]
        assert len([gap for gap in system.gaps if gap.what == places.WORLD]) == 2


@pytest.mark.parametrize(
    ("flags", "state", "damaged"),
    [("f", State.HALF_INSTALLED, True), ("s", State.HALF_CONFIGURED, True), ("xS", State.INSTALLED, True),
     ("fs", State.HALF_INSTALLED, True)],
)  # fmt: skip
def test_what_is_broken(root: ApkRoot, flags: str, state: State, damaged: bool) -> None:
    root.package("gauge", more=f"f:{flags}\n")
    (one,) = packages(root).values()
    assert (one.state, one.damaged) == (state, damaged)


def test_the_newer_place_of_records(root: ApkRoot) -> None:
    root.package("gauge", gauge=b"x")
    with root.open():
        pass
    (root.folder / "usr/lib").mkdir(parents=True)
    (root.folder / "lib/apk").rename(root.folder / "usr/lib/apk")
    (root.folder / "lib").rmdir()
    with open_system(str(root.folder)) as system:
        assert [one.name for one in system.packages] == ["gauge"]
        (one,) = system.packages
        assert system.database.place_of(one) == "/usr/lib/apk/db/installed"


def test_records_that_are_none(root: ApkRoot) -> None:
    with root.open() as system:
        assert list(system.packages) == []
        assert any("empty" in gap.why for gap in system.gaps)
    (root.folder / INSTALLED).unlink()
    (root.folder / INSTALLED).mkdir()
    with pytest.raises(DatabaseError):
        open_system(str(root.folder))


def test_a_damaged_record_costs_itself(root: ApkRoot) -> None:
    root.package("gauge")
    root.lines.append(
        "V:1\nT:no name\n\nP:horn\nnonsense\n\nP:" + "x" * 3000 + "\nV:1\n\nP:a\nP:b\nV:1\n\n"
    )
    root.package("brine")
    with root.open() as system:
        assert [one.name for one in system.packages] == ["gauge", "brine"]
        assert len([gap for gap in system.gaps if INSTALLED in gap.what]) == 5


def test_a_package_that_nobody_made(sanderling: Path) -> None:
    with open_system(str(sanderling)) as system:
        (tools,) = [one for one in system.packages if one.name == TOOLS.name]
        assert tools.reason is Reason.CHOSEN
        told = {one.condition for one in system.records(tools).needs()}
        assert {str(one) for one in told} == {"marram", "dredger"}
        why = census(system, Filter((TOOLS.name,), Matching.EXACT), scope=Scope.ANY)
        assert [row.offered_by for row in why.records] == [[]]


def test_scripts_are_told_and_never_run(sanderling: Path) -> None:
    with open_system(str(sanderling)) as system:
        (one,) = [p for p in system.packages if p.name == "tidegauge"]
        names = {script.name for script in system.records(one).scripts()}
        assert names == {"pre-install", "post-install", "pre-deinstall", "post-deinstall"}
        assert all("exit 0" in text for text in system.database.script_texts(one))


def test_what_sets_off_a_trigger_is_told(own: Path) -> None:
    text = (own / INSTALLED).read_text()
    identity = re.search(r"C:(\S+)\nP:libsaltc6\n", text)
    assert identity is not None
    (own / "lib/apk/db/triggers").write_text(f"{identity[1]} /usr/lib/* /lib\nnonsense\n")
    with open_system(str(own)) as system:
        by_name = {one.name: system.records(one).fields() for one in system.packages}
    assert by_name["libsaltc6"]["triggers"] == "/usr/lib/* /lib"
    assert "triggers" not in by_name["tidegauge"]


def test_the_log_is_the_history(sanderling: Path) -> None:
    with open_system(str(sanderling)) as system:
        rows = timeline(system, ["tidegauge"]).records
    (row,) = [one for one in rows if one.action.value == "installed"]
    assert (row.told_in or "").startswith(places.LOG)
    assert row.session is not None


# -- files -----------------------------------------------------------------------------------


def test_what_is_as_it_was_shipped(root: ApkRoot) -> None:
    root.package("gauge", gauge=b"code")
    assert {path: row.verdict for path, row in root.verdicts().items()} == {
        "/usr/bin": Verdict.INTACT, "/usr/bin/gauge": Verdict.INTACT,
    }  # fmt: skip
    (root.folder / "usr/bin/gauge").write_bytes(b"edoc")
    row = root.verdicts()["/usr/bin/gauge"]
    assert [one.aspect for one in row.differences] == [Aspect.CONTENT]


def linked(
    root: ApkRoot, target: str, recorded: str | None = None, mode: int = 0o777
) -> FileVerdict:
    root.package("gauge", gauge=b"code")
    root.lines.insert(-1, "R:tg\n")
    root.lines.insert(-1, f"a:{os.getuid()}:{os.getgid()}:{mode:o}\n")
    root.lines.insert(-1, f"Z:{digest((recorded or target).encode())}\n")
    (root.folder / "usr/bin/tg").symlink_to(target)
    return root.verdicts()["/usr/bin/tg"]


def test_a_link_is_held_against_the_digest_of_its_target(root: ApkRoot) -> None:
    assert linked(root, "gauge").verdict is Verdict.INTACT


def test_a_link_that_leads_elsewhere(root: ApkRoot) -> None:
    row = linked(root, "/tmp/gull", "gauge")
    assert row.verdict is Verdict.ALTERED
    assert [one.aspect for one in row.differences] == [Aspect.LINK_TARGET]
    assert row.differences[0].found == "/tmp/gull"


def test_a_link_in_the_place_of_a_file_whose_content_is_its_target(root: ApkRoot) -> None:
    """A record does not say which of the two it is: but only a link has every right."""
    row = linked(root, "gauge", mode=0o644)
    assert row.verdict is Verdict.ALTERED
    assert [one.aspect for one in row.differences] == [Aspect.KIND]


def test_a_file_with_every_right_is_no_link(root: ApkRoot) -> None:
    root.package("gauge", gauge=b"code")
    root.lines = [
        line.replace(":755\nZ", ":777\nZ") if line[0] == "a" else line for line in root.lines
    ]
    root.lines = [
        line.replace("755", "777") if line.startswith("a:") else line for line in root.lines
    ]
    (root.folder / "usr/bin/gauge").chmod(0o777)
    assert root.verdicts()["/usr/bin/gauge"].verdict is Verdict.INTACT
    (root.folder / "usr/bin/gauge").write_bytes(b"x")
    assert root.verdicts()["/usr/bin/gauge"].verdict is Verdict.ALTERED


def configured(root: ApkRoot, folder: str = "etc/gauge") -> str:
    content = b"a = 1\n"
    root.lines.append(f"P:gauge\nV:1.0-r0\nA:x86_64\nF:{folder}\n")
    root.rights(0o755, "M")
    root.lines.append("R:gauge.conf\n")
    root.rights(0o644)
    root.lines.append(f"Z:{digest(content)}\n\n")
    root.write(f"{folder}/gauge.conf", b"a = 2\n")
    (root.folder / folder).chmod(0o755)
    return f"/{folder}/gauge.conf"


@pytest.mark.parametrize(
    ("folder", "lines", "verdict", "policy"),
    [
        ("etc/gauge", "", Verdict.EDITED, None),
        ("etc/init.d", "", Verdict.ALTERED, None),
        ("etc/apk", "", Verdict.ALTERED, None),
        ("usr/lib/gauge", "", Verdict.ALTERED, None),
        ("usr/lib/gauge", "+usr/lib/gauge\n", Verdict.EDITED, Sort.CONFIGURATION),
        ("usr/lib/gauge", "+usr/*\n-usr/lib\n", Verdict.ALTERED, None),
        ("etc/gauge", "-etc/gauge\n", Verdict.ALTERED, None),
        ("etc/gauge", "!etc/gauge\n", Verdict.EDITED, None),
    ],
)
def test_what_an_administrator_may_change(
    root: ApkRoot, folder: str, lines: str, verdict: Verdict, policy: Sort | None
) -> None:
    path = configured(root, folder)
    root.write("etc/apk/protected_paths.d/a.list", lines)
    row = root.verdicts()[path]
    assert row.verdict is verdict
    assert row.policy is policy
    assert policy is None or row.policy_file == f"{places.PROTECTED}/a.list"


@pytest.mark.parametrize(
    ("mine", "theirs", "taken"),
    [
        ("r:horn\n", "", True), ("", "", False), ("r:horn\nq:5\n", "r:gauge\nq:1\n", True),
        ("r:horn\nq:1\n", "r:gauge\nq:5\n", False), ("r:horn<1\n", "", False), ("r:horn<2\n", "", True),
    ],
)  # fmt: skip
def test_whose_files_take_the_place_of_whose(
    root: ApkRoot, mine: str, theirs: str, taken: bool
) -> None:
    root.package("gauge", more=mine)
    root.package("horn", more=theirs)
    with root.open() as system:
        gauge, horn = system.packages
        takes = system.database.takes_place
        assert takes is not None
        assert takes(gauge, horn) is taken


# -- needs -----------------------------------------------------------------------------------


def test_what_a_package_asks_for(root: ApkRoot) -> None:
    root.package(
        "gauge", more="D:brine>=2 !weir<2 so:libx.so.1 horn~3.2 =bad\ni:brine horn !quiet\nr:old\n"
    )
    root.package("brine", "2.1-r0")
    root.package("horn", "3.20-r0", more="p:so:libx.so.1=4\n")
    with root.open() as system:
        gauge = system.packages[0]
        told = system.records(gauge).needs()
        assert [(one.kind, one.text) for one in told] == [
            (Relation.REQUIRES, "brine>=2"), (Relation.CONFLICTS, "weir<2"),
            (Relation.REQUIRES, "so:libx.so.1"), (Relation.REQUIRES, "horn~3.2"),
            (Relation.SUPPLEMENTS, "brine horn !quiet"), (Relation.REPLACES, "old"),
        ]  # fmt: skip
        comes = told[4].condition
        assert getattr(comes, "join", None) is Join.UNLESS
        assert str(comes) == "((brine and horn) unless quiet)"
        rows = {row.requirement: str(row.status) for row in needs(system, ["gauge"]).records}
        assert any("=bad" in gap.why for gap in system.gaps)
    assert rows["brine>=2"] == "met"
    assert rows["so:libx.so.1"] == "met"
    assert rows["horn~3.2"] == "unmet", "3.20 begins with 3, and then with 20"


def test_a_provided_name_without_a_version_meets_no_version(root: ApkRoot) -> None:
    root.package("gauge", more="D:shell shell>1 paper=2\n")
    root.package("dulse", more="p:shell paper=2\n")
    with root.open() as system:
        rows = {row.requirement: str(row.status) for row in needs(system, ["gauge"]).records}
    assert rows == {"shell": "met", "shell>1": "unmet", "paper=2": "met"}


# -- archives --------------------------------------------------------------------------------

GAUGE = kept(next(ware for ware in WARES if ware.name == "tidegauge"))
CONTROL, DATA = apk._members(GAUGE)
KEYS = read_public_keys(apk.public_key(), f"/etc/apk/keys/{apk.KEY_NAME}")


def opened(data: bytes, gaps: list[Gap] | None = None) -> MembersArchive:
    return MembersArchive(MemoryBytes(data), "x.apk", (gaps if gaps is not None else []).append)


def judged(data: bytes) -> SignatureVerdict:
    return opened(data).signature(KEYS, NOW).verdict


@pytest.fixture(scope="module")
def stranger() -> Any:
    return rsa.generate_private_key(65537, 2048)


@pytest.mark.parametrize(
    ("algorithm", "verdict"),
    [("sha1", SignatureVerdict.WEAK), ("sha256", SignatureVerdict.GOOD),
     ("sha512", SignatureVerdict.GOOD), (None, SignatureVerdict.NONE)],
)  # fmt: skip
def test_who_signed_an_archive(algorithm: str | None, verdict: SignatureVerdict) -> None:
    assert judged(apk.archive(GAUGE, algorithm)) is verdict


def flipped(data: bytes, at: int) -> bytes:
    return data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :]


def without_digest() -> bytes:
    plain = gzip.decompress(CONTROL).replace(b"datahash", b"datagulls")
    info = Good(".PKGINFO", 0o644, plain[512:].rstrip(b"\0"))
    return gzip.compress(apk.tar([info], ended=False), mtime=0)


def other_data() -> bytes:
    return gzip.compress(apk.tar([Good("usr/bin/tidegauge", 0o755, b"gull")]), mtime=0)


LIES: dict[str, Callable[[Any], bytes]] = {
    "other data": lambda _: apk.signed(CONTROL) + CONTROL + other_data(),
    "data that was signed, and no digest of it": lambda _: (
        apk.signed(without_digest()) + without_digest() + other_data()
    ),
    "its data taken away": lambda _: apk.signed(CONTROL) + CONTROL,
    "another control under the signature": lambda _: apk.signed(CONTROL) + without_digest() + DATA,
    "the signature of another archive": lambda _: apk.signed(b"another") + CONTROL + DATA,
    "signed for the data": lambda _: apk.signed(DATA) + CONTROL + DATA,
    "a stranger's, by the office's name": lambda key: apk.signed(CONTROL, key=key) + CONTROL + DATA,
}  # fmt: skip


@pytest.mark.parametrize("lie", LIES)
def test_a_tampered_archive_is_bad(lie: str, stranger: Any) -> None:
    assert judged(LIES[lie](stranger)) is SignatureVerdict.BAD


def test_a_stranger_s_own_name_is_an_unknown_key(stranger: Any) -> None:
    data = apk.signed(CONTROL, name="gull.rsa.pub", key=stranger) + CONTROL + DATA
    assert judged(data) is SignatureVerdict.UNKNOWN_KEY


def test_a_name_that_leads_elsewhere_names_no_key() -> None:
    data = apk.signed(CONTROL, name=f"../keys/{apk.KEY_NAME}") + CONTROL + DATA
    assert judged(data) is SignatureVerdict.UNKNOWN_KEY


@pytest.mark.parametrize(
    "data",
    [b"", b"\x1f\x8b", apk.archive(GAUGE)[:100], apk.archive(GAUGE)[:-100], DATA,
     apk.archive(GAUGE) + other_data(), apk.signed(CONTROL), apk.archive(GAUGE) + b"gull"],
    ids=["empty", "a mark", "cut", "cut late", "data alone", "one more", "a signature alone", "a tail"],
)  # fmt: skip
def test_what_is_no_whole_archive_is_refused(data: bytes) -> None:
    with pytest.raises(DatabaseError):
        opened(data)


def test_what_stands_among_signatures_is_signed_by_nobody() -> None:
    """A reader that takes all members for one tar would take this description for the package's."""
    false = Good(".PKGINFO", 0o644, b"pkgname = gull\npkgver = 9-r0\n")
    plain = gzip.decompress(apk.signed(CONTROL)) + apk.tar([false], ended=False)
    gaps: list[Gap] = []
    archive = opened(gzip.compress(plain, mtime=0) + CONTROL + DATA, gaps)
    assert archive.package.name == "tidegauge"
    assert any("nobody signed" in gap.why for gap in gaps)


def test_a_head_that_lies_of_its_content_is_told() -> None:
    data = gzip.decompress(DATA).replace(b"checksum.SHA1=", b"checksum.SHA1=", 1)
    told = hashlib.sha1(
        next(g.content or b"" for g in GAUGE.goods if g.path == "/usr/bin/tidegauge")
    )
    false = data.replace(told.hexdigest().encode(), b"0" * 40)
    assert false != data
    gaps: list[Gap] = []
    list(opened(CONTROL + gzip.compress(false, mtime=0), gaps).files())
    assert [gap.what for gap in gaps] == ["/usr/bin/tidegauge in x.apk"]


def test_what_an_archive_holds() -> None:
    archive = opened(apk.archive(GAUGE))
    told = {one.path: one for one in archive.files()}
    for good in GAUGE.goods:
        one = told[good.path]
        if good.content is not None:
            assert one.digest == f"sha256:{hashlib.sha256(good.content).hexdigest()}"
        assert good.target is None or one.link_target == good.target
    assert {one.path for one in archive.configuration()} == {
        "/etc/tidegauge/gauge.conf", "/etc/tidegauge/stations.d/heron.conf",
    }  # fmt: skip
    assert archive.digest("sha256") == f"sha256:{hashlib.sha256(apk.archive(GAUGE)).hexdigest()}"
    assert archive.digest("identity-sha1") == f"identity-sha1:{hashlib.sha1(CONTROL).hexdigest()}"


@pytest.mark.skipif(shutil.which("openssl") is None, reason="there is no openssl here")
def test_openssl_finds_the_signatures_good_that_are_called_so(tmp_path: Path) -> None:
    for algorithm in ("sha1", "sha256", "sha512"):
        archive = opened(apk.archive(GAUGE, algorithm))
        (one,) = archive._told.signatures
        first = archive._told.members[0]
        (tmp_path / "signature").write_bytes(one.signature)
        (tmp_path / "signed").write_bytes(
            apk.archive(GAUGE, algorithm)[first.start : first.start + first.size]
        )
        (tmp_path / "key").write_bytes(apk.public_key())
        done = subprocess.run(
            ["openssl", "dgst", f"-{algorithm}", "-verify", "key", "-signature", "signature", "signed"],
            cwd=tmp_path, capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert "Verified OK" in done.stdout, done.stderr


@pytest.mark.skipif(shutil.which("bsdtar") is None, reason="there is no bsdtar here")
def test_bsdtar_reads_the_members_as_one(tmp_path: Path) -> None:
    (tmp_path / "x.apk").write_bytes(apk.archive(GAUGE))
    done = subprocess.run(
        ["bsdtar", "-tf", "x.apk"], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    names = done.stdout.split()
    assert names[0] == f".SIGN.RSA256.{apk.KEY_NAME}"
    assert ".PKGINFO" in names
    paths = {f"/{name.rstrip('/')}" for name in names if not name.startswith(".")}
    assert paths == {one.path for one in opened(apk.archive(GAUGE)).files()}


# -- the form of blocks ----------------------------------------------------------------------

CODE = b"\x7fELF gauge"


def binary_archive(
    content: bytes = CODE, keys: tuple[Any, ...] = (), change: Callable[[bytes], bytes] = bytes
) -> bytes:
    values = Values()
    link = struct.pack("<H", stat.S_IFLNK | 0o777) + b"gauge"
    files = [values.file("gauge", CODE, 0o755), values.file("tg", target=link)]
    info = values.info({"P": "gauge", "V": "1.0-r0", "A": "x86_64", "D": [("brine", 5, "2")]})
    root = values.members([info, values.listed([values.folder("usr/bin", files)])])
    return change(
        whole("package", values.done(root), [(1, 1, content)], keys or (apk.secret_key(),))
    )


def blocks(data: bytes) -> BinaryArchive:
    return BinaryArchive(MemoryBytes(data), "x.apk", lambda _: None)


@pytest.mark.parametrize("packing", [bytes, deflated, zstd])
def test_an_archive_of_blocks(packing: Callable[[bytes], bytes]) -> None:
    archive = blocks(packing(binary_archive()))
    assert archive.signature(KEYS, NOW).verdict is SignatureVerdict.GOOD
    told = {one.path: one for one in archive.files()}
    assert told["/usr/bin/gauge"].digest == f"sha256:{hashlib.sha256(CODE).hexdigest()}"
    assert told["/usr/bin/tg"].link_target == "gauge"
    assert [one.text for one in archive.needs()] == ["brine>=2"]


def test_blocks_that_are_not_what_was_signed(stranger: Any) -> None:
    data = binary_archive(b"\x7fELF gull!")
    assert blocks(data).signature(KEYS, NOW).verdict is SignatureVerdict.BAD
    assert blocks(binary_archive(keys=(stranger,))).signature(KEYS, NOW).verdict is (
        SignatureVerdict.UNKNOWN_KEY
    )
    plain = binary_archive()
    at = plain.index(b"1.0-r0")
    assert blocks(flipped(plain, at)).signature(KEYS, NOW).verdict is SignatureVerdict.BAD
    missing = plain[: plain.index(CODE) - 12]
    assert blocks(missing).signature(KEYS, NOW).verdict is SignatureVerdict.BAD


def test_installed_records_of_blocks(root: ApkRoot) -> None:
    values = Values()
    folder = values.folder("usr/bin", [values.file("gauge", CODE, 0o755)])
    info = values.info({"P": "gauge", "V": "1.0-r0", "A": "x86_64"})
    one = values.members([info, values.listed([folder])])
    data = whole("installed", values.done(values.members([values.listed([one])])))
    root.write("usr/bin/gauge", CODE, 0o755)
    os.utime(root.folder / "usr/bin/gauge", (1_768_206_600, 1_768_206_600))
    (root.folder / "usr/bin").chmod(0o755)
    with root.open():
        pass
    (root.folder / INSTALLED).write_bytes(data)
    with open_system(str(root.folder)) as system:
        rows = verify(system, verdicts=EVERY, workers=1).records
    assert {row.path: row.verdict for row in rows} == {
        "/usr/bin": Verdict.INTACT, "/usr/bin/gauge": Verdict.INTACT,
    }  # fmt: skip
    (root.folder / "usr/bin/gauge").write_bytes(CODE + b"!")
    with open_system(str(root.folder)) as system:
        (row,) = verify(system, workers=1).records
    assert Aspect.SIZE in {one.aspect for one in row.differences}


# -- what is offered -------------------------------------------------------------------------


def cached(address: str) -> str:
    return f"var/cache/apk/APKINDEX.{short_digest(f'{address}/x86_64/{INDEX}')}.tar.gz"


COAST = cached(f"{ADDRESS}/coast")


def told(root: Path) -> dict[str, Any]:
    with open_system(str(root)) as system:
        return {row.identity: row for row in repos(system).records}


def test_the_repositories_of_the_station(sanderling: Path) -> None:
    rows = told(sanderling)
    coast, trials = (
        rows["packages.tides.example/apk/coast"],
        rows["packages.tides.example/apk/trials @trials"],
    )
    assert (coast.signature, coast.matches, coast.packages) == (SignatureVerdict.GOOD, True, 67)
    assert (trials.signature, trials.matches, trials.packages) == (SignatureVerdict.WEAK, None, 1)
    assert coast.configured_in == f"{places.REPOSITORIES}:2"


def forged(content: bytes) -> bytes:
    """An index that offers one thing more, under the signature of the first."""
    members = content.split(b"\x1f\x8b\x08")
    plain = gzip.decompress(b"\x1f\x8b\x08" + members[-1])
    more = apk.tar([Good("APKINDEX", 0o644, b"P:gift\nV:1-r0\nA:x86_64\n\n")])
    assert plain
    return b"\x1f\x8b\x08" + members[1] + gzip.compress(more, mtime=0)


INDEXES: dict[str, tuple[Callable[[], bytes], SignatureVerdict | None]] = {
    "forged": (lambda: forged(apk.index(offered())), SignatureVerdict.BAD),
    "unsigned": (lambda: apk.index(offered(), None), SignatureVerdict.NONE),
    "with more behind": (lambda: apk.index(offered()) + other_data(), SignatureVerdict.BAD),
    "cut off": (lambda: apk.index(offered())[:-50], None),
    "empty": (lambda: b"", None),
}


@pytest.mark.parametrize("what", INDEXES)
def test_an_index_that_was_changed(own: Path, what: str) -> None:
    make, verdict = INDEXES[what]
    (own / COAST).write_bytes(make())
    row = told(own)["packages.tides.example/apk/coast"]
    assert row.signature is verdict or (verdict is None and row.packages is None)
    with open_system(str(own)) as system:
        answer = census(system, Filter(("gift", "saltwort")), scope=Scope.AVAILABLE)
    if what == "unsigned":
        assert [one.name for one in answer.records] == ["saltwort"]
    else:
        assert answer.records == []
        assert any("/apk/" in gap.what for gap in answer.gaps)


def test_an_index_that_is_swapped_while_it_is_read_offers_nothing(
    own: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The good one is shown while its signature is judged, the forged one to whoever reads on."""
    good = (own / COAST).read_bytes()
    real = DirectoryTree.read
    times: list[str] = []

    def read(tree: DirectoryTree, path: str, limit: int = 1 << 30) -> bytes:
        found = real(tree, path, limit)
        if path.endswith(Path(COAST).name):
            times.append(path)
            (own / COAST).write_bytes(forged(good))
        return found

    monkeypatch.setattr(DirectoryTree, "read", read)
    with open_system(str(own)) as system:
        answer = census(system, Filter(("gift", "saltwort")), scope=Scope.AVAILABLE)
    assert len(times) == 2
    assert answer.records == []
    assert any("changed while it was read" in gap.why for gap in answer.gaps)


def test_of_two_lists_none_is_taken(own: Path) -> None:
    text = b"P:gift\nV:1-r0\nA:x86_64\n\n"
    both = apk.tar(
        [Good("APKINDEX", 0o644, text), Good("APKINDEX", 0o644, text.replace(b"gift", b"gull"))]
    )
    packed = gzip.compress(both, mtime=0)
    (own / COAST).write_bytes(apk.signed(packed) + packed)
    row = told(own)["packages.tides.example/apk/coast"]
    assert row.packages is None
    with open_system(str(own)) as system:
        census(system, Filter(("gift",)), scope=Scope.AVAILABLE)
        assert any("more than one list" in gap.why for gap in system.gaps)


def test_an_index_in_a_folder_of_the_root_and_by_the_other_name(own: Path) -> None:
    (own / "etc/apk/repositories").write_text(
        "/srv/packages\nhttps://packages.tides.example/other\n"
    )
    folder = own / "srv/packages/x86_64"
    folder.mkdir(parents=True)
    (folder / INDEX).write_bytes(apk.index(offered()[:3]))
    other = "https://packages.tides.example/other"
    name = f"var/cache/apk/APKINDEX.{short_digest(other)}.tar.gz"
    (own / name).write_bytes(apk.index(offered()[:5]))
    assert {name: row.packages for name, row in told(own).items()} == {
        "/srv/packages": 3, "packages.tides.example/other": 5,
    }  # fmt: skip


def test_an_unsigned_index_beside_it_does_not_take_its_place(own: Path) -> None:
    """It lies under the other name that systems use, and calls itself newer."""
    name = f"var/cache/apk/APKINDEX.{short_digest(f'{ADDRESS}/coast')}.tar.gz"
    text = f"P:gift\nV:1-r0\nA:x86_64\nt:{int(datetime(2030, 1, 1, tzinfo=UTC).timestamp())}\n\n"
    gift = apk.tar([Good("APKINDEX", 0o644, text.encode())])
    (own / name).write_bytes(gzip.compress(gift, mtime=0))
    row = told(own)["packages.tides.example/apk/coast"]
    assert (row.signature, row.packages) == (SignatureVerdict.GOOD, 67)


def test_the_cache_is_where_the_link_leads(own: Path) -> None:
    (own / "srv").mkdir(exist_ok=True)
    (own / "var/cache/apk").rename(own / "srv/apk")
    assert told(own)["packages.tides.example/apk/coast"].packages is None
    (own / "etc/apk/cache").symlink_to("/srv/apk")
    assert told(own)["packages.tides.example/apk/coast"].packages == 67


def test_keys_that_came_with_the_system_count_for_their_machine(own: Path) -> None:
    shipped = own / "usr/share/apk/keys/x86_64"
    shipped.mkdir(parents=True)
    key = own / "etc/apk/keys" / apk.KEY_NAME
    key.rename(shipped / apk.KEY_NAME)
    assert told(own)["packages.tides.example/apk/coast"].signature is SignatureVerdict.GOOD
    shipped.rename(shipped.with_name("aarch64"))
    assert told(own)["packages.tides.example/apk/coast"].signature is SignatureVerdict.UNKNOWN_KEY


def test_by_a_tag_only_what_is_asked_for(own: Path) -> None:
    def candidates() -> dict[str, str]:
        with open_system(str(own)) as system:
            return {row.name: row.candidate for row in behind(system).records if row.candidate}

    assert candidates()["tidegauge"] == "3.0_pre1-r1"
    world = own / "etc/apk/world"
    world.write_text(world.read_text().replace("tidegauge@trials", "tidegauge"))
    assert "tidegauge" not in candidates()


def test_what_must_be_absent_is_never_taken(own: Path) -> None:
    def passed_over() -> bool:
        with open_system(str(own)) as system:
            (row,) = obstacles(system, ["weirgate"]).records
        return any("it must be absent" in str(one) for one in row.reasons)

    assert passed_over()
    world = own / "etc/apk/world"
    world.write_text(world.read_text().replace("!weirgate", ""))
    assert not passed_over()


def test_an_index_of_blocks(own: Path) -> None:
    values = Values()
    infos = [
        values.info(
            {"P": one.ware.name, "V": one.version, "A": one.architecture, "t": 1_768_206_600}
        )
        for one in offered()
    ]
    body = values.done(values.members([values.text("The office's"), values.listed(infos)]))
    (own / COAST).write_bytes(deflated(whole("index", body, keys=(apk.secret_key(),))))
    row = told(own)["packages.tides.example/apk/coast"]
    assert (row.signature, row.packages) == (SignatureVerdict.GOOD, 67)
    with open_system(str(own)) as system:
        (found,) = census(system, Filter(("saltwort",)), scope=Scope.AVAILABLE).records
    assert found.version == "1.2-r1"


# -- security ------------------------------------------------------------------------------------

FIXES = {
    "distroversion": "", "reponame": "coast",
    "packages": [
        {"pkg": {"name": "jetty",
                 "secfixes": {"1.1.0_p1-r2": ["CVE-2026-1111 XSA-7"], "0": ["CVE-2026-2"]}}},
        {"pkg": {"name": "mussel", "secfixes": {"5.36.1_rc2_p1-r1": ["CVE-2026-3333"]}}},
        {"pkg": {"name": "quayside", "secfixes": {"99-r0": ["CVE-2026-4444"]}}},
        {"pkg": {"name": "gull"}}, {"pkg": {"name": "auk", "secfixes": {"no version": []}}}, 7,
    ],
}  # fmt: skip


def urgent(root: Path) -> tuple[dict[str, list[str]], Any]:
    with open_system(str(root)) as system:
        answer = behind(system)
    rows = {
        row.name: [one.title or "" for one in row.advisories]
        for row in answer.records
        if row.security
    }
    return rows, answer


def test_what_is_for_security_is_told_where_a_database_is_given(own: Path) -> None:
    assert urgent(own)[1].summary.security is None
    (own / "var/cache/apk/coast.json").write_text(json.dumps(FIXES))
    rows, answer = urgent(own)
    # What is made of one source has its fixes; what is offered mends only what it has come to.
    assert rows == {
        "jetty": ["CVE-2026-1111, XSA-7"], "jetty-client": ["CVE-2026-1111, XSA-7"],
        "libmussel5": ["CVE-2026-3333"],
    }  # fmt: skip
    assert answer.summary.security == 3
    assert answer.exit_status == 1
    why = {gap.why for gap in answer.gaps if gap.what.endswith("coast.json")}
    assert any("nobody signed it" in one for one in why)
    assert any("3 entries make no sense" in one for one in why)


def test_an_emptied_database_is_no_clean_bill(own: Path) -> None:
    """Whoever owns the machine owns that file, too."""
    (own / "var/cache/apk/coast.json").write_text(json.dumps({**FIXES, "packages": []}))
    rows, answer = urgent(own)
    assert rows == {}
    assert answer.exit_status == 3
    assert any("nobody signed it" in gap.why for gap in answer.gaps)


@pytest.mark.parametrize(
    "text",
    ["", "[]", "{}", '{"packages": {}}', "[" * 100_000, json.dumps({**FIXES, "reponame": "shore"})],
)
def test_a_database_that_is_none_or_another_s_tells_nothing(own: Path, text: str) -> None:
    (own / "var/cache/apk/coast.json").write_text(text)
    rows, answer = urgent(own)
    assert (rows, answer.summary.security) == ({}, None)
    assert answer.exit_status == 3


# -- fetching --------------------------------------------------------------------------------


@pytest.fixture
def office(tmp_path: Path) -> Path:
    """The office's repository, in a folder."""
    for path, content in repository().items():
        (tmp_path / "office" / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "office" / path).write_bytes(content)
    return tmp_path / "office"


def fetched(own: Path, office: Path, tmp_path: Path) -> list[tuple[str, str | None]]:
    cache = tmp_path / "cache"
    cache.mkdir(mode=0o700, exist_ok=True)
    options = RepositoryOptions(addresses=(str(office / "coast"),), cache=str(cache))
    with open_system(str(own)) as system:
        rows = refresh(system, ["*office*"], options).records
    return [(row.outcome.value, row.remarks[0] if row.remarks else None) for row in rows]


def test_a_good_index_is_kept_and_another_is_not(own: Path, office: Path, tmp_path: Path) -> None:
    assert fetched(own, office, tmp_path)[0][0] == "fetched"
    index = office / "coast/x86_64" / INDEX
    good = index.read_bytes()
    index.write_bytes(forged(good))
    assert fetched(own, office, tmp_path)[0][0] == "refused"
    index.write_bytes(apk.index(offered(), None))
    assert fetched(own, office, tmp_path)[0][0] == "refused"
    index.write_bytes(b"gull")
    assert fetched(own, office, tmp_path)[0][0] != "fetched"


# -- evidence --------------------------------------------------------------------------------


def signed_rows(root: Path, *subjects: str) -> dict[str, FileVerdict]:
    with open_system(str(root)) as system:
        manner = Manner(Against(cache=True), Evidence.SIGNED)
        answer = verify(system, subjects or None, EVERY, workers=1, manner=manner)
        return {row.path: row for row in answer.records}


def test_an_archive_in_the_cache_is_evidence(sanderling: Path) -> None:
    rows = signed_rows(sanderling, "foghorn", "siltmeter")
    assert rows["/usr/bin/foghorn"].verdict is Verdict.ALTERED
    assert rows["/usr/bin/siltmeter"].verdict is Verdict.ALTERED
    assert all(row.evidence is Evidence.SIGNED for row in rows.values())


def test_an_identity_by_sha1_signs_nothing_by_itself(own: Path) -> None:
    """An archive that nobody signed, and whose identity a signed index tells: that digest can be made
    to fit by whoever makes two of one."""
    cache = own / "var/cache/apk"
    (old,) = cache.glob("seaholly-*.apk")
    seaholly = kept(next(ware for ware in WARES if ware.name == "seaholly"))
    old.write_bytes(apk.archive(seaholly, None))
    with open_system(str(own)) as system:
        manner = Manner(Against(cache=True), Evidence.RECORD)
        rows = verify(system, ["seaholly"], EVERY, workers=1, manner=manner).records
    assert {row.evidence for row in rows} == {Evidence.ARCHIVE}
    assert not signed_rows(own, "seaholly")


def test_a_doctored_record_is_found_by_a_signed_archive(own: Path) -> None:
    """A program is swapped, and its digest on record written anew."""
    program = own / "usr/bin/foghorn"
    text = (own / INSTALLED).read_text()
    shipped = next(g for g in kept(next(w for w in WARES if w.name == "foghorn")).goods
                   if g.path == "/usr/bin/foghorn")  # fmt: skip
    (own / INSTALLED).write_text(
        text.replace(digest(shipped.content or b""), digest(program.read_bytes()))
    )
    with open_system(str(own)) as system:
        rows = {row.path: row for row in verify(system, ["foghorn"], EVERY, workers=1).records}
        assert rows["/usr/bin/foghorn"].verdict is Verdict.INTACT
        (chain,) = provenance(system, ["/usr/bin/foghorn"], Against(cache=True)).records
        assert not chain.whole
    assert signed_rows(own, "foghorn")["/usr/bin/foghorn"].verdict is Verdict.DOCTORED
