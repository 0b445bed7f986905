"""How many random changes of the core the tests notice.

    python tools/mutants.py [--sample 300] [--minutes 30] [--seed 1] [--list]

First every test is run once, and which lines each of them runs is noted (kept until code or tests change). Then
changes are drawn, each of one place of the code: a comparison, a sign, a number, a word, a condition, what is
returned, a step left out. Each is made in a copy of the code and held against the tests that run its line, the
quickest first. What no test notices is listed: it is a test that is missing, or a change that changes nothing,
which only a person can tell. A change that is still undecided when the time is over is not counted.
"""

import argparse
import ast
import hashlib
import os
import random
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, NamedTuple

TOP = Path(__file__).parents[1]
SOURCE = TOP / "src"
KEPT = TOP / ".mutants"
CORE = ("model", "formats", "access", "families", "questions", "system.py", "paths.py")
SLOW = (
    "tests/test_hostile_files.py",
    "tests/test_poor_surroundings.py",
    "tests/test_live.py",
    "tests/test_structure.py",
)
AT_FIRST, PATIENCE = 60, 150
_OPERATORS = {
    ast.Lt: ("<", "<="), ast.LtE: ("<=", "<"), ast.Gt: (">", ">="), ast.GtE: (">=", ">"), ast.Eq: ("==", "!="),
    ast.NotEq: ("!=", "=="), ast.Is: ("is", "is not"), ast.IsNot: ("is not", "is"), ast.In: ("in", "not in"),
    ast.NotIn: ("not in", "in"), ast.Add: ("+", "-"), ast.Sub: ("-", "+"), ast.Mult: ("*", "+"),
    ast.FloorDiv: ("//", "*"), ast.And: ("and", "or"), ast.Or: ("or", "and"), ast.BitAnd: ("&", "|"),
    ast.BitOr: ("|", "&"),
}  # fmt: skip


class Mutant(NamedTuple):
    """One change: the text between two offsets of a file becomes another."""

    path: str
    line: int
    start: int
    end: int
    text: str

    def words(self, source: str) -> str:
        """The change for people."""
        old = " ".join(source[self.start : self.end].split())
        return f"{self.path}:{self.line}: {old[:60] or '…'} -> {self.text[:60]}"


class _Finder(ast.NodeVisitor):
    """Every change that could be made of one file."""

    def __init__(self, path: str, source: str) -> None:
        self.found: list[Mutant] = []
        self._path = path
        self._source = source
        lines = source.split("\n")
        self._starts = [0]
        for text in lines:
            self._starts.append(self._starts[-1] + len(text) + 1)
        self._bytes = [text.encode() for text in lines]

    def _at(self, line: int, column: int) -> int:
        return self._starts[line - 1] + len(self._bytes[line - 1][:column].decode())

    def _span(self, node: Any) -> tuple[int, int]:
        return self._at(node.lineno, node.col_offset), self._at(
            node.end_lineno, node.end_col_offset
        )

    def _add(self, node: Any, start: int, end: int, text: str) -> None:
        self.found.append(Mutant(self._path, node.lineno, start, end, text))

    def _between(self, node: ast.AST, left: ast.AST, right: ast.AST, op: ast.AST) -> None:
        pair = _OPERATORS.get(type(op))
        start, end = self._span(left)[1], self._span(right)[0]
        if pair is None:
            return
        match = re.search(re.escape(pair[0]).replace(r"\ ", r"\s+"), self._source[start:end])
        if match:
            self._add(node, start + match.start(), start + match.end(), pair[1])

    def visit_FunctionDef(self, node: ast.FunctionDef) -> None:
        for child in node.body:
            self.visit(child)

    def visit_AnnAssign(self, node: ast.AnnAssign) -> None:
        if node.value is not None:
            self.visit(node.value)

    def visit_JoinedStr(self, node: ast.JoinedStr) -> None:
        start, end = self._span(node)
        self._add(node, start, end, '"another"')

    def visit_If(self, node: ast.If) -> None:
        if "TYPE_CHECKING" not in ast.unparse(node.test):
            start, end = self._span(node.test)
            self._add(node.test, start, end, f"not ({self._source[start:end]})")
            self.generic_visit(node)

    def visit_Compare(self, node: ast.Compare) -> None:
        if len(node.ops) == 1:
            self._between(node, node.left, node.comparators[0], node.ops[0])
        self.generic_visit(node)

    def visit_BoolOp(self, node: ast.BoolOp) -> None:
        self._between(node, node.values[0], node.values[1], node.op)
        self.generic_visit(node)

    def visit_BinOp(self, node: ast.BinOp) -> None:
        self._between(node, node.left, node.right, node.op)
        self.generic_visit(node)

    def visit_Return(self, node: ast.Return) -> None:
        if node.value is not None and not (
            isinstance(node.value, ast.Constant) and node.value.value is None
        ):
            start, end = self._span(node.value)
            self._add(node, start, end, "None")
            self.visit(node.value)

    def visit_Expr(self, node: ast.Expr) -> None:
        if isinstance(node.value, ast.Call):
            self._add(node, *self._span(node), "pass")
            self.generic_visit(node)
        elif not isinstance(node.value, ast.Constant):
            self.generic_visit(node)

    def visit_AugAssign(self, node: ast.AugAssign) -> None:
        self._add(node, *self._span(node), "pass")
        self.visit(node.value)

    def visit_Constant(self, node: ast.Constant) -> None:
        start, end = self._span(node)
        value = node.value
        if isinstance(value, bool):
            self._add(node, start, end, str(not value))
        elif isinstance(value, int):
            self._add(node, start, end, str(value + 1))
        elif isinstance(value, str) and value:
            self._add(node, start, end, '"another"')
        elif isinstance(value, bytes) and value:
            self._add(node, start, end, 'b"another"')


def mutants() -> Iterator[Mutant]:
    """Every change that could be made of the core."""
    for part in CORE:
        place = SOURCE / "filigree" / part
        for path in [place] if place.is_file() else sorted(place.rglob("*.py")):
            source = path.read_text()
            finder = _Finder(str(path.relative_to(SOURCE)), source)
            finder.visit(ast.parse(source))
            yield from finder.found


# -- which tests run a line ------------------------------------------------------------------


def _state() -> str:
    """What the kept map depends on, as a digest."""
    digest = hashlib.sha256()
    for folder in ("src", "tests"):
        for path in sorted((TOP / folder).rglob("*.py")):
            digest.update(path.read_bytes())
    return digest.hexdigest()


def measured() -> tuple[dict[tuple[str, int], list[str]], dict[str, float]]:
    """For each line of the core the tests that run it; and how long each test takes, in seconds."""
    data, times, state = KEPT / "coverage", KEPT / "times.xml", KEPT / "state"
    if not state.exists() or state.read_text() != _state():
        shutil.rmtree(KEPT, ignore_errors=True)
        KEPT.mkdir()
        (KEPT / "rc").write_text(
            f"[run]\nsource = {SOURCE / 'filigree'}\ndynamic_context = test_function\ndata_file = {data}\n"
            "core = ctrace\n"
        )
        subprocess.run(
            [sys.executable, "-m", "coverage", "run", f"--rcfile={KEPT / 'rc'}", "-m", "pytest", "-q",
             "-p", "no:cacheprovider", f"--junitxml={times}", *(f"--ignore={one}" for one in SLOW), "tests"],
            cwd=TOP, check=False, stdout=subprocess.DEVNULL,
        )  # fmt: skip
        state.write_text(_state())
    return _lines(data), _durations(times)


def _lines(data: Path) -> dict[tuple[str, int], list[str]]:
    from coverage.numbits import numbits_to_nums

    found: dict[tuple[str, int], list[str]] = {}
    with sqlite3.connect(data) as kept:
        rows = kept.execute(
            "SELECT file.path, context.context, line_bits.numbits FROM line_bits"
            " JOIN file ON file.id = file_id JOIN context ON context.id = context_id"
        )
        for path, context, bits in rows:
            if context:
                for line in numbits_to_nums(bits):
                    key = (str(Path(path).relative_to(SOURCE)), line)
                    found.setdefault(key, []).append(context)
    return found


def _durations(times: Path) -> dict[str, float]:
    """By the name that the map has: the module, the class if any, the function."""
    found: dict[str, float] = {}
    for case in ET.parse(times).iter("testcase"):
        name = f"{case.get('classname')}.{(case.get('name') or '').partition('[')[0]}"
        found[name] = found.get(name, 0.0) + float(case.get("time") or 0)
    return found


def _nodes(tests: list[str], seconds: dict[str, float]) -> list[str]:
    """Tests as pytest calls them, the quickest first."""
    nodes: dict[str, None] = {}
    for name in sorted(set(tests), key=lambda one: seconds.get(one, 60.0)):
        parts = name.split(".")
        for at in range(len(parts) - 1, 0, -1):
            path = TOP / Path(*parts[:at]).with_suffix(".py")
            if path.exists():
                nodes["::".join((str(path.relative_to(TOP)), *parts[at:]))] = None
                break
    return list(nodes)


# -- running ---------------------------------------------------------------------------------


class Copy:
    """A copy of the code, in which one change is made at a time."""

    def __init__(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="mutants-"))
        shutil.copytree(SOURCE, self.folder / "src")

    def notices(self, mutant: Mutant, nodes: list[str]) -> bool:
        """Whether a test fails, or does not end, once a change is made."""
        path = self.folder / "src" / mutant.path
        source = path.read_text()
        path.write_text(source[: mutant.start] + mutant.text + source[mutant.end :])
        try:
            return any(self._fails(part) for part in (nodes[:AT_FIRST], nodes[AT_FIRST:]) if part)
        finally:
            path.write_text(source)

    def _fails(self, nodes: list[str]) -> bool:
        process = subprocess.Popen(
            [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *nodes], cwd=TOP,
            env={**os.environ, "PYTHONPATH": str(self.folder / "src"), "PYTHONDONTWRITEBYTECODE": "1"},
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        try:
            return process.wait(PATIENCE) != 0
        except subprocess.TimeoutExpired:
            return True
        finally:
            try:
                os.killpg(process.pid, signal.SIGKILL)
            except ProcessLookupError:
                pass
            process.wait()


def main() -> int:
    """Draws, runs, and tells the share that was noticed; 1 where that is below the bound."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawTextHelpFormatter
    )
    parser.add_argument("--sample", type=int, default=300)
    parser.add_argument("--minutes", type=float, default=30)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--bound", type=float, default=0.88)
    parser.add_argument("--only", default="", help="a part of the paths that are changed")
    given = parser.parse_args()
    tests, seconds = measured()
    until = time.monotonic() + given.minutes * 60
    every = [one for one in mutants() if (one.path, one.line) in tests and given.only in one.path]
    drawn = random.Random(given.seed).sample(every, min(given.sample, len(every)))
    copies = [Copy() for _ in range(os.cpu_count() or 1)]

    def run(one: Mutant) -> bool | None:
        if time.monotonic() > until:
            return None
        copy = copies.pop()
        try:
            return copy.notices(one, _nodes(tests[one.path, one.line], seconds))
        finally:
            copies.append(copy)

    with ThreadPoolExecutor(len(copies)) as pool:
        outcomes = list(pool.map(run, drawn))
    for copy in copies:
        shutil.rmtree(copy.folder, ignore_errors=True)
    for one, noticed in zip(drawn, outcomes, strict=True):
        if noticed is False:
            print(one.words((SOURCE / one.path).read_text()))
    decided = [noticed for noticed in outcomes if noticed is not None]
    share = sum(decided) / max(1, len(decided))
    print(
        f"{sum(decided)} of {len(decided)} noticed ({share:.1%}), of {len(every):,} that could be made"
    )
    return int(share < given.bound)


if __name__ == "__main__":
    sys.exit(main())
