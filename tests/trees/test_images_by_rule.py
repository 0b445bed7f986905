"""Layers against a second implementation: the published rule, as plain as it stands there."""

import random
import shutil
from pathlib import Path
from typing import NamedTuple

from hypothesis import given
from hypothesis import strategies as st

from filigree.access.roots import RecordsOfFamilies, open_root
from filigree.access.trees.protocol import Tree
from filigree.model.files import Kind
from tests.conftest import LONG
from tests.trees.images import Entry, file, folder, hidden, layer_of, layout, link, opaque


class Node(NamedTuple):
    """What stands at a path: bytes of a file, text of a link, None for a directory."""

    what: bytes | str | None
    mode: int


State = dict[str, Node]
PLACES = ["a", "b", "a/a", "a/b", "b/a", "b/b", "a/a/a", "a/a/b", "b/a/a"]


def _above(path: str) -> list[str]:
    parts = path.split("/")[:-1]
    return ["/".join(parts[: n + 1]) for n in range(len(parts))]


def _without(state: State, path: str, itself: bool = True) -> None:
    for one in [one for one in state if one.startswith(f"{path}/") or (itself and one == path)]:
        del state[one]


def applied(below: State, members: list[Entry]) -> State:
    """A layer over what is below. Whiteouts first, in whatever order they come; then what it brings."""
    state = dict(below)
    for one in members:
        parent, _, name = one.path.rpartition("/")
        if name == ".wh..wh..opq":
            _without(state, parent, itself=False)
        elif name.startswith(".wh."):
            _without(state, f"{parent}/{name[4:]}".lstrip("/"))
    for one in members:
        if one.path.rpartition("/")[2].startswith(".wh."):
            continue
        what = one.target if one.target is not None else one.content
        if what is not None:
            _without(state, one.path)
        for up in _above(one.path):
            if up not in state or state[up].what is not None:
                state[up] = Node(None, 0o755)
        state[one.path] = Node(what, one.mode)
    return state


def made(chance: random.Random) -> list[Entry]:
    """The members of one layer, in any order that has directories before what lies in them."""
    taken: dict[str, Entry] = {}
    for path in chance.sample(PLACES, chance.randint(1, 6)):
        if any(up in taken and taken[up].content is not None for up in _above(path)):
            continue
        if any(other.startswith(f"{path}/") for other in taken) or chance.random() < 0.35:
            taken[path] = folder(path, chance.choice([0o755, 0o700]))
        elif chance.random() < 0.2 and not any(path in _above(one) for one in PLACES):
            taken[path] = link(path, "elsewhere")
        else:
            taken[path] = file(path, chance.randbytes(3), chance.choice([0o644, 0o755]))
    for path in list(taken):  # a directory in the place of a file is told as one
        for up in _above(path):
            taken.setdefault(up, folder(up))
    brought = [taken[path] for path in sorted(taken)]
    marks = [hidden(path) for path in PLACES if chance.random() < 0.12]
    marks += [opaque(path) for path in ("a", "b", "a/a") if chance.random() < 0.12]
    at = chance.randrange(len(brought) + 1)
    return [*brought[:at], *marks, *brought[at:]]


def seen(tree: Tree) -> State:
    found: State = {}
    for one in tree.walk("/"):
        assert hasattr(one, "path"), one
        path, kind = one.path, one.kind  # type: ignore[union-attr]
        what = tree.read(path) if kind is Kind.FILE else one.link_target  # type: ignore[union-attr]
        found[path.lstrip("/")] = Node(what, one.mode)  # type: ignore[union-attr]
    return found


@given(st.integers(0, (1 << 40) - 1))
def test_layers_come_to_what_the_rule_says(tmp_path_factory: object, seed: int) -> None:
    chance = random.Random(seed)
    layers = [made(chance) for _ in range(chance.randint(2, 4))]
    states: list[State] = [{}]
    for one in layers:
        states.append(applied(states[-1], one))
    top = Path(tmp_path_factory.mktemp("rule"))  # type: ignore[attr-defined]
    tree = open_root(
        str(layout(top / "image", [layer_of(one) for one in layers], "plain")),
        lambda: RecordsOfFamilies(()),
    )
    try:
        assert list(tree.troubles) == []
        assert seen(tree) == states[-1]
        assert tree.layered is not None
        for step, below, here in zip(tree.layered.steps(), states, states[1:], strict=False):
            changed = {}
            for change in step.changes:
                changed[change.path.lstrip("/")] = change
            assert seen(step.tree) == here
            for path in {*below, *here}:
                old, new = below.get(path), here.get(path)
                if old == new:
                    continue
                assert path in changed, path
                before, after = changed[path].before, changed[path].after
                assert (before is None) is (old is None)
                assert (after is None) is (new is None)
                assert before is None or old is None or before.mode == old.mode
            for path, change in changed.items():
                assert (change.before is None) is (path not in below and path != "")
    finally:
        tree.close()
        shutil.rmtree(top)


def test_many_are_drawn() -> None:
    """Layers that hide, replace and alter are among those that chance makes."""
    drawn = [made(random.Random(seed)) for seed in range(2000 if LONG else 200)]
    names = [one.path.rpartition("/")[2] for members in drawn for one in members]
    assert sum(name == ".wh..wh..opq" for name in names) > 20
    assert sum(name.startswith(".wh.") for name in names) > 100
