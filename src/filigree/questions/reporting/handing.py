"""What was handed over, as an answer of its own: which file, in which form, and what is in it."""

from dataclasses import dataclass
from typing import Any

from filigree.model.answer import Answer


@dataclass(frozen=True, slots=True)
class ReportRow:
    """A file that was written: in which form, how large, its digest (`sha256:…`), how many records of
    which question are in it, and whether it is signed."""

    file: str
    form: str
    size: int
    digest: str
    question: str
    records: int
    signed: bool


@dataclass(frozen=True, slots=True)
class ReportSummary:
    """How many files were written, and how many bytes in all."""

    files: int
    size: int


def reported(asked: Answer[Any, Any], rows: list[ReportRow]) -> Answer[ReportRow, ReportSummary]:
    """What was written of an answer. It is no bad news by itself, whatever was found; what could not be
    looked at is a gap here as there."""
    summary = ReportSummary(len(rows), sum(row.size for row in rows))
    return Answer(
        "report", asked.system, rows, summary, asked.gaps, asked.notes, interrupted=asked.interrupted
    )  # fmt: skip
