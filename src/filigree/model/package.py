"""A package as a system's database, an index or an archive describes it."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from typing import NamedTuple

from filigree.model.quick import quickly_made


class State(StrEnum):
    """How far the installation of a package has come."""

    INSTALLED = "installed"
    HALF_INSTALLED = "half-installed"
    UNPACKED = "unpacked"
    HALF_CONFIGURED = "half-configured"
    AWAITING_TRIGGERS = "awaiting-triggers"
    PENDING_TRIGGERS = "pending-triggers"
    CONFIGURATION_LEFT = "configuration-left"
    ARCHIVE = "archive"
    AVAILABLE = "available"
    NOT_INSTALLED = "not-installed"
    UNKNOWN = "unknown"

    @property
    def present(self) -> bool:
        """Whether the package's files are, at least in part, on the disk."""
        return self not in _ELSEWHERE

    @property
    def sound(self) -> bool:
        """Whether the package is in working order, as far as its state tells."""
        return self in (State.INSTALLED, State.AWAITING_TRIGGERS, State.PENDING_TRIGGERS)


_ELSEWHERE = frozenset({
    State.CONFIGURATION_LEFT, State.NOT_INSTALLED, State.ARCHIVE, State.AVAILABLE,
})  # fmt: skip


class Wanted(StrEnum):
    """What the administrator asked to be done with a package."""

    INSTALL = "install"
    HOLD = "hold"
    REMOVE = "remove"
    PURGE = "remove-with-configuration"
    UNKNOWN = "unknown"


class Reason(StrEnum):
    """Why a package is installed."""

    CHOSEN = "chosen"
    DEPENDENCY = "dependency"


def was_chosen(package: "Package") -> bool:
    """Whether a person asked for a package, as far as is known."""
    return package.reason is not Reason.DEPENDENCY


class VersionParts(NamedTuple):
    """A full version taken apart. `epoch` and `release` are None where it has none."""

    epoch: str | None
    version: str
    release: str | None


class Script(NamedTuple):
    """A script that a package's maintainers run at installation or removal; never run by us."""

    name: str
    size: int | None


@quickly_made
@dataclass(frozen=True, slots=True, eq=False)
class Package:
    """One package. None where the family, or this record, does not say.

    `version` is the full version; sizes are in bytes; times carry their zone. `fields` are the
    record's own fields, as the family names them. Two packages are the same only if they are the
    same record.
    """

    name: str
    version: str
    architecture: str
    family: str
    state: State = State.INSTALLED
    wanted: Wanted = Wanted.INSTALL
    reason: Reason | None = None
    held: bool = False
    damaged: bool = False
    protected: bool = False
    section: str | None = None
    source: str | None = None
    source_version: str | None = None
    summary: str | None = None
    description: str | None = None
    homepage: str | None = None
    license: str | None = None
    maintainer: str | None = None
    vendor: str | None = None
    installed_size: int | None = None
    archive_size: int | None = None
    built_at: datetime | None = None
    build_host: str | None = None
    installed_at: datetime | None = None
    repository: str | None = None
    signature: str | None = None
    key_id: str | None = None
    fields: Mapping[str, str] = field(default_factory=dict, repr=False)

    @property
    def label(self) -> str:
        """How a subject would point at exactly this one: `tidegauge:amd64=2.1-3`."""
        return f"{self.name}:{self.architecture}={self.version}"
