"""Which programs run now, whose they are, and whether they are still what is on the disk.

Rules, before the code that keeps them:

- Only the running system has processes: any other root is a bad question.
- What runs is compared with what is on the disk by device and inode, never by its name.
- What is on the disk is judged by its package's record, or by better evidence where that is asked for. A
  program that is another by now was not judged by that: the bytes that run are digested, and those may be
  what the record says.
- A process that may not be looked at, or that ends meanwhile, is a gap.
- A process of another root is judged by that root's own records, and told apart.
"""

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from filigree.access.processes import (
    HeldFile,
    KernelModules,
    Process,
    ProcessTable,
    Unseen,
    digest_of_program,
    started_at,
)
from filigree.model.answer import Answer, Gap, moment_of
from filigree.model.errors import BadQuestion, FiligreeError
from filigree.model.files import Evidence
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.running.held import RootOfProcesses
from filigree.questions.running.rows import (
    HeldRow,
    RunningKind,
    RunningRow,
    RunningState,
    RunningSummary,
)
from filigree.system import System, open_system

_INTERPRETER = re.compile(
    r"(?:python|perl|ruby|php|lua|tclsh|node|nodejs|Rscript)[\d.]*|(?:ba|da|k|z|c|tc|fi)?sh|busybox"
)
_LARGEST = 1 << 30
_NAMED = 20


def running(
    system: System,
    pids: Iterable[int] = (),
    every: bool = False,
    least: Evidence = Evidence.RECORD,
    options: RepositoryOptions = EVERYTHING,
    proc: str = "/proc",
) -> Answer[RunningRow, RunningSummary]:
    """What runs now, what is bad news first: of these processes, or all. With `every` also what is as it
    is to be. What is on the disk is judged by evidence that is no less than `least`. `proc` is where the
    kernel tells of them.

    Raises BadQuestion for any root but the running system's. Bad news where something runs that is of
    nobody, gone from the disk, or not as shipped.
    """
    if not can_run(system):
        raise BadQuestion("nothing runs there: only the running system has processes", system.root)
    table = ProcessTable(proc)
    wanted = set(pids)
    every_one = [one for one in table.each() if not wanted or one.pid in wanted]
    unseen = [one for one in every_one if isinstance(one, Unseen)]
    there = [one for one in every_one if isinstance(one, Process)]
    looking = _Looking(system, proc)
    try:
        if least is not Evidence.RECORD:
            looking.judge_by(least, options, there)
        rows = [looking.row(one) for one in there]
        modules = [] if wanted else list(looking.modules())
    finally:
        looking.close()
    _report(system, unseen, wanted - {row.pid for row in rows} - {one.pid for one in unseen})
    rows += modules
    rows.sort(
        key=lambda row: (not row.alarming, row.state is RunningState.AS_ON_DISK, row.pid or 0)
    )
    told = rows if every or wanted else [row for row in rows if not _is_well(row)]
    summary = RunningSummary(
        processes=len(rows) - len(modules), kernel_threads=table.kernel_threads, unseen=len(unseen),
        modules=len(modules), alarming=sum(row.alarming for row in rows),
        replaced=sum(_is_replaced(row) for row in rows),
        states=dict(Counter(row.state for row in rows)),
    )  # fmt: skip
    return Answer(
        "running", system.system_label, told, summary, system.gaps, bad_news=bool(summary.alarming)
    )


def can_run(system: System) -> bool:
    """Whether a root is that of the running system."""
    return system.root == "/" and system.tree.taken is None and system.tree.layered is None


def _is_replaced(row: RunningRow) -> bool:
    return row.state is RunningState.REPLACED or any(
        one.state is RunningState.REPLACED for one in row.libraries
    )


def _is_well(row: RunningRow) -> bool:
    return not row.alarming and not _is_replaced(row) and not row.remarks


def _report(system: System, unseen: Sequence[Unseen], missing: set[int]) -> None:
    for pid in sorted(missing):
        system.report(Gap(f"process {pid}", "there is none of that number"))
    for one in unseen[:_NAMED]:
        system.report(Gap(f"process {one.pid} ({one.name})", one.why))
    if len(unseen) > _NAMED:
        system.report(
            Gap(f"{len(unseen) - _NAMED:,} more processes", "they could not be looked at")
        )


class _Looking:
    """Looks processes up in the records of the root that each of them has."""

    def __init__(self, system: System, proc: str) -> None:
        self._system = system
        self._proc = proc
        self._roots: dict[str, RootOfProcesses | None] = {}
        self._own = RootOfProcesses(system)

    def close(self) -> None:
        """Let go of other roots."""
        for root in self._roots.values():
            if root is not None:
                root.system.close()

    def judge_by(
        self, least: Evidence, options: RepositoryOptions, processes: Sequence[Process]
    ) -> None:
        """Judge what the processes of our own root hold by better evidence than the record."""
        own = [one for one in processes if one.root == "/"]
        self._own.judge_by(least, options, {
            held.path for one in own for held in (one.program, *one.libraries)
        })  # fmt: skip

    def row(self, one: Process) -> RunningRow:
        """One process as a row."""
        root = self._root(one)
        remarks: list[str] = []
        if one.root != "/":
            remarks.append(
                "it has another root" + ("" if root else ", which is of no known family")
            )
        program = root.held(one.program) if root else _unknown(one.program)
        libraries = [root.held(held) if root else _unknown(held) for held in one.libraries]
        remarks += root.open_places(one.program.path) if root else []
        state = program.state
        digest = None
        if state in (RunningState.GONE, RunningState.REPLACED):
            digest = digest_of_program(one.pid, one.began, _LARGEST, self._proc)
        return RunningRow(
            what=RunningKind.PROCESS, pid=one.pid, name=one.name, user=self._system.users.name(one.uid),
            began_at=moment_of(started_at(one.began, self._proc)), program=program.path,
            package=program.package, verdict=program.verdict,
            evidence=None if root is None else root.evidence(program.path), state=state,
            script=self._script(one, root), libraries=[held for held in libraries if _is_told(held)],
            mapped=len(libraries), digest=digest, root=one.root, remarks=remarks,
        )  # fmt: skip

    def _root(self, one: Process) -> RootOfProcesses | None:
        if one.root == "/":
            return self._own
        if one.root not in self._roots:
            try:
                self._roots[one.root] = RootOfProcesses(open_system(one.root))
            except FiligreeError:
                self._roots[one.root] = None
        return self._roots[one.root]

    def _script(self, one: Process, root: RootOfProcesses | None) -> HeldRow | None:
        """What an interpreter runs, where that is a file."""
        name = one.program.path.rpartition("/")[2]
        if root is None or not _INTERPRETER.fullmatch(name):
            return None
        for word in one.arguments[1:]:
            if word in ("-c", "-m", "-e", "--", "-s"):
                return None
            if word.startswith("-"):
                continue
            path = word if word.startswith("/") else f"{one.directory or ''}/{word}"
            return root.script(path)
        return None

    def modules(self) -> Iterator[RunningRow]:
        """The modules that the kernel has loaded, and the files that they came from, as far as the
        system's own folder of them tells."""
        try:
            loaded = KernelModules(self._proc).loaded
        except OSError as error:
            self._system.report(Gap("the kernel's modules", f"they are not told: {error.strerror}"))
            return
        places = self._own.module_files if loaded else {}
        for name in loaded:
            path = places.get(name.replace("-", "_"))
            held = self._own.on_disk(path) if path else None
            remarks = [] if path else ["no file of that name is where this kernel's modules are"]
            yield RunningRow(
                what=RunningKind.MODULE, pid=None, name=name, user=None, began_at=None, program=path,
                package=held.package if held else None, verdict=held.verdict if held else None,
                evidence=Evidence.RECORD if held and held.verdict is not None else None,
                state=held.state if held else RunningState.OF_NOBODY, script=None, libraries=[],
                mapped=0, digest=None, root="/", remarks=remarks,
            )  # fmt: skip


def _unknown(held: HeldFile) -> HeldRow:
    return HeldRow(held.path, None, None, RunningState.OF_NOBODY)


def _is_told(held: HeldRow) -> bool:
    return held.state is not RunningState.AS_ON_DISK or (
        held.verdict is not None and held.verdict.alarming
    )
