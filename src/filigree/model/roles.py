"""What a file is for, worked out from its path, its mode and the family's own mark.

The directories are those of the Filesystem Hierarchy Standard 3.0 (sections 3 and 4).
"""

import re

from filigree.model.files import Kind, Role

_LICENSE = re.compile(
    r"/usr/share/(?:doc/[^/]+/|licenses/|common-licenses/)(?:.*/)?"
    r"(?:copyright|licen[cs]es?|copying)[^/]*$|/usr/share/(?:licenses|common-licenses)/",
    re.IGNORECASE,
)
_PLACES = re.compile(
    r"(?P<config>/etc/)|/usr/(?:(?P<doc>doc)|(?P<manual>man|info)|(?P<header>include))/"
    r"|/(?:usr/(?:local/)?)?(?:(?P<program>(?:s?bin|games)/[^/]+$)|(?P<library>lib(?:x?32|64|exec)?/))"
)
_LIBRARY_NAME = re.compile(r"\.(?:so(?:\.[^/]+)?|a|la|o|ko(?:\.(?:xz|gz|zst))?)$")
_SHARED: tuple[tuple[str, Role], ...] = (
    ("doc/", Role.DOC),
    ("gtk-doc/", Role.DOC),
    ("man/", Role.MANUAL),
    ("info/", Role.MANUAL),
    ("locale/", Role.LOCALE),
    ("i18n/", Role.LOCALE),
)


def role_of(
    path: str, kind: Kind | None, mode: int | None = None, mark: Role | None = None
) -> Role:
    """The role of one path. `mark` is what the package's own record says, and goes before all."""
    if kind is Kind.DIRECTORY:
        return Role.DIRECTORY
    if mark is not None and mark is not Role.DOC:
        return mark
    # Whoever marks documentation does not tell manuals, licenses and translations apart.
    found = _by_path(path, kind, mode)
    return found if mark is None or found in _PAPERS else mark


_PAPERS = (Role.MANUAL, Role.LICENSE, Role.LOCALE)


def _by_path(path: str, kind: Kind | None, mode: int | None) -> Role:
    if path.startswith("/usr/share/"):
        return _shared(path, kind)
    match = _PLACES.match(path)
    place = match.lastgroup if match else None
    if place is not None and place != "library":
        return Role(place)
    if place == "library":
        if _LIBRARY_NAME.search(path):
            return Role.LIBRARY
        if kind is Kind.FILE and mode is not None and mode & 0o111:
            return Role.PROGRAM
    return Role.LINK if kind is Kind.LINK else Role.DATA


def _shared(path: str, kind: Kind | None) -> Role:
    if _LICENSE.match(path):
        return Role.LICENSE
    for prefix, role in _SHARED:
        if path.startswith(prefix, len("/usr/share/")):
            return role
    return Role.LINK if kind is Kind.LINK else Role.DATA
