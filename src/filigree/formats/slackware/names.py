"""What `slackware` packages are called: `NAME-VERSION-ARCHITECTURE-BUILD`, taken apart from the right.

A name may hold hyphens, the other parts do not. A build is a number, and behind it perhaps the tag of
whoever built it. Follows the manual page of the program that makes such packages.
"""

import re
from typing import NamedTuple

_BUILD = re.compile(r"(\d+)(.*)", re.DOTALL)
_ENDING = re.compile(r"\.t(?:xz|gz|bz|lz)$")
_RELEASE = re.compile(r"_slack[0-9][0-9.]*|_slack-?current")
_TIME = re.compile(r"(.+)-upgraded-(\d{4})-(\d\d)-(\d\d),(\d\d):(\d\d):(\d\d)")


class Label(NamedTuple):
    """The parts of what a package is called."""

    name: str
    version: str
    architecture: str
    build: str

    @property
    def full_version(self) -> str:
        """Version and build."""
        return f"{self.version}-{self.build}"

    def __str__(self) -> str:
        return f"{self.name}-{self.version}-{self.architecture}-{self.build}"


class Gone(NamedTuple):
    """What the record of a removed package is called: its label, and the moment (as six numbers) at
    which another took its place; None where it was removed."""

    label: str
    moment: tuple[int, int, int, int, int, int] | None


def split_label(text: str) -> Label | None:
    """The parts of a label; None where it has not as many as it must have."""
    parts = text.rsplit("-", 3)
    return Label(*parts) if len(parts) == 4 and all(parts) and "/" not in text else None


def without_ending(name: str) -> str | None:
    """The label in the name of an archive; None where no archive is called so."""
    bare = _ENDING.sub("", name)
    return bare if bare and bare != name else None


def label_of_archive(path: str) -> Label | None:
    """The label of the archive at a path; None where no archive of a package is called so."""
    return split_label(without_ending(path.rpartition("/")[2]) or "")


def split_gone(name: str) -> Gone:
    """What the name of a removed package's record says."""
    match = _TIME.fullmatch(name)
    if match is None:
        return Gone(name, None)
    year, month, day, hour, minute, second = map(int, match.groups()[1:])
    return Gone(match[1], (year, month, day, hour, minute, second))


def split_build(build: str) -> tuple[int | None, str]:
    """The number of a build, None where it has none, and what follows it: `3_tide` is 3 and `_tide`."""
    match = _BUILD.fullmatch(build)
    return (int(match[1]), match[2]) if match and len(match[1]) < 16 else (None, build)


def packager_of(build: str) -> str | None:
    """The tag of whoever built a package; None where the distribution did, which has none.

    The distribution marks its own updates with the release that they are for.
    """
    _, tag = split_build(build)
    return _RELEASE.sub("", tag).lstrip("_-.") or None
