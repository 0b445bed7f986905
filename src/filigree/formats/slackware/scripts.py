"""Links in the scripts of `slackware` packages, and the configuration that they put in place. Never run.

    link   = "( cd" directory "; ln -sf" target name ")"
    config = "config" path ".new"

Whoever makes such a package takes the links out of it, and leaves a line for each to the script that runs
at installation. Lines of other forms do what they do: nothing is told of them here.
"""

import re
from typing import NamedTuple

_WORD = r"((?:\\.|[^\s\\;()])+)"
_LINK = re.compile(
    rf"^[ \t]*\([ \t]*cd[ \t]+{_WORD}[ \t]*;[ \t]*ln[ \t]+-sf[ \t]+{_WORD}[ \t]+{_WORD}[ \t]*\)[ \t]*$",
    re.MULTILINE,
)
_CONFIG = re.compile(r"^[ \t]*(?:config|preserve_perms)[ \t]+(\S+\.new)[ \t]*$", re.MULTILINE)
_ESCAPED = re.compile(r"\\(.)", re.DOTALL)


class MadeLink(NamedTuple):
    """A link: its path from the top, without a slash before it, and where it leads."""

    path: str
    target: str


def read_links(text: str) -> list[MadeLink]:
    """The links of a script, in its order; of a path that is made twice the last counts."""
    if "ln -sf" not in text:
        return []
    found: dict[str, MadeLink] = {}
    for folder, target, name in _LINK.findall(text):
        above = _plain(folder).strip("/")
        path = f"{above}/{_plain(name)}" if above not in ("", ".") else _plain(name)
        found[path] = MadeLink(path, _plain(target))
    return list(found.values())


def read_settings(text: str) -> list[str]:
    """The paths, ending in `.new`, of configuration that a script puts in place."""
    return [path.strip("/").removeprefix("./") for path in _CONFIG.findall(text)]


def _plain(word: str) -> str:
    return _ESCAPED.sub(r"\1", word)
