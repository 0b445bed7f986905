"""The tables themselves, asked by whoever knows what they hold: reading alone, within bounds."""

from dataclasses import dataclass
from typing import Any

from filigree.fleet.engines import DuckEngine
from filigree.fleet.opened import opened
from filigree.fleet.store import FleetStore
from filigree.model.answer import Answer, Gap, SystemLabel
from filigree.model.errors import BadQuestion

SECONDS = 60.0
ROWS = 100_000


@dataclass(frozen=True, slots=True)
class AskSummary:
    """What the columns are called, and how many rows there are."""

    columns: list[str]
    rows: int


def ask(
    store: FleetStore, text: str, seconds: float = SECONDS
) -> Answer[dict[str, Any], AskSummary]:
    """The rows that one SELECT answers, as records by the names of columns. It sees the tables of the
    store and nothing else, and takes bounded time, memory and rows. Raises BadQuestion."""
    with opened(store) as (engine, gaps):
        assert isinstance(engine, DuckEngine)
        if not engine.only_asks(text):
            raise BadQuestion("that is not one question", None, "ask one SELECT")
        with engine.within(seconds):
            rows = engine.run(
                f"SELECT * FROM (\n{text.strip().rstrip(';')}\n) asked LIMIT {ROWS + 1}"
            )
            columns = engine.columns()
    if len(rows) > ROWS:
        gaps.append(Gap("further rows", f"only the first {ROWS:,} are told"))
    records = [dict(zip(columns, map(_told, row), strict=True)) for row in rows[:ROWS]]
    label = SystemLabel(store.address, "fleet", f"{len(store.list.files):,} files")
    return Answer("fleet ask", label, records, AskSummary(columns, len(records)), gaps)


def _told(value: Any) -> Any:
    return value if value is None or isinstance(value, (str, int, float)) else str(value)
