"""The tables of a store: their columns, what those mean, and the order of their rows.

Texts and 64-bit numbers only. What many hosts have in common stands once: a build's files under the
identity of the build, and everything else of a host under the identity of a part, which is the digest of
its rows. A row of `snapshots` names its parts.
"""

from typing import NamedTuple

VERSION = 2
"""The version of the form. A store of an earlier one is asked as it is, and brought up to this when it is
gathered into. Since 2: `behind`."""


class FleetColumn(NamedTuple):
    """One column; `number` is whether it holds 64-bit numbers, and else texts; `since` the form of which
    it is: in files of earlier ones it is not, and stands for null."""

    name: str
    means: str
    number: bool = False
    since: int = 1


class FleetTable(NamedTuple):
    """One table. `key` is the column whose rows belong together and stand once; `order` are the columns
    that rows are sorted by in each file: what is searched for."""

    name: str
    key: str
    order: tuple[str, ...]
    means: str
    columns: tuple[FleetColumn, ...]

    @property
    def names(self) -> tuple[str, ...]:
        """The names of its columns."""
        return tuple(one.name for one in self.columns)


def _texts(**means: str) -> tuple[FleetColumn, ...]:
    return tuple(FleetColumn(name.rstrip("_"), told) for name, told in means.items())


def _numbers(**means: str) -> tuple[FleetColumn, ...]:
    return tuple(FleetColumn(name, told, True) for name, told in means.items())


PARTS = ("sets", "deviations", "keys", "repositories", "events", "gaps", "findings", "behind")
"""What a snapshot names by the identities of parts."""
_SINCE = {"behind": 2}
_PART = _texts(part="the identity of the part: the digest of its rows")

SNAPSHOTS = FleetTable(
    "snapshots", "snapshot", ("host", "taken_at"), "a snapshot of a host, and the parts it is made of",
    (
        *_texts(
            snapshot="the identity of the snapshot", host="what it was taken of",
            family="the family of the system", label="what the system calls itself",
            source="where it was gathered from",
            vouched="`signed` where a key of the host's own vouches for it, or `nobody`",
            signer="the fingerprint of the key that signed it; null for none",
        ),
        *(
            FleetColumn(one, f"the identity of its part of `{one}`", since=_SINCE.get(one, 1))
            for one in PARTS
        ),
        *_numbers(
            taken_at="when it was taken, in seconds since 1970", gathered_at="when it was gathered",
            packages="how many packages were present", paths="how many paths are on record",
        ),
    ),
)  # fmt: skip
SETS = FleetTable(
    "sets",
    "part",
    ("build", "part"),
    "which builds a host has",
    (
        *_PART,
        *_texts(build="the identity of the build", state="its state", reason="why it is there"),
    ),
)
BUILDS = FleetTable(
    "builds", "build", ("name", "version_key", "build"), "a package in one version, with all that is on "
    "record of it: the same build has the same files by the same digests",
    (
        *_texts(
            build="the identity of the build: the digest of all that follows, of its files and needs",
            family="its family", name="its name", version="its full version",
            version_key="a text that sorts as the version does; null where versions have no order",
            architecture="its architecture", source_="its source package", vendor="who made it",
        ),
        *_numbers(size="the size installed, in bytes", files="how many paths are on record"),
    ),
)  # fmt: skip
BUILD_FILES = FleetTable(
    "build_files", "build", ("path", "build"), "the paths of a build, as its record tells them",
    (
        *_texts(
            build="the identity of the build", path="the path", kind="its kind", user_name="its owner",
            group_name="its group", digest="its digest, as `algorithm:hex`",
            link_target="where a link leads",
            role="what it is for",
        ),
        *_numbers(mode="its mode", size="its size, in bytes"),
    ),
)  # fmt: skip
BUILD_NEEDS = FleetTable(
    "build_needs", "build", ("name", "build"),
    "the needs of a build: of each clause one name is to be there",
    (
        *_texts(
            build="the identity of the build", kind="the relation", need="the need as it is written",
            name="what meets it; null where that hangs on something else",
        ),
        *_numbers(clause="which clause of the build: rows of one clause are alternatives"),
    ),
)  # fmt: skip
BUILD_GIVES = FleetTable(
    "build_gives",
    "build",
    ("name", "build"),
    "what a build answers to: its own name, and others",
    _texts(build="the identity of the build", name="a name that it answers to"),
)
DEVIATIONS = FleetTable(
    "deviations", "part", ("path", "part"), "files that are not as they came, and files of nobody's "
    "(but for what the system makes of packages' own: byte-compiled files, alternatives, links to them)",
    (
        *_PART,
        *_texts(
            path="the path", build="the build that it is of; null for nobody's", package="its name",
            verdict="the verdict; `stray` for nobody's", role="what it is for, or its rank",
            digest="the digest of what is there; null where it was not read",
            aspects="in what it differs", evidence="what the verdict rests on",
        ),
        *_numbers(mode="its mode, of strays", size="its size, of strays"),
    ),
)  # fmt: skip
KEYS = FleetTable(
    "keys", "part", ("fingerprint", "part"), "the keys that a host trusts",
    (
        *_PART,
        *_texts(
            fingerprint="its fingerprint", identity="whose it says it is", file="the file that holds it",
            scope="what it counts for", weakness="why it is weak",
        ),
        *_numbers(everything="1 where it counts for everything", expires_at="when it ends"),
    ),
)  # fmt: skip
REPOSITORIES = FleetTable(
    "repositories", "part", ("identity", "part"), "the repositories of a host",
    (
        *_PART,
        *_texts(
            identity="what it is called", address="where it is", signature="the verdict on its index",
            configured_in="where it is configured", other_release="the release that it is of, if another",
        ),
        *_numbers(
            enabled="1 where it is enabled", unsigned_allowed="1 where it need not be signed",
            made_at="when its index was made", packages="how many packages it offers",
        ),
    ),
)  # fmt: skip
EVENTS = FleetTable(
    "events", "part", ("package", "happened_at"), "what the system's own history tells of packages",
    (
        *_PART,
        *_texts(
            action="what was done", package="with which package", version="in which version",
            architecture="of which architecture", told_in="the file that tells it",
        ),
        *_numbers(happened_at="when, in seconds since 1970"),
    ),
)  # fmt: skip
GAPS = FleetTable(
    "gaps",
    "part",
    ("what", "part"),
    "what could not be looked at",
    (*_PART, *_texts(what="what it was", why="why not")),
)
FINDINGS = FleetTable(
    "findings", "part", ("rule", "part"), "what is wrong",
    (
        *_PART,
        *_texts(
            rule="the rule", severity="how bad it is", title="what is wrong", package="the package",
            first_of="the first of its paths, or subjects",
        ),
        *_numbers(pieces="how many it is made of", since="since when, in seconds since 1970"),
    ),
)  # fmt: skip
BEHIND = FleetTable(
    "behind", "part", ("package", "part"), "what was not as new as it could be, by the indexes that a "
    "host had when it was seen",
    (
        *_PART,
        *_texts(
            package="the package", architecture="its architecture", version="the version that is there",
            candidate="the version that is offered", repository="which repository offers it",
            status="how the two stand to each other", advisories="the advisories that speak of it",
        ),
        *_numbers(security="1 where it is for security; null where nothing tells"),
    ),
)  # fmt: skip
REFUSED = FleetTable(
    "refused", "what", ("what",), "what was brought, and not taken in",
    (
        *_texts(
            what="what was brought", host="the host that it claims", why="why it was refused",
        ),
        *_numbers(gathered_at="when it was brought"),
    ),
)  # fmt: skip
TABLES = (
    SNAPSHOTS, SETS, BUILDS, BUILD_FILES, BUILD_NEEDS, BUILD_GIVES, DEVIATIONS, KEYS, REPOSITORIES,
    EVENTS, GAPS, FINDINGS, BEHIND, REFUSED,
)  # fmt: skip
BY_NAME = {one.name: one for one in TABLES}
