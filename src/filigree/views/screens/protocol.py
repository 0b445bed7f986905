"""What every screen satisfies: a module that shows the answers of one question."""

from collections.abc import Iterator, Sequence
from typing import Any, Protocol, TypeVar

from filigree.model.answer import Answer
from filigree.views.options import ViewOptions
from filigree.views.page import Ink

Record = TypeVar("Record")
Summary = TypeVar("Summary")
Options_contra = TypeVar("Options_contra", bound=ViewOptions, contravariant=True)


class Screen(Protocol[Record, Summary, Options_contra]):
    """How the answers of one question are shown: of one sort of record, with one sort of summary."""

    def screen(
        self, answer: Answer[Record, Summary], ink: Ink, options: Options_contra
    ) -> Iterator[str]:
        """The answer for people: lines of a terminal, as wide as the ink says."""
        ...

    def titles(self, options: Options_contra) -> Sequence[str]:
        """What each part of a row is called."""
        ...

    def rows(
        self, answer: Answer[Record, Summary], options: Options_contra
    ) -> Iterator[Sequence[Any]]:
        """The answer for programs: a record a row."""
        ...
