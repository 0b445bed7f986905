"""Show an answer: to a terminal, a pager or a pipe; and decide the exit status."""

import logging
import os
import shlex
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from itertools import chain, islice
from typing import TYPE_CHECKING, Any

from filigree.access.roots import PLAIN, RootChoice
from filigree.cli.asked import Shared, Shown, When
from filigree.cli.files import cache_folder
from filigree.cli.progress import LayerLine
from filigree.model.answer import Answer, Flow
from filigree.model.errors import BadQuestion, NoSystem
from filigree.system import System, open_system
from filigree.views.options import VerifyOptions, ViewOptions
from filigree.views.page import Ink
from filigree.views.render import FLOWING, Format, render, render_flow
from filigree.views.text import escaped

if TYPE_CHECKING:
    from filigree.fleet.held import Held

_PAGERS = (("less", "-R"), ("more",))
log = logging.getLogger("filigree")


def answer_and_show(shared: Shared, ask: Callable[..., Shown]) -> int:
    """Open the system, ask, show; the exit status comes back."""
    refuse_bytes_to_a_terminal(shared)
    if shared.verbose:
        logging.basicConfig(level=logging.INFO, format="filigree: %(message)s", stream=sys.stderr)
    log.info("opening %s", escaped(shared.root))
    roots = (shared.root,) if shared.other is None else (shared.root, shared.other)
    if shared.held and any(map(_may_be_held, roots)):
        held = _held(shared, roots)
        if held is not None:
            asked, options = ask(*held)
            return show(asked, shared, options).exit_status
    line = LayerLine()
    try:
        system = open_system(shared.root, None, _here(shared.root), _choice(shared, line))
    except NoSystem:
        if not shared.archives_only or not os.path.isdir(shared.root):
            raise
        log.info("no system of a known family: archives can be looked at all the same")
        system = open_system(shared.root, "none")
    finally:
        line.close()
    _judge_snapshot(system, shared)
    if shared.repos_of is not None:
        system.use_repositories_of(open_system(shared.repos_of, choice=_choice_of(shared.repos_of)))
        system.say(f"the repositories, and the root's keys, are those of {shared.repos_of}")
    log.info("a %s system with %d packages on record", system.family.name, len(system.packages))
    if shared.other is None:
        asked, options = ask(system)
    else:
        other = open_system(shared.other, choice=_choice_of(shared.other))
        _judge_snapshot(other, shared)
        asked, options = ask(system, other)
    answer = show(asked, shared, options)
    _said(system)
    log.info("exit status %d", answer.exit_status)
    return answer.exit_status


def _may_be_held(root: str) -> bool:
    """Whether what is asked may be no root: a host of a store, or a document that lists one."""
    return "#" in root or _is_document(root)


def _is_document(root: str) -> bool:
    if not os.path.isfile(root):
        return False
    try:
        with open(root, "rb") as file:
            return file.read(64).lstrip()[:1] == b"{"
    except OSError:
        return False


def _held(shared: Shared, roots: Sequence[str]) -> "list[Held] | None":
    """What is asked as tables hold it, where one of it is a host of a store or a document; None where
    none is. Of a snapshot beside such a one it is said, too, what it rests on."""
    from filigree.fleet.held import held_host, held_inventory, held_system, host_place
    from filigree.fleet.store import FleetStore
    from filigree.questions.offers.options import RepositoryOptions

    now = datetime.now(UTC)
    places = [host_place(root, now, os.path.lexists) for root in roots]
    documents = [len(roots) > 1 and _is_document(root) for root in roots]
    if not any(places) and not any(documents):
        return None
    found = []
    for root, place, is_document in zip(roots, places, documents, strict=True):
        if place is None and is_document:
            found.append(held_inventory(root))
            continue
        if place is not None:
            found.append(held_host(FleetStore(place.store, cache=cache_folder()), place))
            continue
        with open_system(root, choice=_choice_of(root)) as system:
            _judge_snapshot(system, shared)
            found.append(held_system(system, RepositoryOptions(cache=cache_folder())))
            _said(system)
    return found


def _said(system: System) -> None:
    """Say what a system has to say beside its answer."""
    for words in system.asides:
        print(f"filigree: {escaped(words)}", file=sys.stderr)  # noqa: T201 - this is where it is said


def _judge_snapshot(system: System, shared: Shared) -> None:
    """Judge what a snapshot carries by the auditor's keys, and say what else it rests on."""
    taken = system.tree.taken
    if taken is None:
        if shared.keyring and not shared.sourced and shared.other is None:
            raise BadQuestion(
                "no signature is judged here: the root is no snapshot", ", ".join(shared.keyring)
            )
        return
    from filigree.questions.keeping.statement import judge_snapshot

    if shared.keyring:
        judge_snapshot(system, shared.keyring)
    elif taken.signed:
        system.say("the snapshot is signed, and that was not judged: give --keyring")
    else:
        system.say("the snapshot is unsigned: whoever could write to it could make it say anything")


def _choice(shared: Shared, line: LayerLine) -> RootChoice:
    """What is meant of an image, and where is kept what was read of it: a directory is read anew."""
    chosen = (shared.image, shared.platform, shared.layer)
    if chosen == PLAIN[:3]:
        return _choice_of(shared.root, line)
    return RootChoice(*chosen, cache_folder(), line)


def _choice_of(root: str, line: LayerLine | None = None) -> RootChoice:
    """No choice of anything at a root, and nothing kept of a directory."""
    layout = os.path.exists(os.path.join(root, "oci-layout"))
    if os.path.isdir(root) and not layout:
        return PLAIN
    return RootChoice(cache=cache_folder(), progress=line)


def _here(root: str) -> str:
    """Where relative paths start: on the running system where the shell says, else at the top."""
    try:
        return os.getcwd() if root == "/" else "/"
    except OSError:  # the working directory is gone
        return "/"


def show(
    asked: Answer[Any, Any] | Flow[Any, Any], shared: Shared, options: ViewOptions
) -> Answer[Any, Any]:
    """Write the answer to standard output, and what belongs beside it to standard error.

    The answer comes back; of one whose records flowed by, without them.
    """
    terminal = sys.stdout.isatty()
    form = shared.form or (Format.TABLE if terminal else Format.LINES)
    if isinstance(asked, Flow):
        if form in FLOWING:
            _written(render_flow(asked, form, options))
            _aside(asked.rest, form, options)
            return asked.rest
        asked = asked.collected()
    _show(asked, form, shared, options)
    return asked


def _show(answer: Answer[Any, Any], form: Format, shared: Shared, options: ViewOptions) -> None:
    if isinstance(options, VerifyOptions) and options.quiet:
        return
    if not answer.records and form is Format.TABLE:
        _noted(answer)  # where nothing matched, that is the answer
    if form is Format.PARQUET:
        _written_as_bytes(answer)
        _aside(answer, form, options)
        return
    lines = render(answer, form, ink_for(shared), options)
    if form is Format.TABLE and sys.stdout.isatty() and not shared.no_pager:
        _paged(lines)
    else:
        _written(lines)
    _aside(answer, form, options)


def refuse_bytes_to_a_terminal(shared: Shared) -> None:
    """Raises BadQuestion where what is asked for would be no text, and a terminal would get it."""
    if shared.form is Format.PARQUET and sys.stdout.isatty():
        raise BadQuestion(
            "it is no text, and would be written to a terminal", None, "write it to a file"
        )


def _written_as_bytes(answer: Answer[Any, Any]) -> None:
    from filigree.views.handover.parquet import parquet

    sys.stdout.buffer.write(parquet(answer))
    sys.stdout.buffer.flush()


def ink_for(shared: Shared) -> Ink:
    """How to write to standard output: with colour or without, and how wide."""
    terminal = sys.stdout.isatty()
    colour = shared.color is When.ALWAYS or (
        shared.color is When.AUTO and terminal and not os.environ.get("NO_COLOR")
    )
    width = shutil.get_terminal_size().columns if terminal or "COLUMNS" in os.environ else 0
    return Ink(colour, width)


def _noted(answer: Answer[Any, Any]) -> None:
    """What matched nothing, and what is near it."""
    sys.stdout.flush()
    for note in answer.notes:
        print(f"filigree: {escaped(note)}", file=sys.stderr)  # noqa: T201 - this is where it is said


def _aside(answer: Answer[Any, Any], form: Format, options: ViewOptions) -> None:
    """What matched nothing, and, where the format has no place for them, the gaps."""
    if answer.records or form is not Format.TABLE:
        _noted(answer)
    out: list[str] = []
    if form not in (Format.TABLE, Format.JSON) or not options.tells_gaps:
        out += (
            f"filigree: not looked at: {escaped(gap.what)}: {escaped(gap.why)}"
            for gap in answer.gaps
        )
    if answer.interrupted:
        out.append("filigree: interrupted; this is what was found so far")
    sys.stdout.flush()
    for text in out:
        print(text, file=sys.stderr)  # noqa: T201 - this is where it is said


def _written(lines: Iterator[str]) -> None:
    out = sys.stdout
    while block := list(islice(lines, 512)):
        out.write("\n".join(block) + "\n")


def _paged(lines: Iterator[str]) -> None:
    """Through a pager where the answer is longer than the window."""
    first = list(islice(lines, shutil.get_terminal_size().lines - 1))
    more = list(islice(lines, 1))
    pager = _pager() if more else None
    if pager is None:
        _written(chain(first, more, lines))
        return
    process = subprocess.Popen(pager, stdin=subprocess.PIPE, text=True, encoding="utf-8")
    assert process.stdin is not None
    try:
        for text in chain(first, more, lines):
            process.stdin.write(text + "\n")
        process.stdin.close()
    except BrokenPipeError:
        pass
    while process.poll() is None:
        try:
            process.wait()
        except KeyboardInterrupt:
            continue  # the pager has its own way with the key


def _pager() -> list[str] | None:
    wished = shlex.split(os.environ.get("PAGER", ""))
    if wished:
        return wished if shutil.which(wished[0]) else None
    for command in _PAGERS:
        if shutil.which(command[0]):
            return list(command)
    return None
