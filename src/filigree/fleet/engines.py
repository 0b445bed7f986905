"""What answers questions of tables: an engine is a handful of lines, and knows nothing of what is asked.

The text of a question is one for all engines; values stand as `?` in it, and are bound.
"""

import json
import os
import tempfile
import threading
from collections.abc import Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, Protocol

from filigree.fleet.form import VERSION, FleetTable
from filigree.fleet.identity import Row, Value
from filigree.model.errors import BadQuestion

MEMORY = 900
"""Megabytes that an engine may take."""
_THREADS = 4
_TEXTS = (
    "CREATE TEMP TABLE {name} AS "
    "SELECT CAST(told AS VARCHAR) AS text FROM (SELECT unnest(?) AS told)"
)


class Engine(Protocol):
    """Runs questions."""

    @property
    def doubt(self) -> str | None:
        """Why what it answers is only somebody's word; None for what is here."""
        ...

    def register(self, table: FleetTable, files: Sequence[str], form: int = VERSION) -> None:
        """Make a table of files of a form, by its name; one without files has no rows."""
        ...

    def keep(self, name: str, text: str, values: Sequence[Value] = ()) -> None:
        """Keep what a question answers under a name, for further questions."""
        ...

    def run(self, text: str, values: Sequence[Value] = ()) -> list[tuple[Any, ...]]:
        """The rows that a question answers. Raises BadQuestion where it is none."""
        ...

    def close(self) -> None:
        """Let go of it."""
        ...


class DuckEngine:
    """The engine that is embedded: it reads the files of a store, and nothing else."""

    doubt: str | None = None

    def __init__(self, files: Sequence[str], memory: int = MEMORY) -> None:
        duckdb = _loaded()
        self._error = duckdb.Error
        self._made = tempfile.TemporaryDirectory(prefix="filigree-fleet-")
        self._connection = duckdb.connect(":memory:", config=_settings(memory, self._made.name))
        self._connection.execute("SET allowed_paths=?", [list(files)])
        self._connection.execute("SET enable_external_access=false")
        self._connection.execute("SET lock_configuration=true")

    def register(self, table: FleetTable, files: Sequence[str], form: int = VERSION) -> None:
        """Make a table of files."""
        where = (
            f"FROM read_parquet([{', '.join(map(_literal, files))}])" if files else "WHERE false"
        )
        columns = _columns(table, form if files else 0)
        self._execute(f"CREATE VIEW {table.name} AS SELECT {columns} {where}")

    def keep(self, name: str, text: str, values: Sequence[Value] = ()) -> None:
        """Keep what a question answers."""
        self._execute(f"CREATE OR REPLACE TEMP TABLE {name} AS {text}", values)

    def keep_texts(self, name: str, texts: Collection[str]) -> None:
        """Keep many texts under a name, for further questions: a table of one column, `text`."""
        self._connection.execute(_TEXTS.format(name=name), [list(texts)])

    def run(self, text: str, values: Sequence[Value] = ()) -> list[tuple[Any, ...]]:
        """The rows that a question answers."""
        return list(self._execute(text, values).fetchall())

    def columns(self) -> list[str]:
        """What the columns of the last answer are called."""
        return [one[0] for one in self._connection.description or ()]

    def only_asks(self, text: str) -> bool:
        """Whether a text is one question, and changes nothing."""
        import duckdb

        try:
            found = self._connection.extract_statements(text)
        except self._error as error:
            raise BadQuestion(_first_line(error), None, "ask one SELECT") from error
        return len(found) == 1 and found[0].type == duckdb.StatementType.SELECT

    @contextmanager
    def within(self, seconds: float) -> Iterator[None]:
        """Interrupt what takes longer."""
        timer = threading.Timer(seconds, self._connection.interrupt)
        timer.start()
        try:
            yield
        finally:
            timer.cancel()

    def _execute(self, text: str, values: Sequence[Value] = ()) -> Any:
        try:
            return self._connection.execute(text, list(values))
        except self._error as error:
            raise BadQuestion(_first_line(error)) from error

    def close(self) -> None:
        """Let go of it."""
        self._connection.close()
        self._made.cleanup()


def write_table(table: FleetTable, rows: Iterable[Row], path: str) -> int:
    """Write rows as a file of a table, in its order; how many they were."""
    duckdb = _loaded()
    count = 0
    with tempfile.TemporaryDirectory(prefix="filigree-fleet-") as folder:
        told = os.path.join(folder, "rows.json")
        with open(told, "w", encoding="utf-8") as out:
            for row in rows:
                count += 1
                out.write(json.dumps(dict(zip(table.names, row, strict=True)), ensure_ascii=False))
                out.write("\n")
        kinds = ", ".join(
            f"{_literal(one.name)}: {_literal(_kind(one.number))}" for one in table.columns
        )
        source = f"read_json({_literal(told)}, format='newline_delimited', columns={{{kinds}}})"
        with duckdb.connect(":memory:", config=_settings(MEMORY, folder)) as made:
            made.execute(_copied(table, source, path))
    return count


def merge_tables(
    table: FleetTable,
    files: Sequence[str],
    path: str,
    form: int = VERSION,
    keys: Collection[str] | None = None,
) -> int:
    """Write the rows of several files of a table, of a form, as one of this form, each once; with `keys`
    those rows alone that belong together under one of them. How many they are."""
    duckdb = _loaded()
    read = f"read_parquet([{', '.join(map(_literal, files))}])"
    where = "true" if keys is None else f"{table.key} IN (SELECT text FROM keys)"
    source = f"(SELECT DISTINCT {_columns(table, form)} FROM {read} WHERE {where})"
    with (
        tempfile.TemporaryDirectory(prefix="filigree-fleet-") as folder,
        duckdb.connect(":memory:", config=_settings(MEMORY, folder)) as made,
    ):
        made.execute(_TEXTS.format(name="keys"), [list(keys or ())])
        made.execute(_copied(table, source, path))
        return int(
            made.execute(f"SELECT count(*) FROM read_parquet({_literal(path)})").fetchall()[0][0]
        )


def _copied(table: FleetTable, source: str, path: str) -> str:
    columns = ", ".join(table.names)
    order = ", ".join(table.order)
    return (
        f"COPY (SELECT {columns} FROM {source} ORDER BY {order}) TO {_literal(path)} "
        "(FORMAT parquet, COMPRESSION zstd, PARQUET_VERSION v2)"
    )


def _columns(table: FleetTable, form: int) -> str:
    """The columns of a table out of files of a form: what those do not have is null."""
    return ", ".join(
        f"CAST({one.name if one.since <= form else 'NULL'} AS {_kind(one.number)}) AS {one.name}"
        for one in table.columns
    )


def _settings(memory: int, folder: str) -> dict[str, Any]:
    return {
        "memory_limit": f"{memory}MB", "threads": str(min(os.cpu_count() or 1, _THREADS)),
        "temp_directory": folder, "autoinstall_known_extensions": "false",
        "autoload_known_extensions": "false",
    }  # fmt: skip


def _loaded() -> Any:
    try:
        import duckdb
    except ImportError as error:
        raise BadQuestion(
            "the engine that asks a fleet is not installed", None, "install filigree[fleet]"
        ) from error
    return duckdb


def _kind(number: bool) -> str:
    return "BIGINT" if number else "VARCHAR"


def _literal(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _first_line(error: Exception) -> str:
    return (str(error).strip().splitlines() or ["it cannot be answered"])[0]
