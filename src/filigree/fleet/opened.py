"""The tables of a store, in an engine: to be asked, or to be written anew."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from filigree.fleet.engines import DuckEngine, Engine
from filigree.fleet.form import TABLES, FleetTable
from filigree.fleet.store import FleetStore
from filigree.model.answer import Gap
from filigree.model.errors import BadQuestion

_GONE = "they are gone, or others could have written them"


@contextmanager
def opened(
    store: FleetStore, engine: Engine | None = None, tables: Sequence[FleetTable] = TABLES
) -> Iterator[tuple[Engine, list[Gap]]]:
    """An engine with tables of a store, the embedded one where none is given; and what of them is gone,
    as a gap."""
    files = {table.name: store.local(store.list.of(table.name)) for table in tables}
    used = engine or DuckEngine([path for found, _ in files.values() for path in found])
    gone = sum(len(missing) for _, missing in files.values())
    try:
        for table in tables:
            used.register(table, files[table.name][0], store.list.form)
        many = "file" if gone == 1 else "files"
        yield used, [Gap(f"{gone:,} {many} of the store", _GONE)] if gone else []
    finally:
        used.close()


@contextmanager
def opened_whole(store: FleetStore, tables: Sequence[FleetTable] = TABLES) -> Iterator[DuckEngine]:
    """As `opened`, for whoever writes what comes of it. Raises BadQuestion where a file is gone."""
    with opened(store, None, tables) as (engine, gaps):
        for gap in gaps:
            raise BadQuestion(f"{gap.what}: {gap.why}", store.address, "bring them back first")
        assert isinstance(engine, DuckEngine)
        yield engine
