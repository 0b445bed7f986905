"""The records of an answer as Apache Parquet: a column a field; what is a list or a record of its own is
JSON in a text."""

import json
import os
import tempfile
from collections.abc import Iterable, Sequence
from typing import Any

from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.views.plain import json_object

_ROWS = "rows.json"
_NOTHING = "nothing"
"""The column of a table that has no row: the format knows none without."""


def parquet(answer: Answer[Any, Any]) -> bytes:
    """The file. Fields that are numbers, or yes or no, in every record stay so; all others are texts.
    Of an answer without records it is a table of one column and no row. Raises BadQuestion where the
    library that writes it is missing."""
    try:
        import duckdb
    except ImportError as error:
        raise BadQuestion(
            "what writes tables is not installed", None, "install filigree[fleet]"
        ) from error
    records: list[dict[str, Any]] = json_object(answer)["records"]
    names = list(dict.fromkeys(name for record in records for name in record)) or [_NOTHING]
    kinds = {name: _kind([record.get(name) for record in records]) for name in names}
    columns = ", ".join(f"{_quoted(name)}: {_quoted(kind)}" for name, kind in kinds.items())
    with tempfile.TemporaryDirectory(prefix="filigree-") as folder:
        told, made = os.path.join(folder, _ROWS), os.path.join(folder, "out.parquet")
        with open(told, "w", encoding="utf-8") as out:
            out.writelines(f"{line}\n" for line in _lines(records, kinds))
        with duckdb.connect(":memory:", config={"temp_directory": folder}) as engine:
            source = (
                f"read_json({_quoted(told)}, format='newline_delimited', columns={{{columns}}})"
            )
            engine.execute(
                f"COPY (SELECT * FROM {source}) TO {_quoted(made)} (FORMAT parquet, COMPRESSION zstd)"
            )
        with open(made, "rb") as file:
            return file.read()


def _lines(records: Iterable[dict[str, Any]], kinds: dict[str, str]) -> Iterable[str]:
    for record in records:
        row = {
            name: _text(value) if kind == "VARCHAR" else value
            for name, kind in kinds.items()
            for value in [record.get(name)]
        }
        yield json.dumps(row, ensure_ascii=True)


def _kind(values: Sequence[Any]) -> str:
    told = [value for value in values if value is not None]
    if told and all(isinstance(value, bool) for value in told):
        return "BOOLEAN"
    if told and all(type(value) is int and abs(value) < 1 << 63 for value in told):
        return "BIGINT"
    return "VARCHAR"


def _text(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    return json.dumps(value, ensure_ascii=False)


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"
