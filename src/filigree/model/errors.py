"""The few errors of the product. Each says what went wrong, where, and what to do about it."""

from enum import StrEnum

from filigree.model.hints import Hint


class FiligreeError(Exception):
    """An answer cannot be given. Raised where the fact is known, shown once, at the rim.

    `what` is a sentence, `where` a file (with line or offset) or None, `advice` what to do or None: in
    words, or as a value that the rim words.
    """

    def __init__(
        self, what: str, where: str | None = None, advice: str | Hint | None = None
    ) -> None:
        super().__init__(what, where, advice)
        self.what = what
        self.where = where
        self.advice = advice

    def __str__(self) -> str:
        return self.what if self.where is None else f"{self.what} ({self.where})"


class BadQuestion(FiligreeError):
    """The question itself is malformed: a pattern that does not parse, a word that is not known."""


class NoSystem(FiligreeError):
    """The root is not a directory, or holds no system of a known family."""


class DatabaseError(FiligreeError):
    """The package database as a whole cannot be read."""


class NotAnArchive(DatabaseError):
    """A file that starts as no archive of a known family does."""


class Obstacle(StrEnum):
    """Why a path below the root could not be looked at."""

    ABSENT = "there is no such file"
    LOOP = "its links go round in a circle"
    NOT_REGULAR = "it is not a regular file"
    NOT_DIRECTORY = "a part of the path is not a directory"
    DENIED = "permission denied"
    CHANGED = "it changed while it was read"
    TOO_LARGE = "it is larger than is reasonable"
    FAILED = "it could not be read"


class AccessError(FiligreeError):
    """One path below the root could not be looked at. `where` is the path, `obstacle` the reason."""

    def __init__(self, obstacle: Obstacle, path: str, detail: str | None = None) -> None:
        super().__init__(f"{obstacle.value}: {detail}" if detail else obstacle.value, path)
        self.obstacle = obstacle
        self.path = path
        self.detail = detail

    def __reduce__(self) -> tuple[type["AccessError"], tuple[Obstacle, str, str | None]]:
        """Sent from one process to another it is made anew of what it was made of."""
        return type(self), (self.obstacle, self.path, self.detail)

    @property
    def absent(self) -> bool:
        """Whether nothing is there: a part of the path is missing, or is no directory."""
        return self.obstacle in (Obstacle.ABSENT, Obstacle.NOT_DIRECTORY)


def words_of(error: Exception) -> str:
    """What an error says, without the place: whoever reports it names that."""
    return error.what if isinstance(error, FiligreeError) else str(error)
