"""The commands that hand over: report."""

import hashlib
import json
import os
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from enum import StrEnum
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from filigree.cli import planned
from filigree.cli.asked import Shown
from filigree.cli.files import read_key, write_outside
from filigree.cli.options import question, typed_path
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.model.files import Verdict
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System
from filigree.views.handover.shared import Handed
from filigree.views.options import NO_OPTIONS

if TYPE_CHECKING:
    from filigree.fleet.held import Held
    from filigree.questions.planning.future import Plan
    from filigree.questions.reporting.audit import Audit


class ReportForm(StrEnum):
    """The forms in which an audit is handed over."""

    PAGE = "page"
    CYCLONEDX = "cyclonedx"
    SPDX = "spdx"
    SARIF = "sarif"
    VERIFICATION = "verification"
    JUNIT = "junit"
    MTREE = "mtree"
    PARQUET = "parquet"


_STATED = {
    ReportForm.CYCLONEDX: "https://cyclonedx.org/bom",
    ReportForm.SPDX: "https://spdx.dev/Document",
    ReportForm.SARIF: "https://docs.oasis-open.org/sarif/sarif/v2.1.0",
    ReportForm.VERIFICATION: "urn:filigree:verification:1",
}
"""Of which kind a predicate is that holds such a document."""
_Made = tuple[Answer[Any, Any], Iterable[str] | bytes]


class _Wish(NamedTuple):
    """Of an inventory: whether files are in it, and of which plan it is, if of any; of paths whether what
    was found is told."""

    files: bool = False
    plan: "Plan | None" = None
    found: bool = False


def _inventory(system: System, wish: _Wish, sources: RepositoryOptions) -> Answer[Any, Any]:
    from filigree.questions.reporting.inventory import inventory

    return inventory(system, wish.files, sources, wish.plan)


def _cyclonedx(system: System, wish: _Wish, sources: RepositoryOptions, made: Handed) -> _Made:
    from filigree.views.handover.cyclonedx import cyclonedx

    answer = _inventory(system, wish, sources)
    return answer, cyclonedx(answer, made)


def _spdx(system: System, wish: _Wish, sources: RepositoryOptions, made: Handed) -> _Made:
    from filigree.views.handover.spdx import spdx

    answer = _inventory(system, wish, sources)
    return answer, spdx(answer, made)


def _sarif(system: System, _: _Wish, sources: RepositoryOptions, made: Handed) -> _Made:
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


def _verified(
    system: System, verdicts: frozenset[Verdict], sources: RepositoryOptions
) -> Answer[Any, Any]:
    from filigree.cli.progress import ProgressLine
    from filigree.questions.commands.verify import verify

    line = ProgressLine()
    try:
        return verify(system, None, verdicts, progress=line, options=sources)
    finally:
        line.close()


def _verification(system: System, _: _Wish, sources: RepositoryOptions, __: Handed) -> _Made:
    from filigree.questions.verifying.verdicts import LOUD
    from filigree.views.plain import json_text

    answer = _verified(system, LOUD, sources)
    return answer, json_text(answer)


def _junit(system: System, _: _Wish, sources: RepositoryOptions, made: Handed) -> _Made:
    from filigree.views.handover.junit import junit

    answer = _verified(system, frozenset(Verdict), sources)
    return answer, junit(answer, made)


def _mtree(system: System, wish: _Wish, sources: RepositoryOptions, __: Handed) -> _Made:
    from filigree.views.handover.mtree import mtree

    if wish.found:
        from filigree.questions.reporting.found import found_files

        there = found_files(system)
        return there, mtree(there.records)
    answer = _inventory(system, _Wish(True), sources)
    return answer, mtree(record for one in answer.records for record in one.files)


_MAKERS: dict[ReportForm, Callable[[System, _Wish, RepositoryOptions, Handed], _Made]] = {
    ReportForm.CYCLONEDX: _cyclonedx, ReportForm.SPDX: _spdx, ReportForm.SARIF: _sarif,
    ReportForm.VERIFICATION: _verification, ReportForm.JUNIT: _junit, ReportForm.MTREE: _mtree,
}  # fmt: skip


_Out = Annotated[str, typer.Argument(metavar="OUT", help="The file that is to be written.")]
_As = Annotated[
    ReportForm,
    typer.Option(
        "--as", help="A page for people, or an open format: an inventory, findings, a check, files."
    ),
]  # fmt: skip
_Part = Annotated[
    list[str] | None,
    typer.Option(
        "--part",
        help="A page: only this part; repeatable. Of parquet: the one.",
        show_default=False,
    ),
]
_Title = Annotated[
    str | None, typer.Option("--title", help="A page: what it is called.", show_default=False)
]
_For = Annotated[
    str | None,
    typer.Option("--for", metavar="NAME", help="A page: for whom it is.", show_default=False),
]
_Since = Annotated[
    str | None,
    typer.Option(
        "--since", metavar="SNAPSHOT", show_default=False,
        help="A page: mark the findings that this snapshot did not have.",
    ),
]  # fmt: skip
_Files = Annotated[
    bool, typer.Option("--with-files", help="An inventory: also the files of each package.")
]
_Found = Annotated[
    bool,
    typer.Option(
        "--found", help="Of mtree: what stands at the paths on record, not what is expected."
    ),
]
_Stated = Annotated[
    bool, typer.Option("--stated", help="As a statement about this system, in an envelope.")
]
_Sign = Annotated[
    str | None,
    typer.Option(
        "--sign", metavar="KEYFILE", show_default=False,
        help="Sign a statement, or a page (OUT.sig), with this key of yours: Ed25519, ECDSA or RSA, in "
        "PEM.",
    ),
]  # fmt: skip


@question
def report(
    system: "System | Held", out: _Out, as_: _As = ReportForm.PAGE, part: _Part = None,
    title: _Title = None, reader: _For = None, since: _Since = None, with_files: _Files = False,
    found: _Found = False, stated: _Stated = False, sign: _Sign = None, add: planned.Add = None,
    drop: planned.Drop = None, upgrade: planned.Upgrade = None, *, sources: RepositoryOptions,
) -> Shown:  # fmt: skip
    """Hand over what was found: a page for people, or a form for other programs."""
    from filigree import __version__
    from filigree.questions.reporting.handing import ReportRow, reported

    page = as_ is ReportForm.PAGE
    parts = part if as_ is not ReportForm.PARQUET else None
    _refuse_nonsense(as_, stated, sign is not None, bool(parts or title or reader or since))
    if found and as_ is not ReportForm.MTREE:
        raise BadQuestion("what stands at paths is told as mtree", None, "add --as mtree")
    wish = _Wish(with_files, _plan(as_, add, drop, upgrade), found)
    key = None if sign is None else _key(typed_path(sign))
    made = Handed("filigree", __version__, datetime.now(UTC))
    words = title and typed_path(title), reader and typed_path(reader)
    if not isinstance(system, System):
        if since is not None or stated or found or wish.plan is not None:
            raise BadQuestion("of a host of a store there is no such report", system.label.root)
        answer, lines = _of_held(system, as_, part or [], words, with_files, made)
    elif as_ is ReportForm.PARQUET:
        answer, lines = _parquet(system, part or [], sources, made)
    elif page:
        answer, lines = _page(system, part or [], words, since, sources, made)
    else:
        answer, lines = _MAKERS[as_](system, wish, sources, made)
    data = lines if isinstance(lines, bytes) else "".join(f"{one}\n" for one in lines).encode()
    if stated and isinstance(system, System):
        data = _enveloped(system, _STATED[as_], data, key)
    path = typed_path(out)
    root = system.root if isinstance(system, System) else os.path.dirname(path) + "/.none"
    write_outside(root, path, data)
    if page and key is not None:
        write_outside(root, f"{path}.sig", key.sign(data))
    row = ReportRow(
        file=path, form=as_.value, size=len(data), digest=f"sha256:{hashlib.sha256(data).hexdigest()}",
        question=answer.question, records=len(answer.records), signed=key is not None,
    )  # fmt: skip
    return reported(answer, [row]), NO_OPTIONS


def _refuse_nonsense(form: ReportForm, stated: bool, signed: bool, of_a_page: bool) -> None:
    page = form is ReportForm.PAGE
    if signed and not stated and not page:
        raise BadQuestion("only a page or a statement is signed", None, "add --stated")
    if stated and form not in _STATED:
        known = ", ".join(_STATED)
        raise BadQuestion(f"there is no statement of {form.value}", None, f"known are {known}")
    if not page and of_a_page:
        raise BadQuestion("parts, a title, a reader and an earlier state are of a page", None)


def _plan(form: ReportForm, *given: list[str] | None) -> "Plan | None":
    """The plan whose end an inventory is of; None of what is there."""
    from filigree.questions.planning.future import Plan

    plan = Plan(*(tuple(map(typed_path, one or ())) for one in given))
    if not any(plan):
        return None
    if form not in (ReportForm.CYCLONEDX, ReportForm.SPDX):
        raise BadQuestion(
            "of a plan there is an inventory alone", None, "add --as cyclonedx or spdx"
        )
    return plan


def _parquet(system: System, parts: list[str], sources: RepositoryOptions, made: Handed) -> _Made:
    """The records of one part of an audit as a table."""
    from filigree.questions.reporting.audit import AuditPart, AuditWish, audit, parts_named
    from filigree.questions.rules.findings import FindingsWish
    from filigree.views.handover.parquet import parquet

    known = [one.value for one in AuditPart if one is not AuditPart.GRAPH]
    if len(parts) != 1 or parts[0] not in known:
        raise BadQuestion("a table is of one part", None, f"add --part, one of {', '.join(known)}")
    wish = AuditWish(parts_named(parts), FindingsWish(waived=True, now=made.made_at))
    (answer,) = audit(system, wish, sources).parts.values()
    return answer, parquet(answer)


def _page(
    system: System, parts: list[str], words: tuple[str | None, str | None], since: str | None,
    sources: RepositoryOptions, made: Handed,
) -> _Made:  # fmt: skip
    from contextlib import ExitStack

    from filigree.cli.progress import ProgressLine
    from filigree.questions.keeping.statement import judge_snapshot
    from filigree.questions.reporting.audit import AuditWish, audit, parts_named
    from filigree.questions.rules.findings import FindingsWish
    from filigree.system import open_system
    from filigree.views.pages.audit import PageWords, audit_page

    chosen = parts_named(parts)
    line = ProgressLine()
    with ExitStack() as open_now:
        earlier = None
        if since is not None:
            earlier = open_now.enter_context(open_system(typed_path(since)))
            if sources.keyring and earlier.tree.taken is not None:
                judge_snapshot(earlier, sources.keyring)
        try:
            wish = AuditWish(chosen, FindingsWish(waived=True, now=made.made_at), earlier, line)
            found = audit(system, wish, sources)
        finally:
            line.close()
    return _whole(found), [audit_page(found, made, PageWords(*words))]


def _of_held(
    held: "Held", form: ReportForm, parts: list[str], words: tuple[str | None, str | None],
    with_files: bool, made: Handed,
) -> _Made:  # fmt: skip
    """A host of a store, for what the tables hold."""
    from filigree.fleet.handing import audit_of_held, findings_of_held, inventory_of
    from filigree.questions.reporting.audit import parts_named
    from filigree.questions.rules.findings import every_rule
    from filigree.views.handover.cyclonedx import cyclonedx
    from filigree.views.handover.mtree import mtree
    from filigree.views.handover.sarif import sarif
    from filigree.views.handover.spdx import spdx
    from filigree.views.pages.audit import PageWords, audit_page

    if form is ReportForm.PAGE:
        found = audit_of_held(held, parts_named(parts))
        return _whole(found), [audit_page(found, made, PageWords(*words))]
    if form is ReportForm.SARIF:
        told = findings_of_held(held)
        return told, sarif(told, [rule.facts for rule in every_rule()], made)
    if form in (ReportForm.JUNIT, ReportForm.PARQUET, ReportForm.VERIFICATION):
        raise BadQuestion("tables hold only what is not as it came", None, "report the host itself")
    answer = inventory_of(held, with_files or form is ReportForm.MTREE)
    if form is ReportForm.MTREE:
        return answer, mtree(record for one in answer.records for record in one.files)
    return answer, (spdx if form is ReportForm.SPDX else cyclonedx)(answer, made)


def _whole(found: "Audit") -> Answer[Any, Any]:
    """An audit as one answer."""
    rows = [one for told in found.parts.values() for one in told.records]
    return Answer("audit", found.system, rows, None, found.gaps)


def _key(path: str) -> Any:
    from filigree.formats.document_keys import read_document_key

    return read_document_key(read_key(path))


def _enveloped(system: System, kind: str, data: bytes, key: Any) -> bytes:
    from filigree.questions.reporting.subjects import subject_of
    from filigree.views.handover.statements import SubjectDigest, enveloped, statement

    name, digest = subject_of(system) or (system.label, hashlib.sha256(data).hexdigest())
    subject = SubjectDigest(name or system.root, {"sha256": digest})
    payload = statement([subject], kind, json.loads(data))
    return enveloped(payload, key and key.identity, key and key.sign)
