"""What else tells when something happened: indexes, keys, and the layers of an image."""

from collections.abc import Iterator
from datetime import datetime

from filigree.families.protocol import Judging
from filigree.model.answer import moment_of
from filigree.model.errors import AccessError
from filigree.model.events import Clock
from filigree.questions.timeline.happenings import Deed, Happening, by_a_file
from filigree.questions.timeline.times import EARLY, inode_time, is_no_clock
from filigree.system import System


def index_rows(system: System, now: datetime) -> Iterator[Happening]:
    """When each index of a repository was fetched, as the copy's own time tells."""
    sources = system.sources(Judging(now))
    for one in sources.repositories() if sources is not None else ():
        copy = one.copy
        if copy is None or copy.own or copy.fetched_at is None:
            continue
        row = _row(Deed.FETCHED, copy.fetched_at, one.identity, copy.path)
        row.explained_by = f"configured in {one.configured_in}"
        if one.architecture:
            row.architecture = one.architecture
        if copy.made_at is not None and copy.fetched_at + EARLY < copy.made_at:
            row.doubts.append(f"it was only made at {copy.made_at:%Y-%m-%d %H:%M} UTC")
        _in_time(row, now)
        yield row


def key_rows(system: System, now: datetime) -> Iterator[Happening]:
    """When each key came that something may be signed with, as the time of its file tells."""
    sources = system.sources(Judging(now))
    for one in sources.root_keys() if sources is not None else ():
        if not (one.everything or one.scope or one.archives):
            continue
        file = one.key.file
        row = _row(Deed.TRUSTED, None, one.key.fingerprint, file)
        try:
            seen = system.tree.observe(system.tree.real_path(file)) if file else None
        except AccessError:
            seen = None
        if seen is not None and not is_no_clock(seen.modified):
            row.at = moment_of(seen.modified // 10**9)
            changed = inode_time(seen)
            row.until = changed if changed is not None and row.at and changed > row.at else None
        owners = system.owners_of(file) if file else []
        if owners:
            row.package = owners[0].name
            row.explained_by = f"a file of {owners[0].name}"
        made = one.key.made_at
        if made is not None and row.at is not None and row.at + EARLY < made:
            row.doubts.append(f"the key was only made at {made:%Y-%m-%d %H:%M} UTC")
        _in_time(row, now)
        yield row


def layer_rows(system: System, now: datetime) -> Iterator[Happening]:
    """When each layer of an image was built, as its configuration tells."""
    layered = system.tree.layered
    if layered is None:
        return
    for facts in layered.layers:
        at = _moment(facts.made_at)
        row = _row(Deed.BUILT, at, f"layer {facts.number}", facts.digest)
        row.clock, row.command = Clock.IMAGE, facts.made_by
        row.explained_by = "the image's own history"
        if at is not None and is_no_clock(int(at.timestamp()) * 10**9):
            row.at = None
            row.doubts.append("its time is that of no clock")
        _in_time(row, now)
        yield row


def _moment(text: str | None) -> datetime | None:
    return None if text is None else datetime.fromisoformat(text)


def _row(deed: Deed, at: datetime | None, subject: str, told_in: str | None) -> Happening:
    row = by_a_file(deed, subject)
    row.at, row.told_in = at, told_in
    return row


def _in_time(row: Happening, now: datetime) -> None:
    if row.at is not None and row.at > now + EARLY:
        row.doubts.append("it is in the future")
