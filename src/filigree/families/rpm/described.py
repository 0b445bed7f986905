"""From a package header to a package, its needs, its files: the same for a record and an archive."""

import re
import stat
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from itertools import chain, repeat
from typing import Any

from filigree.families.shared.listing import PathListing, SplitListing
from filigree.formats.file_capabilities import canonical
from filigree.formats.relation_error import RelationError
from filigree.formats.rpm import tags
from filigree.formats.rpm.header import Header, HeaderError
from filigree.formats.rpm.relations import (
    BEFORE,
    FEATURES,
    FORMAT,
    MISSING_OK,
    comparison_of,
    condition_of,
    feature_of,
    written,
)
from filigree.model.answer import moment_of
from filigree.model.files import (
    KIND_OF_FORM,
    Aspect,
    FileRecord,
    Kind,
    LocalPolicy,
    Role,
    Sort,
)
from filigree.model.limits import PATH_LIMIT, why_too_long
from filigree.model.needs import Capability, Need, Relation
from filigree.model.package import Package, Script, State

KEY = "gpg-pubkey"
"""The name under which imported keys are on record: they are no software."""

ASPECTS = frozenset(Aspect) - {Aspect.RECORD}
DIGESTS = {
    1: ("md5", 32), 2: ("sha1", 40), 8: ("sha256", 64), 9: ("sha384", 96), 10: ("sha512", 128),
    11: ("sha224", 56), 12: ("sha3_256", 64), 14: ("sha3_512", 128),
}  # fmt: skip
_CONFIG, _DOC, _MISSING_OK, _NO_REPLACE, _GHOST, _LICENSE, _README = 1, 2, 8, 16, 64, 128, 256
_CHECKED = {
    1 << 0: Aspect.CONTENT,
    1 << 1: Aspect.SIZE,
    1 << 2: Aspect.LINK_TARGET,
    1 << 3: Aspect.OWNER,
    1 << 4: Aspect.GROUP,
    1 << 5: Aspect.MODIFIED,
    1 << 6: Aspect.MODE,
    1 << 7: Aspect.DEVICE,
    1 << 8: Aspect.CAPABILITIES,
}
_STATES = {
    1: "another package's file has taken its place",
    2: "it was not installed, by choice",
    4: "it was not installed: it is for another kind of machine code",
}
_SHARED, _SHARED_WORDS = 3, "it is shared over the network"
_COLOURS = {1: "32-bit code", 2: "64-bit code"}
_SCRIPTS = (
    ("pre-install", 1023), ("post-install", 1024), ("pre-remove", 1025), ("post-remove", 1026),
    ("pre-transaction", 1151), ("post-transaction", 1152), ("pre-untransaction", 5104),
    ("post-untransaction", 5105), ("verify", 1079),
)  # fmt: skip
_SEVERAL_SCRIPTS = (("trigger", 1065), ("file-trigger", 5066), ("transaction-trigger", 5076))
KIND_OF_FORM_OF_NEED = (
    ("requires", Relation.REQUIRES),
    ("recommends", Relation.RECOMMENDS),
    ("suggests", Relation.SUGGESTS),
    ("suggests of long ago", Relation.SUGGESTS),
    ("supplements", Relation.SUPPLEMENTS),
    ("enhances", Relation.ENHANCES),
    ("enhances of long ago", Relation.ENHANCES),
    ("conflicts", Relation.CONFLICTS),
    ("obsoletes", Relation.OBSOLETES),
)
_SOURCE_NAME = re.compile(r"(?P<name>.+)-(?P<version>[^-]+-[^-]+)\.(?:no)?src\.rpm")
_LONG = 2000
_ALWAYS = 1 << 20


def name_of(header: Header) -> str:
    """The package's name; empty where the header has none."""
    return header.text(tags.NAME) or ""


def package_of(
    header: Header,
    state: State = State.INSTALLED,
    more: Callable[[str, str, str], Mapping[str, Any]] | None = None,
) -> Package:
    """The package that a header describes. Raises HeaderError where it names none.

    `more` tells what else is known of a name, version and architecture, as fields of the package.
    """
    name, version = header.text(tags.NAME), header.text(tags.VERSION)
    if not name or not version:
        raise HeaderError(f"a package without a {'version' if name else 'name'}", 0)
    size = header.number(tags.LONG_SIZE)
    source, source_version = _source(header.text(tags.SOURCE_PACKAGE))
    architecture = header.text(tags.ARCHITECTURE) or "none"
    if tags.SOURCE_PACKAGE not in header and tags.SOURCE_MARK in header:
        architecture = "src"
    full = full_version(header.number(tags.EPOCH), version, header.text(tags.RELEASE))
    too_long = why_too_long(name, full, architecture)
    if too_long is not None:
        raise HeaderError(too_long, 0)
    return Package(
        **(more(name, full, architecture) if more else {}),
        name=name,
        version=full,
        architecture=architecture,
        family="rpm",
        state=state,
        section=header.text(tags.GROUP),
        source=source,
        source_version=source_version,
        summary=header.text(tags.SUMMARY),
        description=header.text(tags.DESCRIPTION),
        homepage=header.text(tags.URL),
        license=header.text(tags.LICENSE),
        maintainer=header.text(tags.PACKAGER),
        vendor=header.text(tags.VENDOR),
        installed_size=header.number(tags.SIZE) if size is None else size,
        built_at=moment_of(header.number(tags.BUILD_TIME) or None),
        build_host=header.text(tags.BUILD_HOST),
        installed_at=moment_of(header.number(tags.INSTALL_TIME) or None),
    )


def full_version(epoch: int | None, version: str, release: str | None) -> str:
    """The parts of a version as they are written in one; an epoch of 0 is left out."""
    front = f"{epoch}:{version}" if epoch else version
    return f"{front}-{release}" if release else front


def _source(name: str | None) -> tuple[str | None, str | None]:
    match = _SOURCE_NAME.fullmatch(name or "")
    return (match["name"], match["version"]) if match else (name, None)


def source_name(name: str | None) -> str | None:
    """The name of the source package, out of the name of its archive."""
    return _source(name)[0]


# -- needs ----------------------------------------------------------------------------------


def relations(header: Header, which: str) -> Iterator[tuple[str, int, str]]:
    """Name, flags and version of each relation of one kind."""
    names, flags, versions = tags.RELATIONS[which]
    found = header.texts(names)
    if found:
        more = chain(header.numbers(flags), repeat(0)), chain(header.texts(versions), repeat(""))
        yield from zip(found, *more, strict=False)


Written = Callable[[str], Iterable[tuple[str, int, str]]]
"""Name, flags and version of each relation of one kind."""


def needs_of(told: Written) -> Iterator[Need | RelationError]:
    """Every need of a package, each once; a RelationError in the place of one that does not parse."""
    seen = set()
    for which, kind in KIND_OF_FORM_OF_NEED:
        for name, flags, version in told(which):
            try:
                need = _need(kind, name, flags, version)
            except RelationError as error:
                yield error
                continue
            # The same need is written once for each script that has it.
            if (need.kind, need.text) not in seen:
                seen.add((need.kind, need.text))
                yield need


def _need(kind: Relation, name: str, flags: int, version: str) -> Need:
    text = written(name, flags, version)
    condition = condition_of(name, flags, version)
    if kind is Relation.REQUIRES:
        feature = feature_of(name)
        if feature is not None and (flags & FORMAT or feature in FEATURES):
            granted = "a feature of the package format" if feature in FEATURES else None
            return Need(Relation.FORMAT, condition, text, granted)
        if flags & MISSING_OK:
            kind = Relation.RECOMMENDS
        elif flags & BEFORE:
            kind = Relation.REQUIRES_FIRST
    return Need(kind, condition, text)


def capabilities_of(told: Written, package: Package) -> tuple[Capability, ...]:
    """The names that a package answers to: its own, at its version, and those it provides."""
    found = {package.name: Capability(package.name, package.version)}
    for name, flags, version in told("provides"):
        comparison = comparison_of(flags)
        if comparison is None or not version:
            capability = Capability(name)
        else:
            capability = Capability(name, version, comparison)
        found[str(capability)] = capability
    own = str(found.pop(package.name))
    found.pop(own, None)
    return (Capability(package.name, package.version), *found.values())


# -- files ----------------------------------------------------------------------------------


def listing_of(header: Header) -> PathListing | SplitListing:
    """The paths of a package. Raises HeaderError."""
    if tags.BASE_NAMES not in header:
        return PathListing(header.texts(tags.OLD_FILE_NAMES))
    places, folders = header.numbers(tags.DIRECTORY_INDEXES), header.texts(tags.DIRECTORY_NAMES)
    if len(places) != header.length(tags.BASE_NAMES) or max(places, default=-1) >= len(folders):
        raise HeaderError("the names and directories of files do not fit", 0)
    _not_swollen(header, [len(folder) for folder in folders], places)
    return SplitListing(header.raw_texts(tags.BASE_NAMES), folders, places)


def _not_swollen(header: Header, lengths: Sequence[int], places: Sequence[int]) -> None:
    """Raise HeaderError where directories are longer than paths are, or make much more of what is there:
    each is written once, and may stand before a million names."""
    if max(lengths, default=0) > PATH_LIMIT:
        raise HeaderError(f"a path of more than {PATH_LIMIT:,} signs", 0)
    if sum(lengths[place] for place in places) > (header.end << 5) + _ALWAYS:
        raise HeaderError("the paths of its files are more than such a header could hold", 0)


def path_count(header: Header) -> int:
    return header.length(tags.BASE_NAMES) or header.length(tags.OLD_FILE_NAMES)


def _column(values: Sequence[int], missing: int) -> Iterator[int]:
    return chain(values, repeat(missing))


def _words(values: Sequence[str]) -> Iterator[str]:
    return chain(values, repeat(""))


def with_states(
    found: list[FileRecord], header: Header, file: str, report: Callable[[str], None]
) -> list[FileRecord]:
    """What is on record of each path, with the states that stand beside what is signed.

    They are the database's own word, in `file`. One that is not known counts as none, and is reported.
    Raises HeaderError.
    """
    states = header.numbers(tags.FILE_STATES)
    if not any(states):
        return found
    odd = {state for state in states if state and state not in (*_STATES, _SHARED)}
    for state in sorted(odd):
        report(f"{states.count(state):,} of them are in a state that is not known, {state}")

    def one(record: FileRecord, state: int) -> FileRecord:
        words = _STATES.get(state) or (_SHARED_WORDS if state == _SHARED else None)
        if words is None:
            return record
        policy = LocalPolicy(Sort.STATE, file, words)
        moot = words if state in _STATES else None
        return record._replace(moot=moot, excuse=words, policies=(policy,), plain=record)

    return [one(record, state) for record, state in zip(found, _column(states, 0), strict=False)]


def files_of(header: Header) -> list[FileRecord]:
    """What is on record of each path, but for the states that it has here. Raises HeaderError."""
    listing_of(header)  # what would swell is told before it does
    algorithm, length = DIGESTS.get(header.number(tags.FILE_DIGEST_ALGORITHM) or 1, ("unknown", 0))
    linked = _hard_links(header)
    columns = zip(
        header.paths,
        _column(header.numbers(tags.FILE_MODES), -1),
        _words(header.texts(tags.FILE_DIGESTS)),
        _column(header.sizes, -1),
        _words(header.texts(tags.FILE_OWNERS)),
        _words(header.texts(tags.FILE_GROUPS)),
        _words(header.texts(tags.FILE_LINKS)),
        _column(header.numbers(tags.FILE_FLAGS), 0),
        _column(header.numbers(tags.FILE_VERIFY_FLAGS), -1),
        _column(header.numbers(tags.FILE_DEVICE_NUMBERS), 0),
        _column(header.numbers(tags.FILE_TIMES), -1),
        _words(header.texts(tags.FILE_CAPABILITIES)),
        _column(header.numbers(tags.FILE_COLOURS), 0),
        strict=False,
    )
    found = []
    for (
        path, mode, digest, size, owner, group, target, flags, checks, device, modified,
        carried, colour,
    ) in columns:  # fmt: skip
        kind = KIND_OF_FORM.get(mode & 0o170000) if mode >= 0 else None
        is_file = kind is Kind.FILE
        is_link = kind is Kind.LINK
        ghost = bool(flags & _GHOST)
        plain = is_file and not ghost
        found.append(
            FileRecord(
                path,
                path,
                kind,
                f"{algorithm}:{digest.lower()}" if plain and len(digest) == length else None,
                size if plain and size >= 0 else None,
                # A link has no mode of its own.
                mode & 0o7777 if kind is not None and not is_link else None,
                owner or None,
                group or None,
                target if is_link and not ghost else None,
                bool(flags & _CONFIG),
                _mark(flags),
                _excuse(flags),
                device if kind in (Kind.BLOCK_DEVICE, Kind.CHARACTER_DEVICE) else None,
                modified if plain and modified >= 0 else None,
                (canonical(carried) if carried else "") if is_file else None,
                _ignored(checks),
                None,
                None,
                (*_remarks(flags, colour if is_file else 0), *linked.get(path, ())),
            )
        )
    return found


def _mark(flags: int) -> Role | None:
    if flags & _CONFIG:
        return Role.CONFIG
    if flags & _LICENSE:
        return Role.LICENSE
    return Role.DOC if flags & (_DOC | _README) else None


def _excuse(flags: int) -> str | None:
    if flags & _GHOST:
        return "the package only claims its place"
    return "the package can do without it" if flags & _MISSING_OK else None


def _ignored(checks: int) -> frozenset[Aspect]:
    found = _WAIVED.get(checks)
    if found is None:
        found = frozenset(aspect for bit, aspect in _CHECKED.items() if not checks & bit)
        if len(_WAIVED) < _LONG:
            _WAIVED[checks] = found
    return found


# Flags of before there were capabilities say nothing of them.
_WAIVED: dict[int, frozenset[Aspect]] = {-1: frozenset(), 0xFF: frozenset()}


def _remarks(flags: int, colour: int) -> Iterator[str]:
    if flags & _GHOST:
        yield "not shipped: only its place is claimed"
    if flags & _MISSING_OK:
        yield "may be missing"
    if flags & _CONFIG and flags & _NO_REPLACE:
        yield "kept as it is when the package changes"
    if colour in _COLOURS:
        yield _COLOURS[colour]


def _hard_links(header: Header) -> dict[str, tuple[str]]:
    """For each path that is the same file as others of the package: which."""
    inodes, devices = header.numbers(tags.FILE_INODES), header.numbers(tags.FILE_DEVICES)
    modes = header.numbers(tags.FILE_MODES)
    if len(set(inodes)) == len(inodes):
        return {}
    same: dict[tuple[int, int], list[str]] = {}
    for path, inode, device, mode in zip(
        header.paths, inodes, chain(devices, repeat(0)), modes, strict=False
    ):
        if mode & 0o170000 == stat.S_IFREG:
            same.setdefault((device, inode), []).append(path)
    return {
        path: (f"the same file as {', '.join(other for other in paths if other != path)}",)
        for paths in same.values()
        if 1 < len(paths) <= _LONG
        for path in paths
    }


# -- the rest -------------------------------------------------------------------------------


def scripts_of(header: Header) -> tuple[Script, ...]:
    """The scripts of a package, by when they run."""
    return tuple(
        Script(name, len(text.encode("utf-8", "surrogateescape")))
        for name, text in _every_script(header)
    )


def script_texts_of(header: Header) -> Iterator[str]:
    """What the scripts of a package say."""
    return (text for _, text in _every_script(header))


def _every_script(header: Header) -> Iterator[tuple[str, str]]:
    for name, tag in _SCRIPTS:
        text = header.text(tag)
        if text is not None:
            yield name, text
    for name, tag in _SEVERAL_SCRIPTS:
        yield from ((name, text) for text in header.texts(tag))


def fields_of(header: Header, signing: bool = False) -> Mapping[str, str]:
    """Every tag of a header, by its name, its values as text."""
    found = {}
    for tag in header:
        try:
            found[tags.tag_name(tag, signing)] = _told(header.value(tag))
        except HeaderError as error:
            found[tags.tag_name(tag, signing)] = f"damaged: {error}"
    return found


def _told(value: tuple[int, ...] | tuple[str, ...] | bytes | None) -> str:
    """A value as text; of a long one its start, and how long it is."""
    if value is None:
        return ""
    if isinstance(value, bytes):
        return value[:64].hex() + (f" … ({len(value)} bytes)" if len(value) > 64 else "")
    text = ", ".join(str(one) for one in value[:_LONG])
    if len(text) > _LONG or len(value) > _LONG:
        text = f"{text[:_LONG]} … ({len(value)} values)"
    return text
