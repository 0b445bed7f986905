"""Sizes out of a long listing of a tree of files, `FILELIST.TXT`, a line each as `ls -l` writes them."""

import re

from filigree.formats.damage import text_of

_LINE = re.compile(
    r"^-[-rwxsStT]{9}\S* +\d+ +\S+ +\S+ +(\d{1,15}) +\d{4}-\d\d-\d\d +\d\d:\d\d(?::\d\d)? +(\./\S+)$",
    re.MULTILINE,
)


def read_sizes(data: bytes) -> dict[str, int]:
    """The size in bytes of each regular file, by its path; other lines are for people."""
    return {path: int(size) for size, path in _LINE.findall(text_of(data))}
