"""Archives: single package files, looked at without installing them."""

from dataclasses import dataclass
from typing import NamedTuple


class NameParts(NamedTuple):
    """What the name of an archive says; empty what it does not say. `version` is without an epoch unless
    the name has one."""

    name: str
    version: str
    architecture: str


@dataclass(frozen=True, slots=True)
class ArchiveFacts:
    """An archive as a file. `form` names its format, `compression` that of its payload."""

    path: str
    size: int
    form: str
    compression: str | None
