"""Whether what the auditor keeps is believed: only where nobody else could have written it."""

from collections.abc import Callable, Iterator

from filigree.access.private_folder import why_not_all_private, why_not_private
from filigree.access.store import Store
from filigree.access.tables import keyed
from filigree.families.protocol import Remembered, Report
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.hints import Hint
from filigree.system import System

_ADVICE = "take it away, or let it belong to you alone, and what it needs is made anew"


def usable_cache(
    system: System, cache: str | None, below: str = "", whole: bool = False
) -> str | None:
    """The folder of what is kept, where it is believed; else None, and a gap says why.

    With `whole` everything in the folder `below` it counts, too.
    """
    why = _why_not(cache, below, whole)
    if why is not None:
        system.report(Gap(f"what was kept in {cache}", f"it is not used: {why}; {_ADVICE}"))
        return None
    return cache


def remembered(store: Store) -> Remembered:
    """What was found of files, kept under their digests: to unpack a large index takes seconds."""
    layout = keyed("unpacked")

    def told(key: str, find: Callable[[], str]) -> str:
        failures: list[Exception] = []

        def found(_: Report) -> Iterator[tuple[str, str]]:
            try:
                yield key, find()
            except (AccessError, ValueError) as error:
                failures.append(error)

        table = store.table(layout, key, "what was found of an index", found)
        try:
            kept = dict(table.of([key]))
        finally:
            table.close()
        if key in kept:
            return kept[key]
        # Nothing is remembered of what failed.
        store.forget(layout, key)
        raise failures[0] if failures else ValueError("what was kept of it is gone")

    return told


def remembered_quietly(system: System, cache: str | None) -> Remembered:
    """As `remembered`, where the folder is believed; where it is not, nothing is, and nothing is said."""
    folder = None if _why_not(cache, "", False) else cache
    return remembered(Store(folder, system.report, system.say))


def needed_cache(cache: str | None) -> str:
    """The folder of what is kept, where something must be. Raises BadQuestion where it cannot."""
    if cache is None:
        raise BadQuestion("what is fetched must be kept somewhere", None, Hint.KEEP)
    why = _why_not(cache, "", False)
    if why is not None:
        raise BadQuestion(f"nothing can be kept there: {why}", cache, _ADVICE)
    return cache


def _why_not(cache: str | None, below: str, whole: bool) -> str | None:
    if cache is None:
        return None
    return why_not_all_private(cache, below) if whole else why_not_private(cache, below)
