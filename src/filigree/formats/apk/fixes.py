"""The database of security fixes of a branch, as JSON: which versions of what mended which holes.

    {"distroversion": …, "reponame": …,
     "packages": [{"pkg": {"name": SOURCE, "secfixes": {VERSION: [IDENTITY …] …}}} …]}

Names are those of sources: what is made of one has its fixes. A version of `0` says that what is shipped
never had the hole.
"""

import json
from typing import Any, NamedTuple

from filigree.formats.apk.versions import is_version

_MOST = 1_000_000
_NEVER = "0"


class SecurityFix(NamedTuple):
    """A version of a source that mended holes, by their identities."""

    source: str
    version: str
    holes: tuple[str, ...]


class SecurityFixes(NamedTuple):
    """A database: of which branch and part of it, what was mended, and how many entries make no sense."""

    branch: str
    part: str
    fixes: tuple[SecurityFix, ...]
    damaged: int


def read_fixes(data: bytes) -> SecurityFixes:
    """A database. Raises ValueError where it is none."""
    try:
        told = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise ValueError(f"it is no JSON: {str(error)[:200]}") from error
    packages = told.get("packages") if isinstance(told, dict) else None
    if not isinstance(packages, list) or len(packages) > _MOST:
        raise ValueError("it tells of no packages")
    found: list[SecurityFix] = []
    damaged = 0
    for one in packages:
        try:
            found += _fixes_of(one["pkg"])
        except (KeyError, TypeError, AttributeError, ValueError):
            damaged += 1
    return SecurityFixes(
        _text(told.get("distroversion")), _text(told.get("reponame")), tuple(found), damaged
    )


def _fixes_of(package: Any) -> list[SecurityFix]:
    name = package["name"]
    found = []
    for version, holes in package["secfixes"].items():
        if version == _NEVER:
            continue
        if not isinstance(name, str) or not name or not is_version(version):
            raise ValueError(version)
        # One word may hold several identities of the same hole.
        words = [word for hole in holes if isinstance(hole, str) for word in hole.split()]
        found.append(SecurityFix(name, version, tuple(dict.fromkeys(words))))
    return found


def _text(value: Any) -> str:
    return value if isinstance(value, str) else ""
