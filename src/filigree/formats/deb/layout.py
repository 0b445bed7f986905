"""The small files in which a `deb` system keeps what is not in its status file.

Diversions, owner-and-mode overrides, path exclusions and marks of automatic
installation, as the manual pages of the programs that write them describe them.
"""

from typing import NamedTuple

from filigree.formats.damage import Damage, text_of
from filigree.model.files import Relocation


class Override(NamedTuple):
    """An administrator's declared owner, group and mode of one path."""

    owner: str
    group: str
    mode: int
    path: str


class PathRule(NamedTuple):
    """Whether paths that match `pattern` are installed; the last rule that matches counts."""

    include: bool
    pattern: str


def read_diversions(data: bytes) -> tuple[list[Relocation], list[Damage]]:
    """Three lines each: original path, where it goes, the package that keeps the original."""
    lines = text_of(data).split("\n")
    if lines and not lines[-1]:
        lines.pop()
    found: list[Relocation] = []
    damages: list[Damage] = []
    for start in range(0, len(lines), 3):
        part = lines[start : start + 3]
        if len(part) < 3 or not part[0].startswith("/") or not part[1].startswith("/"):
            damages.append(Damage(start + 1, "a diversion that is not three lines"))
            break
        found.append(Relocation(part[0], part[1], None if part[2] == ":" else part[2]))
    return found, damages


def read_overrides(data: bytes) -> tuple[list[Override], list[Damage]]:
    """Lines of user, group, octal mode and path."""
    found: list[Override] = []
    damages: list[Damage] = []
    for number, line in enumerate(text_of(data).split("\n"), 1):
        if not line.strip():
            continue
        parts = line.split(" ", 3)
        try:
            owner, group, mode, path = parts
            found.append(Override(owner, group, int(mode, 8) & 0o7777, path))
        except ValueError:
            damages.append(Damage(number, "a line that is no owner, group, mode and path"))
    return found, damages


def read_path_rules(data: bytes) -> list[PathRule]:
    """The `path-exclude` and `path-include` lines of a configuration file, in their order."""
    rules: list[PathRule] = []
    for line in text_of(data).split("\n"):
        name, _, value = line.strip().partition("=")
        name = name.strip()
        if name in ("path-exclude", "path-include"):
            rules.append(PathRule(name == "path-include", value.strip().strip("\"'")))
    return rules
