"""Files as an mtree specification (as BSD systems describe it): what is expected, or what was found, a
path a line."""

import re
from collections.abc import Iterable, Iterator

from filigree.model.files import FileRecord, Kind
from filigree.views.handover.shared import digest_of

_KINDS = {
    Kind.FILE: "file", Kind.DIRECTORY: "dir", Kind.LINK: "link", Kind.PIPE: "fifo",
    Kind.CHARACTER_DEVICE: "char", Kind.BLOCK_DEVICE: "block", Kind.SOCKET: "socket",
}  # fmt: skip
_WORDS = {
    "md5": "md5digest", "sha1": "sha1digest", "sha256": "sha256digest", "sha384": "sha384digest",
    "sha512": "sha512digest",
}  # fmt: skip
_ODD = re.compile(rb"[^!-\[\]-~]|[#*?=]")


def mtree(records: Iterable[FileRecord]) -> Iterator[str]:
    """The specification, line by line, by path, each once. What a record is silent on is left out, and so
    is a path of which nothing but its name is on record."""
    yield "#mtree"
    kept: dict[str, FileRecord] = {}
    for record in records:
        kept.setdefault(record.path, record)
    for path in sorted(kept):
        told = _told(kept[path])
        if told:
            yield f".{_written(path)} {' '.join(told)}"


def _told(record: FileRecord) -> list[str]:
    found = []
    kind = record.kind or (Kind.LINK if record.link_target is not None else None)
    if kind is None and record.digest is not None:
        kind = Kind.FILE
    if kind in _KINDS:
        found.append(f"type={_KINDS[kind]}")
    if record.mode is not None:
        found.append(f"mode={record.mode & 0o7777:04o}")
    for word, value in (("u", record.owner), ("g", record.group)):
        if value is not None:
            number = value.removeprefix("#")
            by_number = value.startswith("#") and number.isdecimal()
            found.append(f"{word}id={number}" if by_number else f"{word}name={_written(value)}")
    if record.size is not None and kind is Kind.FILE:
        found.append(f"size={record.size}")
    if record.link_target is not None:
        found.append(f"link={_written(record.link_target)}")
    digest = digest_of(record.digest)
    if digest is not None and digest.algorithm in _WORDS:
        found.append(f"{_WORDS[digest.algorithm]}={digest.hexadecimal}")
    return found


def _written(text: str) -> str:
    """A text with whatever is no plain sign as a backslash and three octal digits."""
    data = text.encode("utf-8", "surrogateescape")
    return _ODD.sub(lambda found: b"\\%03o" % found[0][0], data).decode("ascii")
