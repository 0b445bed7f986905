"""The shape of the house: lengths, parameters, ways through, circles, names and docstrings."""

import ast
from collections import Counter
from pathlib import Path

import pytest
from tools.structure import DOCSTRINGS, SOURCE, Structure, measure, over, undescribed


@pytest.fixture(scope="module")
def found() -> Structure:
    return measure()


def test_nothing_is_too_long_too_wide_too_tangled_or_in_a_circle(found: Structure) -> None:
    assert len(found.functions) > 2000
    assert list(over(found)) == []


def test_public_functions_say_what_they_are_for(found: Structure) -> None:
    public = [one for one in found.functions if one.public]
    assert len(undescribed(found)) <= (1 - DOCSTRINGS) * len(public)


def test_no_two_classes_have_one_name() -> None:
    names = Counter(
        node.name
        for path in SOURCE.rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.ClassDef)
    )
    assert [name for name, count in names.items() if count > 1] == []


def test_wide_records_are_made_by_keyword() -> None:
    wide = [
        f"{path.relative_to(SOURCE)}:{node.lineno}"
        for path in SOURCE.rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Call)
        and isinstance(node.func, ast.Name)
        and node.func.id[:1].isupper()
        and len(node.args) > 8
    ]
    assert wide == []


def test_what_is_measured_is_what_is_there(tmp_path: Path) -> None:
    """The measures themselves, on a package with one of each fault."""
    package = tmp_path / "house"
    package.mkdir()
    (package / "__init__.py").write_text('"""A house."""\n')
    ways = "\n".join(f"    if a == {n}:\n        b = {n}" for n in range(15))
    (package / "one.py").write_text(
        f"def f(a, b):\n    from house import two\n{ways}\n    return two\n"
    )
    wide = ", ".join("abcdefghi")
    body = "\n".join(f"    {n}" for n in range(50))
    (package / "two.py").write_text(
        f'from house import one\n\n\ndef g({wide}):\n    """Says so."""\n    return one\n\n\n'
        f"def h():\n{body}\n" + "\n" * 400
    )
    said = list(over(measure(tmp_path)))
    assert sorted(line.partition(": ")[2] for line in said if "circle" not in line) == [
        "459 lines", "51 lines of code", "9 parameters", "complexity 16",
    ]  # fmt: skip
    assert [line for line in said if "circle" in line] == ["a circle of 2: house.one, house.two"]
    assert undescribed(measure(tmp_path)) == ["house.one:f", "house.two:h"]
