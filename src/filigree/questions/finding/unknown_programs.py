"""Programs that no record names: whoever takes a package out of the records leaves its files there.

Where only better evidence than the record counts they are not judged, and so they are a gap.
"""

from filigree.model.answer import Gap
from filigree.model.errors import AccessError
from filigree.model.files import Kind
from filigree.questions.finding.ownership import PROGRAM_DIRECTORIES
from filigree.system import System

_NAMED = 3


def report_unknown_programs(system: System) -> None:
    """Report the programs, in the places where packages put theirs, that are on record of no package."""
    found = sorted(_unknown(system))
    if not found:
        return
    told = ", ".join(found[:_NAMED])
    more = f" and {len(found) - _NAMED:,} more" if len(found) > _NAMED else ""
    why = "no package on record has them: nothing tells what they are to be"
    system.report(Gap(f"programs that no record names: {told}{more}", why))


def _unknown(system: System) -> set[str]:
    places = [one for one in PROGRAM_DIRECTORIES if not one.startswith("/usr/local/")]
    folders = set(filter(None, (_real(system, place) for place in places)))
    there = {f"{folder}/{name}" for folder in folders for name in _names(system, folder)}
    endings = {path.rpartition("/")[2] for path in there}
    moved = {one.original: one for one in system.relocations}
    for package, listing in system.database.listings():
        if not package.state.present:
            continue
        for path in listing:
            folder, _, name = path.rpartition("/")
            if name not in endings:
                continue
            away = moved.get(path)
            if away is not None and away.keeper != package.name:
                path = away.moved_to
                folder, _, name = path.rpartition("/")
            there.discard(f"{_real(system, folder)}/{name}")
    there -= {system.real(path) for path in system.managed_links}
    return {path for path in there if _is_program(system, path)}


def _real(system: System, folder: str) -> str | None:
    """A directory, with its links resolved; None where there is none."""
    return system.tree.real_path(folder) if system.tree.is_directory(folder) else None


def _names(system: System, folder: str) -> list[str]:
    try:
        return system.tree.names(folder)
    except AccessError as error:
        system.report(Gap(folder, error.what))
        return []


def _is_program(system: System, path: str) -> bool:
    """Whether it can be run, or leads to what can be."""
    try:
        seen = system.tree.observe(path)
    except AccessError:
        return True
    return seen.kind is Kind.LINK or (seen.kind is Kind.FILE and bool(seen.mode & 0o111))
