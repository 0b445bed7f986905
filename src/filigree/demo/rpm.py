"""From a ware to the header and the archive of an `rpm` package."""

import hashlib
import re
import stat
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime

from filigree.demo.goods import BUILT, Good
from filigree.demo.repository import detached, public_key
from filigree.demo.rpm_bytes import (
    PayloadMember,
    Row,
    Sign,
    cpio,
    header,
    rpm_archive,
    signature_rows,
)
from filigree.demo.world import OFFICE, PEOPLE, Ware
from filigree.formats.openpgp_keys import read_keys
from filigree.formats.rpm.header import Type
from filigree.formats.rpm.relations import EQUAL, FORMAT, GREATER, LESS

BITS = "()(64bit)"
_OPERATORS = {
    "<<": LESS, "<=": LESS | EQUAL, "=": EQUAL, ">=": GREATER | EQUAL, ">>": GREATER,
}  # fmt: skip
_ITEM = re.compile(r"(?P<name>\S+)(?: \((?P<operator>\S+) (?P<version>\S+)\))?")
_FEATURES = (
    ("CompressedFileNames", "3.0.4-1"),
    ("FileDigests", "4.6.0-1"),
    ("PayloadFilesHavePrefix", "4.0-1"),
)
_SCRIPT_TAGS = {"preinst": 1023, "postinst": 1024, "prerm": 1025, "postrm": 1026}
_POST, _CONFIG, _GHOST = 1 << 10, 1, 64
Relation = tuple[str, int, str]


@dataclass(frozen=True, slots=True)
class Shipped:
    """A ware as this family ships it.

    `claimed` are paths that it only claims, `owners` those of paths that are not root's, `replaced`
    what another package's file has taken the place of.
    """

    ware: Ware
    goods: tuple[Good, ...]
    architecture: str = "x86_64"
    at: datetime | None = None
    needs: tuple[Relation, ...] = ()
    supplements: str = ""
    claimed: tuple[str, ...] = ()
    owners: tuple[tuple[str, str], ...] = ()
    ignored: tuple[str, ...] = ()
    replaced: tuple[str, ...] = ()
    may_be_missing: tuple[str, ...] = ()
    sonames: tuple[tuple[str, str], ...] = ()
    ancient: bool = False

    @property
    def name(self) -> str:
        return package_name(self.ware.name)

    @property
    def parts(self) -> tuple[str, str]:
        """Version and release."""
        version, hyphen, release = self.ware.version.rpartition("-")
        return (version, release) if hyphen else (release, "1")

    @property
    def version(self) -> str:
        """The full version, without the epoch."""
        return "-".join(self.parts)

    @property
    def file_name(self) -> str:
        """What its archive is called."""
        return f"{self.name}-{self.version}.{self.architecture}.rpm"


def package_name(name: str) -> str:
    """What a ware is called in this family."""
    return f"{name.removesuffix('-dev')}-devel" if name.endswith("-dev") else name


def rows_of(one: Shipped) -> list[Row]:
    """The rows of the header that belong to the package itself."""
    ware = one.ware
    version, release = one.parts
    size = sum(len(good.content or b"") for good in one.goods)
    text = f"Part of the equipment of the stations of the {OFFICE}.\n\n"
    text += f"This is {one.name} as the office ships it."
    rows: list[Row] = [
        (100, Type.STRINGS, ["C"]),
        (1000, Type.STRING, one.name),
        (1001, Type.STRING, version),
        (1002, Type.STRING, release),
    ]
    if ware.epoch:
        rows.append((1003, Type.INT32, ware.epoch))
    rows += [
        (1004, Type.TRANSLATED, [ware.summary]),
        (1005, Type.TRANSLATED, [text]),
        (1006, Type.INT32, int(BUILT.timestamp())),
        (1007, Type.STRING, "slipway.tides.example"),
        (1009, Type.INT32, size),
        (1011, Type.STRING, OFFICE),
        (1014, Type.STRING, "Whoever-Minds-The-Tide"),
        (1015, Type.STRING, PEOPLE[len(ware.name) % len(PEOPLE)]),
        (1016, Type.TRANSLATED, [f"Coast/{ware.section.capitalize()}"]),
        (1020, Type.STRING, f"https://tides.example/{ware.source or ware.name}"),
        (1021, Type.STRING, "linux"),
        (1022, Type.STRING, one.architecture),
        (1044, Type.STRING, f"{ware.source or one.name}-{one.version}.src.rpm"),
    ]
    for script in ware.scripts:
        if script in _SCRIPT_TAGS:
            rows.append((_SCRIPT_TAGS[script], Type.STRING, f"# {script} of {one.name}\nexit 0\n"))
    rows += _file_rows(one)
    for kind, relations in relations_of(one).items():
        rows += _relation_rows(_RELATION_TAGS[kind], relations)
    return sorted(rows, key=lambda row: row[0])


_RELATION_TAGS = {
    "provides": (1047, 1112, 1113), "requires": (1049, 1048, 1050), "conflicts": (1054, 1053, 1055),
    "obsoletes": (1090, 1114, 1115), "recommends": (5046, 5048, 5047),
    "suggests": (5049, 5051, 5050), "supplements": (5052, 5054, 5053),
    "enhances": (5055, 5057, 5056),
}  # fmt: skip


def relations_of(one: Shipped) -> dict[str, list[Relation]]:
    """Every relation of a ware, by kind."""
    ware = one.ware
    return {
        "provides": list(_provides(one)),
        "requires": list(_requires(one)),
        "conflicts": _all(f"{ware.breaks}, {ware.conflicts}"),
        "obsoletes": _all(ware.replaces),
        "recommends": _all(ware.recommends),
        "suggests": _all(ware.suggests),
        "supplements": _all(one.supplements),
        "enhances": _all(ware.enhances),
    }


def installed_header(one: Shipped, forged: tuple[str, str] | None = None) -> bytes:
    """The header as the database keeps it: with its signature and what installation added behind it.

    `forged` is what somebody wrote in the place of a digest: the one that was signed, and the other.
    """
    rows, covered = rows_of(one), b""
    if forged is not None:
        covered = header(rows, magic=True)
        rows = [_forged(row, *forged) for row in rows]
    after: list[Row] = [
        (1008, Type.INT32, int((one.at or BUILT).timestamp())),
        (1029, Type.CHAR, [int(good.path in one.replaced) for good in _files(one)]),
        (1127, Type.INT32, 3),
        (1128, Type.INT32, int(BUILT.timestamp())),
    ]
    covered = covered or header(rows_of(one), magic=True)
    return header(rows, after=[*signature_rows(covered, signed), *after])


def signed(covered: bytes) -> bytes:
    """The office's signature of a header."""
    return detached(covered, armoured=False)


def key_header() -> bytes:
    """The header under which an imported key is on record: called after its last digits and its age."""
    (key,) = read_keys(public_key(), "the test key")
    made = int(key.made_at.timestamp()) if key.made_at else 0
    return header([
        (1000, Type.STRING, "gpg-pubkey"),
        (1001, Type.STRING, key.fingerprint[-8:]),
        (1002, Type.STRING, f"{made:08x}"),
        (1004, Type.TRANSLATED, [f"{key.identity} public key"]),
        (1005, Type.TRANSLATED, [public_key().decode("ascii")]),
        (1022, Type.STRING, "(none)"),
    ])  # fmt: skip


def _forged(row: Row, old: str, new: str) -> Row:
    tag, kind, given = row
    if tag != 1035 or not isinstance(given, list):
        return row
    return tag, kind, [new if digest == old else str(digest) for digest in given]


def archive(
    one: Shipped, packer: str = "gzip", sign: Sign | None = signed, whole: Sign | None = None
) -> bytes:
    """The archive of a ware, signed by the office unless somebody else signs, or nobody."""
    last = {good.twin: good.path for good in one.goods if good.twin}
    members = []
    for number, good in enumerate(one.goods, 1):
        content = good.content if good.target is None else good.target.encode()
        if good.twin and last[good.twin] != good.path:
            content = b""
        inode = _inode(one, number, good)
        links = sum(g.twin == good.twin for g in one.goods) if good.twin else 1
        members.append(
            PayloadMember(
                f".{good.path}", _mode(good), content or b"", int(BUILT.timestamp()), inode, links
            )
        )
    payload = cpio(members)
    return rpm_archive(
        f"{one.name}-{one.version}", rows_of(one), payload, packer, sign=sign, whole=whole
    )


# -- files ----------------------------------------------------------------------------------


def _mode(good: Good) -> int:
    if good.target is not None:
        return stat.S_IFLNK | 0o777
    return (stat.S_IFDIR if good.is_directory else stat.S_IFREG) | good.mode


def _inode(one: Shipped, number: int, good: Good) -> int:
    if good.twin:
        return 1 + next(at for at, other in enumerate(one.goods) if other.twin == good.twin)
    return number


def _file_rows(one: Shipped) -> list[Row]:
    goods = _files(one)
    if not goods:
        return []
    owners = dict(one.owners)
    named = _path_rows(one, goods)
    colour = 1 if one.architecture == "i686" else 2
    return [
        *named,
        (1028, Type.INT32, [len(good.content or good.target or b"") for good in goods]),
        (1030, Type.INT16, [_mode(good) for good in goods]),
        (1033, Type.INT16, [0] * len(goods)),
        (1034, Type.INT32, [int(BUILT.timestamp())] * len(goods)),
        (1035, Type.STRINGS, [_digest(good, one) for good in goods]),
        (1036, Type.STRINGS, [good.target or "" for good in goods]),
        (1037, Type.INT32, [_flags(good, one) for good in goods]),
        (1039, Type.STRINGS, [owners.get(good.path, "root") for good in goods]),
        (1040, Type.STRINGS, ["root"] * len(goods)),
        (1045, Type.INT32, [0xFFFFFFFF ^ (0x23 if g.path in one.ignored else 0) for g in goods]),
        (1095, Type.INT32, [1] * len(goods)),
        (1096, Type.INT32, [_inode(one, number, good) for number, good in enumerate(goods, 1)]),
        (1097, Type.STRINGS, [_language(good) for good in goods]),
        (1140, Type.INT32, [colour * ((good.content or b"")[:4] == b"\x7fELF") for good in goods]),
    ]


def _path_rows(one: Shipped, goods: Sequence[Good]) -> list[Row]:
    """The paths, and by which algorithm their digests are: in one table, or in three as of old."""
    if one.ancient:
        return [(1027, Type.STRINGS, [good.path for good in goods])]
    parts = [good.path.rpartition("/") for good in goods]
    folders = sorted({f"{folder}/" for folder, _, _ in parts})
    return [
        (1116, Type.INT32, [folders.index(f"{folder}/") for folder, _, _ in parts]),
        (1117, Type.STRINGS, [name for _, _, name in parts]),
        (1118, Type.STRINGS, folders),
        (5011, Type.INT32, 8),
    ]


def _files(one: Shipped) -> list[Good]:
    """Every path on record, those that are only claimed included."""
    claimed = (Good(path, content=b"") for path in one.claimed)
    return sorted((*one.goods, *claimed), key=lambda good: good.path)


def _digest(good: Good, one: Shipped) -> str:
    if good.content is None or good.path in one.claimed:
        return ""
    return good.md5 if one.ancient else hashlib.sha256(good.content).hexdigest()


def _flags(good: Good, one: Shipped) -> int:
    flags = _CONFIG | 16 if good.config else 0
    if good.path in one.claimed:
        flags |= _GHOST
    if good.path in one.may_be_missing:
        flags |= 8
    if good.path.endswith("/copyright"):
        flags |= 128
    elif good.path.startswith(("/usr/share/doc/", "/usr/share/man/")) and good.content is not None:
        flags |= 2
    return flags


def _language(good: Good) -> str:
    parts = good.path.split("/")
    return parts[4] if good.path.startswith("/usr/share/locale/") and len(parts) > 5 else ""


# -- relations ------------------------------------------------------------------------------


def _relation_rows(numbers: tuple[int, int, int], relations: list[Relation]) -> list[Row]:
    if not relations:
        return []
    names, flags, versions = numbers
    return [
        (names, Type.STRINGS, [name for name, _, _ in relations]),
        (flags, Type.INT32, [flag for _, flag, _ in relations]),
        (versions, Type.STRINGS, [version for _, _, version in relations]),
    ]


def _provides(one: Shipped) -> Iterator[Relation]:
    epoch = f"{one.ware.epoch}:" if one.ware.epoch else ""
    full = f"{epoch}{one.version}"
    if one.ware.settings:
        yield f"config({one.name})", EQUAL, full
    if one.ware.library:
        yield f"{one.ware.library}{BITS if one.architecture == 'x86_64' else ''}", 0, ""
    yield one.name, EQUAL, full
    if one.architecture == "x86_64":
        yield f"{one.name}(x86-64)", EQUAL, full
    yield from _all(one.ware.provides)


def _requires(one: Shipped) -> Iterator[Relation]:
    ware = one.ware
    epoch = f"{ware.epoch}:" if ware.epoch else ""
    if any(script in _SCRIPT_TAGS for script in ware.scripts) and ware.name != "coastbase":
        yield "/usr/bin/dsh", _POST, ""
    if ware.settings:
        yield f"config({one.name})", EQUAL, f"{epoch}{one.version}"
    sonames = dict(one.sonames)
    for relation in _all(f"{ware.needs_first}, {ware.needs}"):
        soname = sonames.get(relation[0])
        if soname and one.architecture != "noarch":
            yield f"{soname}{BITS if one.architecture == 'x86_64' else ''}", 0, ""
            if not relation[1]:
                continue
        yield relation
    yield from one.needs
    for feature, since in _FEATURES:
        yield f"rpmlib({feature})", LESS | EQUAL | FORMAT, since
    if any(relation[0].startswith("(") for relation in one.needs):
        yield "rpmlib(RichDependencies)", LESS | EQUAL | FORMAT, "4.12.0-1"


def _all(text: str) -> list[Relation]:
    """Relations out of the world's notation; alternatives become a rich expression."""
    found = []
    for group in filter(None, (part.strip() for part in text.split(","))):
        if group.startswith("("):
            found.append((group, 0, ""))
            continue
        terms = [_term(item.strip()) for item in group.split("|")]
        if len(terms) == 1:
            found.append(terms[0])
        else:
            found.append((f"({' or '.join(_written(*term) for term in terms)})", 0, ""))
    return found


def _term(text: str) -> Relation:
    match = _ITEM.fullmatch(text)
    assert match is not None, text
    name = package_name(match["name"])
    return (
        (name, _OPERATORS[match["operator"]], match["version"])
        if match["version"]
        else (name, 0, "")
    )


def _written(name: str, flags: int, version: str) -> str:
    signs = {LESS: "<", LESS | EQUAL: "<=", EQUAL: "=", GREATER | EQUAL: ">=", GREATER: ">"}
    return f"{name} {signs[flags]} {version}" if flags else name
