"""A store, opened to be asked: which hosts are meant, as of when, and what an answer does not speak
of."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, fields, make_dataclass, replace
from datetime import UTC, datetime
from functools import cache
from typing import Any

from filigree.fleet.engines import Engine
from filigree.fleet.form import REFUSED, SNAPSHOTS
from filigree.fleet.identity import Value, path_of
from filigree.fleet.opened import opened
from filigree.fleet.store import FleetStore
from filigree.model.answer import Answer, Gap, SystemLabel

LATER = 1 << 62


@dataclass(frozen=True, slots=True)
class FleetWish:
    """Of which hosts a question is: those that a glob matches (all without any), as they were at a time
    (None: as they were seen last). With `by_host` what is told of several hosts at once is told of each
    by itself. `now` is when it is asked."""

    hosts: tuple[str, ...] = ()
    as_of: datetime | None = None
    by_host: bool = False
    now: datetime | None = None

    @property
    def moment(self) -> datetime:
        """When it is asked."""
        return self.now or datetime.now(UTC)


@dataclass(frozen=True, slots=True)
class FleetSummary:
    """How many hosts an answer speaks of, of how many that the store has; how many of them nobody vouches
    for; when the first and the last of them were seen; how many records there are."""

    hosts: int
    known: int
    unvouched: int
    first_seen: datetime | None
    last_seen: datetime | None
    records: int


_BUILD_HOSTS = """
SELECT s.build AS build, sum(w.hosts) AS hosts, min(w.first_host) AS first_host
FROM sets s JOIN weights w ON w.part = s.part GROUP BY s.build
"""


class Fleet:
    """What is asked: `chosen` has a row of `snapshots` for each host that is meant, `weights` how many of
    them have a set, and the first of them; by host it has a row for each."""

    def __init__(self, store: FleetStore, engine: Engine, wish: FleetWish) -> None:
        self.store = store
        self.engine = engine
        self.wish = wish
        self.gaps: list[Gap] = []
        self.notes: list[str] = []
        self._choose("chosen", wish.as_of)
        self.engine.keep("weights", self.weights_of("sets"))
        facts = self.run(
            "SELECT count(*), sum(CASE WHEN vouched = 'signed' THEN 0 ELSE 1 END), min(taken_at), "
            "max(taken_at) FROM chosen"
        )[0]
        self.hosts, self.unvouched = int(facts[0]), int(facts[1] or 0)
        self.span = time_of(facts[2]), time_of(facts[3])
        self.known = int(self.run(f"SELECT count(DISTINCT host) FROM {SNAPSHOTS.name}")[0][0])
        self._tell()

    def _choose(self, name: str, as_of: datetime | None) -> None:
        """Keep the last snapshot of each host that is meant, as of a time."""
        globs = [like_of(one) for one in self.wish.hosts]
        hosts = " OR ".join(["host LIKE ? ESCAPE '!'"] * len(globs)) or "true"
        at = LATER if as_of is None else int(as_of.timestamp())
        self.engine.keep(
            name,
            "SELECT * FROM (SELECT *, row_number() OVER (PARTITION BY host ORDER BY taken_at DESC, "
            "gathered_at DESC, snapshot DESC) AS place "
            f"FROM {SNAPSHOTS.name} WHERE taken_at <= ? AND ({hosts})) ordered WHERE place = 1",
            [at, *globs],
        )

    def choose(self, name: str, as_of: datetime | None) -> int:
        """Keep the same hosts as of another time, under a name; how many those are."""
        self._choose(name, as_of)
        return int(self.run(f"SELECT count(*) FROM {name}")[0][0])

    def weights_of(self, part: str) -> str:
        """The text of how many hosts have a part of a table in common, and which is the first: what
        concerns parts is counted by them, each as often as hosts have it. By host each stands by
        itself."""
        each = ", host" if self.wish.by_host else ""
        return (
            f"SELECT {part} AS part, count(*) AS hosts, min(host) AS first_host FROM chosen "
            f"GROUP BY {part}{each}"
        )

    def by(self, host: str) -> str:
        """What a text is grouped by besides: the column of the host, where each is told by itself."""
        return f"{host}, " if self.wish.by_host else ""

    def count_builds(self) -> None:
        """Keep as `build_hosts` how many hosts have each build, and the first of them."""
        self.engine.keep("build_hosts", _BUILD_HOSTS)

    def _tell(self) -> None:
        if self.unvouched:
            self.gaps.append(Gap(
                f"who vouches for {many(self.unvouched)}",
                "they were gathered without a list of hosts and keys: anybody could have made them up",
            ))  # fmt: skip
        if not self.wish.hosts and self.hosts < self.known:
            gap = Gap(many(self.known - self.hosts), "there is no snapshot of them as of then")
            self.gaps.append(gap)
        silent = int(self.run(
            "SELECT count(*) FROM chosen WHERE gaps IN (SELECT part FROM gaps)"
        )[0][0])  # fmt: skip
        if silent:
            self.gaps.append(
                Gap(f"something at {many(silent)}", "it could not be looked at: ask for gaps")
            )
        refused = int(
            self.run(f"SELECT count(*) FROM (SELECT DISTINCT what, why FROM {REFUSED.name}) told")[
                0
            ][0]
        )
        if refused:
            self.gaps.append(Gap(counted(refused, "snapshot"), "refused: ask for gaps"))
        for one in self.wish.hosts:
            if not self.run(
                "SELECT host FROM chosen WHERE host LIKE ? ESCAPE '!' LIMIT 1", [like_of(one)]
            ):
                self.notes.append(f"no host is called {one}")

    def run(self, text: str, values: Sequence[Value] = ()) -> list[tuple[Any, ...]]:
        """The rows that a question answers."""
        return self.engine.run(text, values)

    def answer(
        self, question: str, records: list[Any], bad_news: bool = False
    ) -> Answer[Any, FleetSummary]:
        """An answer of this fleet."""
        records = [_as_they_are(one) for one in records]
        if self.wish.by_host:
            records = [one for record in records for one in _each_host(record)]
            records.sort(key=lambda record: record.host or "")
        summary = FleetSummary(self.hosts, self.known, self.unvouched, *self.span, len(records))
        label = SystemLabel(self.store.address, "fleet", f"{self.hosts:,} of {self.known:,} hosts")
        return Answer(
            f"fleet {question}", label, records, summary, self.gaps, self.notes,
            bad_news=bad_news or bool(self.notes),
        )  # fmt: skip


@cache
def at_host(row: type[Any]) -> type[Any]:
    """What a record that speaks of several hosts is at one of them: `host` comes first, and what names
    the others is not in it. How many they are stays where that says something of it."""
    names = [one.name for one in fields(row)]
    if "host" in names:
        return row
    left_out = {"which"} if "which" in names else {"hosts", "first_host"}
    kept = [(one.name, one.type) for one in fields(row) if one.name not in left_out]
    name = row.__name__.removesuffix("Row")
    return make_dataclass(f"{name}AtHostRow", [("host", str), *kept], frozen=True, slots=True)


def _each_host(record: Any) -> Iterator[Any]:
    """A record for each host that one speaks of; as it is where it speaks of one, or of none."""
    whole: Any = type(record)
    kind = at_host(whole)
    if kind is type(record):
        yield record
        return
    which = getattr(record, "which", None)
    for host in [record.first_host] if which is None else which:
        told = {one.name: getattr(record, one.name, host) for one in fields(kind)}
        yield kind(**told)


def _as_they_are(record: Any) -> Any:
    """A record with the texts that those of the tables were made of."""
    odd = {
        one.name: _text_of(told)
        for one in fields(record)
        if "\\" in str(told := getattr(record, one.name))
    }
    return replace(record, **odd) if odd else record


def _text_of(told: Any) -> Any:
    if isinstance(told, list):
        return [path_of(one) for one in told]
    return path_of(told) if isinstance(told, str) else told


def many(hosts: int) -> str:
    """So many hosts, in words."""
    return counted(hosts, "host")


def counted(number: int, noun: str) -> str:
    """So many of something, in words."""
    return f"{number:,} {noun}{'' if number == 1 else 's'}"


def like_of(glob: str) -> str:
    """A glob of `*` and `?` as a pattern of LIKE, with `!` before what is meant as it stands.

    >>> like_of("gauge_*")
    'gauge!_%'
    """
    kept = "".join(f"!{sign}" if sign in "!%_" else sign for sign in glob)
    return kept.replace("*", "%").replace("?", "_")


def time_of(seconds: Any) -> datetime | None:
    """A time out of a table."""
    return None if seconds is None else datetime.fromtimestamp(int(seconds), UTC)


@contextmanager
def asked(store: FleetStore, wish: FleetWish, engine: Engine | None = None) -> Iterator[Fleet]:
    """A store, to be asked with an engine, the embedded one where none is given. Raises BadQuestion."""
    with opened(store, engine) as (used, gaps):
        fleet = Fleet(store, used, wish)
        if store.shelf.doubt is not None:
            fleet.gaps.append(Gap(f"who vouches for {store.address}", store.shelf.doubt))
        if used.doubt is not None:
            fleet.gaps.append(Gap("who vouches for what the engine answers", used.doubt))
        fleet.gaps += gaps
        yield fleet
