"""A verification as JUnit XML, as pipelines read it: a suite a package, a case a file."""

from collections.abc import Iterator
from xml.sax.saxutils import quoteattr

from filigree.model.answer import Answer
from filigree.model.files import Verdict
from filigree.questions.verifying.tally import VerifySummary
from filigree.questions.verifying.verdicts import FileVerdict
from filigree.views.handover.shared import Handed, stamp
from filigree.views.text import escaped

_SKIPPED = (Verdict.UNRECORDED, Verdict.EXCUSED)


def junit(answer: Answer[FileVerdict, VerifySummary], made: Handed) -> Iterator[str]:
    """The document, line by line. A file that is not as it came is a failure, one that could not be
    looked at an error, as is every gap; what is excused, or has nothing to be compared with, is
    skipped."""
    suites: dict[str, list[FileVerdict]] = {}
    for row in answer.records:
        suites.setdefault(f"{row.package}:{row.architecture}", []).append(row)
    failures = sum(_is_failure(row) for row in answer.records)
    errors = sum(row.verdict is Verdict.UNREADABLE for row in answer.records) + len(answer.gaps)
    total = len(answer.records) + len(answer.gaps)
    yield '<?xml version="1.0" encoding="UTF-8"?>'
    yield f"<testsuites{_named(name=made.product, tests=total, failures=failures, errors=errors)}>"
    for name, rows in suites.items():
        counts = {
            "tests": len(rows), "failures": sum(map(_is_failure, rows)),
            "errors": sum(row.verdict is Verdict.UNREADABLE for row in rows),
            "skipped": sum(row.verdict in _SKIPPED for row in rows),
        }  # fmt: skip
        yield f"  <testsuite{_named(name=name, **counts, timestamp=stamp(made.made_at))}>"
        for row in rows:
            yield from _case(row, name)
        yield "  </testsuite>"
    if answer.gaps:
        count = len(answer.gaps)
        yield f"  <testsuite{_named(name='gaps', tests=count, failures=0, errors=count, skipped=0)}>"
        for gap in answer.gaps:
            yield f"    <testcase{_named(classname='gaps', name=gap.what)}>"
            yield f"      <error{_named(message=gap.why, type='gap')}/>"
            yield "    </testcase>"
        yield "  </testsuite>"
    yield "</testsuites>"


def _is_failure(row: FileVerdict) -> bool:
    return row.verdict is not Verdict.UNREADABLE and not row.verdict.quiet


def _case(row: FileVerdict, suite: str) -> Iterator[str]:
    yield f"    <testcase{_named(classname=suite, name=row.path)}>"
    told = "; ".join(
        f"{one.aspect.value}: {one.expected} -> {one.found}" for one in row.differences
    )
    words = ", ".join(filter(None, (row.verdict.value, told, row.reason)))
    if _is_failure(row):
        yield f"      <failure{_named(message=words, type=row.verdict.value)}/>"
    elif row.verdict is Verdict.UNREADABLE:
        yield f"      <error{_named(message=words, type=row.verdict.value)}/>"
    elif row.verdict in _SKIPPED:
        yield f"      <skipped{_named(message=words)}/>"
    yield "    </testcase>"


def _named(**told: object) -> str:
    """Attributes. Signs that XML cannot hold are written as the product writes them everywhere."""
    return "".join(f" {name}={quoteattr(escaped(str(value)))}" for name, value in told.items())
