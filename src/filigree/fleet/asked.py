"""A store, opened to be asked: which hosts are meant, as of when, and what an answer does not speak
of."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, fields, replace
from datetime import UTC, datetime
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
    (None: as they were seen last). `now` is when it is asked."""

    hosts: tuple[str, ...] = ()
    as_of: datetime | None = None
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


# Many hosts have the same set: what concerns builds is counted by sets, each as often as hosts have it.
_WEIGHTS = (
    "SELECT sets AS part, count(*) AS hosts, min(host) AS first_host FROM chosen GROUP BY sets"
)
_BUILD_HOSTS = """
SELECT s.build AS build, sum(w.hosts) AS hosts, min(w.first_host) AS first_host
FROM sets s JOIN weights w ON w.part = s.part GROUP BY s.build
"""


class Fleet:
    """What is asked: `chosen` has a row of `snapshots` for each host that is meant, `weights` how many of
    them have a set."""

    def __init__(self, store: FleetStore, engine: Engine, wish: FleetWish) -> None:
        self.store = store
        self.engine = engine
        self.wish = wish
        self.gaps: list[Gap] = []
        self.notes: list[str] = []
        self._choose("chosen", wish.as_of)
        self.engine.keep("weights", _WEIGHTS)
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
            "SELECT * FROM (SELECT *, row_number() OVER (PARTITION BY host ORDER BY taken_at "
            "DESC, snapshot "
            f"DESC) AS place FROM {SNAPSHOTS.name} WHERE taken_at <= ? AND ({hosts})) ordered "
            f"WHERE place = 1",
            [at, *globs],
        )

    def choose(self, name: str, as_of: datetime | None) -> int:
        """Keep the same hosts as of another time, under a name; how many those are."""
        self._choose(name, as_of)
        return int(self.run(f"SELECT count(*) FROM {name}")[0][0])

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
        summary = FleetSummary(self.hosts, self.known, self.unvouched, *self.span, len(records))
        label = SystemLabel(self.store.address, "fleet", f"{self.hosts:,} of {self.known:,} hosts")
        return Answer(
            f"fleet {question}", label, records, summary, self.gaps, self.notes,
            bad_news=bad_news or bool(self.notes),
        )  # fmt: skip


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
        fleet.gaps += gaps
        yield fleet
