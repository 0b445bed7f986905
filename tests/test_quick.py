"""Records that are made faster are what records are: whole, closed, equal, copied and sent as others."""

import copy
import pickle
from dataclasses import FrozenInstanceError, dataclass, field, fields, replace
from typing import Any

import pytest

from filigree.model.package import Package
from filigree.model.quick import quickly_made
from filigree.questions.asking.package_rows import PackageRow
from filigree.questions.commands.needs import NeedRow


@quickly_made
@dataclass(frozen=True, slots=True)
class Sounding:
    """A depth, as it was taken."""

    place: str
    depth: float = 0.5
    marks: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Plain:
    """The same, as the standard library makes it."""

    place: str
    depth: float = 0.5
    marks: list[str] = field(default_factory=list)


@pytest.mark.parametrize(
    ("given", "named"),
    [(("bar",), {}), (("bar", 2.0), {}), ((), {"place": "bar"}), (("bar",), {"marks": ["a"]})],
)
def test_it_holds_what_a_plain_one_holds(given: Any, named: Any) -> None:
    one, other = Sounding(*given, **named), Plain(*given, **named)
    assert [getattr(one, f.name) for f in fields(one)] == [
        getattr(other, f.name) for f in fields(other)
    ]
    assert repr(one) == repr(other).replace("Plain", "Sounding")
    assert type(one) is Sounding
    assert one == Sounding(*given, **named)


def test_what_is_made_for_one_is_its_own() -> None:
    assert Sounding("a").marks is not Sounding("b").marks


@pytest.mark.parametrize(
    ("given", "named"), [((), {}), (("a", 1, [], 3), {}), (("a",), {"fathom": 1})]
)
def test_what_does_not_fit_is_refused(given: Any, named: Any) -> None:
    for kind in (Sounding, Plain):
        with pytest.raises(TypeError):
            kind(*given, **named)


@pytest.mark.parametrize("kind", [Sounding, Package, PackageRow, NeedRow])
def test_it_is_closed_once_it_is_made(kind: Any) -> None:
    names = [one.name for one in fields(kind)]
    made = kind(**{name: name for name in names})
    assert [getattr(made, name) for name in names] == names
    for name in names:
        with pytest.raises(FrozenInstanceError):
            setattr(made, name, "other")
        with pytest.raises(FrozenInstanceError):
            delattr(made, name)
    with pytest.raises((AttributeError, TypeError)):
        made.another = 1
    changed = replace(made, **{names[0]: "new"})
    assert type(changed) is kind
    assert getattr(changed, names[0]) == "new"
    for again in (copy.copy(made), copy.deepcopy(made), pickle.loads(pickle.dumps(made))):
        assert type(again) is kind
        assert [getattr(again, name) for name in names] == names


def test_only_plain_frozen_records_are_taken() -> None:
    @dataclass(slots=True)
    class Open:
        depth: int

    @dataclass(frozen=True, slots=True)
    class Checked:
        depth: int

        def __post_init__(self) -> None:
            assert self.depth

    for kind in (Open, Checked):
        with pytest.raises(TypeError):
            quickly_made(kind)
