"""Measures the structure of the product's code: lengths, parameters, complexity, circles, docstrings.

    python tools/structure.py            a table of all measures
    python tools/structure.py --list     with every place that is over its limit

`tests/test_structure.py` holds the limits. A function's length is its lines of code: without its docstring,
blank lines and comments. Complexity counts the ways through a function, as ruff's C901 does.
"""

import ast
import statistics
import sys
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

SOURCE = Path(__file__).parents[1] / "src"
FILE_LINES, FUNCTION_LINES, PARAMETERS, COMPLEXITY, DOCSTRINGS = 400, 50, 8, 15, 0.98
_BRANCHES = (
    ast.If, ast.For, ast.AsyncFor, ast.While, ast.ExceptHandler, ast.comprehension, ast.match_case,
    ast.With, ast.AsyncWith,
)  # fmt: skip


class Function(NamedTuple):
    """One function: where it is, what it measures, and whether it is public and says what it is for."""

    place: str
    lines: int
    parameters: int
    complexity: int
    public: bool
    described: bool
    command: bool


class Structure(NamedTuple):
    """All measures of a tree of modules."""

    files: dict[str, int]
    functions: list[Function]
    imports: dict[str, set[str]]
    circles: list[list[str]]
    protocols: dict[str, int]


@lru_cache(maxsize=1)
def measure(source: Path = SOURCE) -> Structure:
    """Everything below a folder of packages."""
    trees = {
        ".".join(path.relative_to(source).with_suffix("").parts).removesuffix(".__init__"): path
        for path in sorted(source.rglob("*.py"))
    }
    files: dict[str, int] = {}
    functions: list[Function] = []
    imports: dict[str, set[str]] = {}
    protocols: dict[str, int] = {}
    parsed = {module: ast.parse(path.read_text()) for module, path in trees.items()}
    promised = _promised(parsed)
    for module, path in trees.items():
        text = path.read_text()
        tree = parsed[module]
        files[str(path.relative_to(source))] = text.count("\n")
        functions += _functions(tree, text.splitlines(), module, promised)
        imports[module] = set(_imported(tree, module, path.name == "__init__.py", set(trees)))
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef) and _is_protocol(node):
                members = [
                    one for one in node.body if isinstance(one, ast.FunctionDef | ast.AnnAssign)
                ]
                protocols[f"{module}.{node.name}"] = len(members)
    return Structure(files, functions, imports, circles(imports), protocols)


def _is_protocol(node: ast.ClassDef) -> bool:
    return any(isinstance(base, ast.Name) and base.id == "Protocol" for base in node.bases)


def _promised(trees: dict[str, ast.Module]) -> set[str]:
    """The names of members of protocols and base classes: said there what they are for."""
    names: set[str] = set()
    for tree in trees.values():
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef):
                names |= {
                    one.name
                    for one in node.body
                    if isinstance(one, ast.FunctionDef) and ast.get_docstring(one)
                }
    return names


def _functions(
    tree: ast.AST, lines: list[str], module: str, promised: set[str]
) -> Iterator[Function]:
    def inside(node: ast.AST, way: str, in_class: bool, hidden: bool) -> Iterator[Function]:
        for child in ast.iter_child_nodes(node):
            if isinstance(child, ast.FunctionDef | ast.AsyncFunctionDef):
                private = hidden or child.name.startswith("_")
                described = bool(ast.get_docstring(child)) or (in_class and child.name in promised)
                yield Function(
                    f"{module}:{way}{child.name}", _code_lines(child, lines), _parameters(child),
                    complexity_of(child), not private, described, _is_command(child),
                )  # fmt: skip
                yield from inside(child, f"{way}{child.name}.", False, True)
            elif isinstance(child, ast.ClassDef):
                private = hidden or child.name.startswith("_")
                yield from inside(child, f"{way}{child.name}.", True, private)
            else:
                yield from inside(child, way, in_class, hidden)

    return inside(tree, "", False, False)


def _is_command(function: ast.FunctionDef | ast.AsyncFunctionDef) -> bool:
    """Whether a function is a command of the interface: its parameters are its options."""
    return any(ast.unparse(one) == "question" for one in function.decorator_list)


def _parameters(function: ast.FunctionDef | ast.AsyncFunctionDef) -> int:
    given = function.args
    names = [one.arg for one in (*given.posonlyargs, *given.args, *given.kwonlyargs)]
    return len([name for name in names if name not in ("self", "cls")])


def _code_lines(function: ast.FunctionDef | ast.AsyncFunctionDef, lines: list[str]) -> int:
    start, end = function.lineno, function.end_lineno or function.lineno
    body = function.body
    said = range(0)
    if ast.get_docstring(function) is not None:
        said = range(body[0].lineno, (body[0].end_lineno or 0) + 1)
    return sum(
        1
        for number in range(start, end + 1)
        if number not in said
        and lines[number - 1].strip()
        and not lines[number - 1].strip().startswith("#")
    )


def complexity_of(function: ast.AST) -> int:
    """The ways through a function: one, and one more for each branch; those inside it count too."""
    count = 1
    for node in ast.walk(function):
        if isinstance(node, ast.Try):
            count += bool(node.finalbody) + bool(node.orelse)
        elif isinstance(node, ast.For | ast.While):
            count += 1 + bool(node.orelse)
        elif isinstance(node, ast.If | ast.ExceptHandler | ast.comprehension | ast.match_case) or (
            isinstance(node, ast.FunctionDef) and node is not function
        ):
            count += 1
    return count


def _imported(tree: ast.Module, module: str, package: bool, known: set[str]) -> Iterator[str]:
    """The modules that one imports, wherever in it; those for types alone are left out."""
    for node in _run(tree):
        if isinstance(node, ast.Import):
            yield from (one.name for one in node.names if one.name in known)
        elif isinstance(node, ast.ImportFrom):
            base = node.module or ""
            if node.level:
                parts = module.split(".")
                keep = len(parts) - node.level + package
                base = ".".join([*parts[:keep], *([node.module] if node.module else [])])
            for one in node.names:
                inner = f"{base}.{one.name}"
                if inner in known:
                    yield inner
                elif base in known:
                    yield base


def _run(node: ast.AST) -> Iterator[ast.AST]:
    """Every node that may be run: not what stands below `if TYPE_CHECKING`."""
    for child in ast.iter_child_nodes(node):
        if isinstance(child, ast.If) and "TYPE_CHECKING" in ast.unparse(child.test):
            continue
        yield child
        yield from _run(child)


def circles(imports: dict[str, set[str]]) -> list[list[str]]:
    """The sets of modules that import each other, by any way round (Tarjan's components)."""
    index: dict[str, int] = {}
    low: dict[str, int] = {}
    stack: list[str] = []
    found: list[list[str]] = []

    def visit(module: str) -> None:
        index[module] = low[module] = len(index)
        stack.append(module)
        for other in sorted(imports.get(module, ())):
            if other not in index:
                visit(other)
                low[module] = min(low[module], low[other])
            elif other in stack:
                low[module] = min(low[module], index[other])
        if low[module] == index[module]:
            at = stack.index(module)
            found.append(sorted(stack[at:]))
            del stack[at:]

    sys.setrecursionlimit(10_000)
    for module in sorted(imports):
        if module not in index:
            visit(module)
    return sorted(
        (one for one in found if len(one) > 1 or one[0] in imports[one[0]]), key=len, reverse=True
    )


def over(found: Structure) -> Iterator[str]:
    """Every place that is over a limit, as a line."""
    for path, lines in found.files.items():
        if lines > FILE_LINES:
            yield f"{path}: {lines} lines"
    for one in found.functions:
        if one.lines > FUNCTION_LINES:
            yield f"{one.place}: {one.lines} lines of code"
        if one.parameters > PARAMETERS and not one.command:
            yield f"{one.place}: {one.parameters} parameters"
        if one.complexity > COMPLEXITY:
            yield f"{one.place}: complexity {one.complexity}"
    for circle in found.circles:
        yield f"a circle of {len(circle)}: {', '.join(circle)}"


def undescribed(found: Structure) -> list[str]:
    """The public functions that do not say what they are for, here or in what they implement."""
    return [one.place for one in found.functions if one.public and not one.described]


def _spread(values: list[int]) -> str:
    cut = statistics.quantiles(values, n=20)[-1]
    return f"{statistics.median(values):.0f} / {cut:.0f} / {max(values)}"


def main() -> None:
    """Prints the table, and with `--list` every place that is over its limit."""
    found = measure()
    public = [one for one in found.functions if one.public]
    without = undescribed(found)
    longest = max(found.files.values())
    rows = [
        ("files", f"{len(found.files)}, {sum(found.files.values()):,} lines"),
        ("longest file", f"{longest}; {sum(n > FILE_LINES for n in found.files.values())} over {FILE_LINES}"),
        ("function length, median / p95 / longest", _spread([one.lines for one in found.functions])),
        ("parameters, median / p95 / most",
         _spread([one.parameters for one in found.functions if not one.command])),
        ("complexity, median / p95 / highest", _spread([one.complexity for one in found.functions])),
        ("circles of files", f"{len(found.circles)}, the largest of {max(map(len, found.circles), default=0)}"),
        ("public functions described", f"{1 - len(without) / len(public):.1%} of {len(public):,}"),
        ("members of protocols", str(sum(found.protocols.values()))),
    ]  # fmt: skip
    for name, value in rows:
        print(f"{name:<42}{value}")
    if "--list" in sys.argv[1:]:
        print()
        for name, count in sorted(found.protocols.items()):
            print(f"{name}: {count} members")
        for line in over(found):
            print(line)
        for place in without:
            print(f"{place}: not described")


if __name__ == "__main__":
    main()
