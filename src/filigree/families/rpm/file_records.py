"""The files of a package, out of its header: what is on record of each."""

import stat
from collections.abc import Callable, Iterator, Sequence
from itertools import chain, repeat
from typing import Any

from filigree.families.shared.listing import PathListing, SplitListing
from filigree.formats.file_capabilities import canonical
from filigree.formats.rpm import tags
from filigree.formats.rpm.header import Header, HeaderError
from filigree.model.files import (
    KIND_OF_FORM,
    Aspect,
    FileRecord,
    Kind,
    LocalPolicy,
    Role,
    Sort,
)
from filigree.model.limits import PATH_LIMIT

DIGESTS = {
    1: ("md5", 32), 2: ("sha1", 40), 8: ("sha256", 64), 9: ("sha384", 96), 10: ("sha512", 128),
    11: ("sha224", 56), 12: ("sha3_256", 64), 14: ("sha3_512", 128),
}  # fmt: skip
_CONFIG, _DOC, _MISSING_OK, _NO_REPLACE, _GHOST, _LICENSE, _README = 1, 2, 8, 16, 64, 128, 256
_SHARED, _SHARED_WORDS = 3, "it is shared over the network"
_LONG = 2000
_IGNORED: dict[int, frozenset[Aspect]] = {-1: frozenset(), 0xFF: frozenset()}
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


_COLOURS = {1: "32-bit code", 2: "64-bit code"}


_ALWAYS = 1 << 20


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
    """How many paths a header tells."""
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
    found = []
    for (
        path, mode, digest, size, owner, group, target, flags, checks, device, modified,
        carried, colour,
    ) in _columns(header):  # fmt: skip
        kind = KIND_OF_FORM.get(mode & 0o170000) if mode >= 0 else None
        is_file = kind is Kind.FILE
        is_link = kind is Kind.LINK
        ghost = bool(flags & _GHOST)
        plain = is_file and not ghost
        found.append(
            FileRecord(
                path, path, kind,
                digest=f"{algorithm}:{digest.lower()}" if plain and len(digest) == length else None,
                size=size if plain and size >= 0 else None,
                # A link has no mode of its own.
                mode=mode & 0o7777 if kind is not None and not is_link else None,
                owner=owner or None, group=group or None,
                link_target=target if is_link and not ghost else None,
                config=bool(flags & _CONFIG), mark=_mark(flags), excuse=_excuse(flags),
                device=device if kind in (Kind.BLOCK_DEVICE, Kind.CHARACTER_DEVICE) else None,
                modified=modified if plain and modified >= 0 else None,
                capabilities=(canonical(carried) if carried else "") if is_file else None,
                ignored=_ignored(checks),
                remarks=(*_remarks(flags, colour if is_file else 0), *linked.get(path, ())),
            )
        )  # fmt: skip
    return found


def _columns(header: Header) -> Iterator[tuple[Any, ...]]:
    """A row a path, out of columns of which some may be absent."""
    return zip(
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
    found = _IGNORED.get(checks)
    if found is None:
        found = frozenset(aspect for bit, aspect in _CHECKED.items() if not checks & bit)
        if len(_IGNORED) < _LONG:
            _IGNORED[checks] = found
    return found


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
