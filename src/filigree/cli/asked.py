"""What a person asked of every question, and what a command returns."""

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from filigree.model.answer import Answer, Flow
from filigree.views.options import ViewOptions
from filigree.views.render import Format


class When(StrEnum):
    AUTO = "auto"
    ALWAYS = "always"
    NEVER = "never"


@dataclass(frozen=True, slots=True)
class Shared:
    """What a person asked of every question: which root, and how to show the answer.

    `subjects` are the packages that are asked about, as they were typed; `repos_of` is the root whose
    repositories are asked, None for the same. `other` is the second of two roots, where a question is of
    two; `held` is whether it takes a host of a store as a root. `keyring` are files of keys that
    signatures are judged with; `sourced` is whether the question itself has any use for
    them.
    """

    root: str = "/"
    image: str | None = None
    platform: str | None = None
    layer: int | None = None
    form: Format | None = None
    color: When = When.AUTO
    no_pager: bool = False
    verbose: bool = False
    subjects: tuple[str, ...] = ()
    repos_of: str | None = None
    other: str | None = None
    held: bool = False
    keyring: tuple[str, ...] = ()
    sourced: bool = False

    @property
    def archives_only(self) -> bool:
        """Whether only archives are asked about, by what they are called: that takes no system."""
        from filigree.families.registry import is_archive_name

        return bool(self.subjects) and all(map(is_archive_name, self.subjects))


Shown = tuple[Answer[Any, Any] | Flow[Any, Any], ViewOptions]
"""What a command returns: the answer, or its records as they come, and how its view is to show it."""
