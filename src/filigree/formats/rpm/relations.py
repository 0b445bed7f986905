"""Relations between `rpm` packages: a name, flags and a version, or a rich expression.

    rich    = "(" operand *(join operand) ")"
    join    = "and" | "or" | "with" | "without" | "if" | "unless"       one kind in one bracket
    operand = rich | name [operator version]
    (a if b else c), (a unless b else c)

Follows the chapters on dependencies, and on boolean dependencies, of the format's manual. Brackets
that belong to a name (`libx.so.1()(64bit)`) are balanced within it.
"""

import re
from typing import Final

from filigree.formats.relation_error import RelationError
from filigree.model.limits import PATH_LIMIT, VERSION_LIMIT
from filigree.model.needs import Combined, Comparison, Condition, Join, Term

LESS: Final = 1 << 1
GREATER: Final = 1 << 2
EQUAL: Final = 1 << 3
BEFORE: Final = (1 << 6) | (1 << 7) | (1 << 9)
"""Flags of what must be there before the package is: for its scripts that run first."""
MISSING_OK: Final = 1 << 19
"""The flag of a requirement that is only a wish, in packages of long ago."""
FORMAT: Final = 1 << 24
"""The flag of a requirement of the format itself."""

FEATURES = frozenset({
    "BuiltinLuaScripts", "CaretInVersions", "CompressedFileNames", "ConcurrentAccess",
    "DynamicBuildRequires", "ExplicitPackageProvide", "FileCaps", "FileDigests",
    "HeaderLoadSortsTags", "LargeFiles", "PartialHardlinkSets", "PayloadFilesHavePrefix",
    "PayloadIsBzip2", "PayloadIsLzma", "PayloadIsUstar", "PayloadIsXz", "PayloadIsZstd",
    "RichDependencies", "ScriptletExpansion", "ScriptletInterpreterArgs", "SetVersions",
    "TildeInVersions", "VersionedDependencies",
})  # fmt: skip
"""The features that a package may ask of whoever reads it, all of which are known here."""

DEPTH_LIMIT = 40
_COMPARISONS = {
    LESS: Comparison.LESS,
    LESS | EQUAL: Comparison.AT_MOST,
    EQUAL: Comparison.EQUAL,
    GREATER | EQUAL: Comparison.AT_LEAST,
    GREATER: Comparison.GREATER,
}
_OPERATORS = {
    "<": Comparison.LESS, "<=": Comparison.AT_MOST, "=": Comparison.EQUAL, "==": Comparison.EQUAL,
    ">=": Comparison.AT_LEAST, ">": Comparison.GREATER,
}  # fmt: skip
_SPACE = re.compile(r"\s*")
_OPERATOR = re.compile(r"\s+(<=|>=|==|<|>|=)\s+")
_JOIN = re.compile(r"\s+(and|or|if|unless|with|without)\s+")
_ELSE = re.compile(r"\s+else\s+")
_FEATURE = re.compile(r"rpmlib\((.*)\)")
_DEPENDING = (Join.IF, Join.UNLESS)


def comparison_of(flags: int) -> Comparison | None:
    """How versions are compared; None where any version will do."""
    return _COMPARISONS.get(flags & (LESS | GREATER | EQUAL))


def feature_of(name: str) -> str | None:
    """The feature of the format that a name asks for; None where it is none."""
    match = _FEATURE.fullmatch(name)
    return match[1] if match else None


def condition_of(name: str, flags: int, version: str) -> Condition:
    """What a relation asks for. Raises RelationError."""
    if len(version) > VERSION_LIMIT or len(name) > PATH_LIMIT:
        raise RelationError(f"a relation that is unreasonably long: {name[:80]!r}")
    if name.startswith("("):
        return parse_rich(name)
    comparison = comparison_of(flags)
    return Term(name, comparison, version) if comparison and version else Term(name)


def written(name: str, flags: int, version: str) -> str:
    """A relation as people write it."""
    comparison = comparison_of(flags)
    return f"{name} {comparison} {version}" if comparison and version else name


def parse_rich(text: str) -> Condition:
    """A whole rich expression. Raises RelationError."""
    found, end = _rich(text, _SPACE.match(text).end(), 0)  # type: ignore[union-attr]
    if text[end:].strip():
        raise _wrong(text, end)
    return found


def _rich(text: str, at: int, depth: int) -> tuple[Condition, int]:
    if text[at : at + 1] != "(" or depth > DEPTH_LIMIT:
        raise _wrong(text, at)
    first, at = _operand(text, at + 1, depth)
    parts = [first]
    join: Join | None = None
    while text[_skip(text, at) : _skip(text, at) + 1] != ")":
        match = _JOIN.match(text, at)
        if match is None or (join is not None and (join != match[1] or join in _DEPENDING)):
            raise _wrong(text, at)
        join = Join(match[1])
        part, at = _operand(text, match.end(), depth)
        parts.append(part)
        other = _ELSE.match(text, at) if join in _DEPENDING else None
        if other:
            part, at = _operand(text, other.end(), depth)
            parts.append(part)
    return (Combined(join, tuple(parts)) if join else first), _skip(text, at) + 1


def _operand(text: str, at: int, depth: int) -> tuple[Condition, int]:
    at = _skip(text, at)
    if text[at : at + 1] == "(":
        return _rich(text, at, depth + 1)
    name, at = _word(text, at)
    operator = _OPERATOR.match(text, at)
    if operator is None:
        return Term(name), at
    version, at = _word(text, operator.end())
    return Term(name, _OPERATORS[operator[1]], version), at


def _word(text: str, at: int) -> tuple[str, int]:
    """What goes on to a space, or to a bracket that it did not open itself."""
    start = at
    opened = 0
    while at < len(text) and not text[at].isspace():
        if text[at] == "(":
            opened += 1
        elif text[at] == ")":
            if not opened:
                break
            opened -= 1
        at += 1
    if at == start or opened:
        raise _wrong(text, start)
    return text[start:at], at


def _skip(text: str, at: int) -> int:
    return _SPACE.match(text, at).end()  # type: ignore[union-attr]


def _wrong(text: str, at: int) -> RelationError:
    return RelationError(f"not a relation, from sign {at + 1} on: {text[:80]!r}")
