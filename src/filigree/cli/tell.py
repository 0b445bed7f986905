"""The commands that hand over: report."""

import hashlib
import json
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from enum import StrEnum
from typing import Annotated, Any

import typer

from filigree.cli.asked import Shown
from filigree.cli.files import write_outside
from filigree.cli.options import question, typed_path
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.model.files import Verdict
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System
from filigree.views.handover.shared import Handed
from filigree.views.options import NO_OPTIONS

_KEY_LIMIT = 1 << 20


class ReportForm(StrEnum):
    """The open formats."""

    CYCLONEDX = "cyclonedx"
    SPDX = "spdx"
    SARIF = "sarif"
    JUNIT = "junit"
    MTREE = "mtree"


_STATED = {
    ReportForm.CYCLONEDX: "https://cyclonedx.org/bom",
    ReportForm.SPDX: "https://spdx.dev/Document",
    ReportForm.SARIF: "https://docs.oasis-open.org/sarif/sarif/v2.1.0",
}
"""Of which kind a predicate is that holds such a document."""
_Made = tuple[Answer[Any, Any], Iterable[str]]


def _inventory(system: System, files: bool, sources: RepositoryOptions) -> Answer[Any, Any]:
    from filigree.questions.reporting.inventory import inventory

    return inventory(system, files, sources)


def _cyclonedx(system: System, files: bool, sources: RepositoryOptions, made: Handed) -> _Made:
    from filigree.views.handover.cyclonedx import cyclonedx

    answer = _inventory(system, files, sources)
    return answer, cyclonedx(answer, made)


def _spdx(system: System, files: bool, sources: RepositoryOptions, made: Handed) -> _Made:
    from filigree.views.handover.spdx import spdx

    answer = _inventory(system, files, sources)
    return answer, spdx(answer, made)


def _sarif(system: System, _: bool, sources: RepositoryOptions, made: Handed) -> _Made:
    from filigree.cli.progress import ProgressLine
    from filigree.questions.rules.findings import FindingsWish, every_rule, findings
    from filigree.views.handover.sarif import sarif

    line = ProgressLine()
    try:
        wish = FindingsWish(progress=line, waived=True, now=made.made_at)
        answer = findings(system, wish, sources)
    finally:
        line.close()
    return answer, sarif(answer, [rule.facts for rule in every_rule()], made)


def _junit(system: System, _: bool, sources: RepositoryOptions, made: Handed) -> _Made:
    from filigree.cli.progress import ProgressLine
    from filigree.questions.commands.verify import verify
    from filigree.views.handover.junit import junit

    line = ProgressLine()
    try:
        answer = verify(system, None, frozenset(Verdict), progress=line, options=sources)
    finally:
        line.close()
    return answer, junit(answer, made)


def _mtree(system: System, _: bool, sources: RepositoryOptions, __: Handed) -> _Made:
    from filigree.views.handover.mtree import mtree

    answer = _inventory(system, True, sources)
    return answer, mtree(record for one in answer.records for record in one.files)


_MAKERS: dict[ReportForm, Callable[[System, bool, RepositoryOptions, Handed], _Made]] = {
    ReportForm.CYCLONEDX: _cyclonedx, ReportForm.SPDX: _spdx, ReportForm.SARIF: _sarif,
    ReportForm.JUNIT: _junit, ReportForm.MTREE: _mtree,
}  # fmt: skip


@question
def report(
    system: System,
    out: Annotated[str, typer.Argument(metavar="OUT", help="The file that is to be written.")],
    as_: Annotated[
        ReportForm,
        typer.Option(
            "--as", help="The open format: an inventory, findings, a verification, or files.",
            show_default=False,
        ),
    ],
    with_files: Annotated[
        bool, typer.Option("--with-files", help="An inventory: also the files of each package.")
    ] = False,
    stated: Annotated[
        bool,
        typer.Option("--stated", help="As a statement about this system, in an envelope."),
    ] = False,
    sign: Annotated[
        str | None,
        typer.Option(
            "--sign", metavar="KEYFILE", show_default=False,
            help="Sign the statement with this key of yours: Ed25519, ECDSA or RSA, in PEM.",
        ),
    ] = None,
    *,
    sources: RepositoryOptions,
) -> Shown:  # fmt: skip
    """Hand over what was found, in a form that other programs read."""
    from filigree import __version__
    from filigree.questions.reporting.handing import ReportRow, reported

    if sign is not None and not stated:
        raise BadQuestion("only a statement is signed", None, "add --stated")
    if stated and as_ not in _STATED:
        known = ", ".join(_STATED)
        raise BadQuestion(f"there is no statement of {as_.value}", None, f"known are {known}")
    key = None if sign is None else _key(typed_path(sign))
    made = Handed("filigree", __version__, datetime.now(UTC))
    answer, lines = _MAKERS[as_](system, with_files, sources, made)
    data = "".join(f"{line}\n" for line in lines).encode()
    if stated:
        data = _enveloped(system, _STATED[as_], data, key)
    path = typed_path(out)
    write_outside(system.root, path, data)
    row = ReportRow(
        file=path, form=as_.value, size=len(data), digest=f"sha256:{hashlib.sha256(data).hexdigest()}",
        question=answer.question, records=len(answer.records), signed=key is not None,
    )  # fmt: skip
    return reported(answer, [row]), NO_OPTIONS


def _key(path: str) -> Any:
    from filigree.formats.document_keys import read_document_key

    try:
        with open(path, "rb") as file:
            return read_document_key(file.read(_KEY_LIMIT))
    except OSError as error:
        raise BadQuestion(f"the key cannot be read: {error.strerror}", path) from error


def _enveloped(system: System, kind: str, data: bytes, key: Any) -> bytes:
    from filigree.questions.reporting.subjects import subject_of
    from filigree.views.handover.statements import SubjectDigest, enveloped, statement

    name, digest = subject_of(system) or (system.label, hashlib.sha256(data).hexdigest())
    subject = SubjectDigest(name or system.root, {"sha256": digest})
    payload = statement([subject], kind, json.loads(data))
    return enveloped(payload, key and key.identity, key and key.sign)
