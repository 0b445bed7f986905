"""Records sessions at the demo's stations as pictures that move: `python -m tools.recording STATIONS FOLDER`.

Each is one SVG by itself: no script, nothing fetched, and it stands still where motion is not wanted.
"""

import os
import re
import subprocess
import sys
from collections.abc import Iterator, Sequence
from html import escape
from pathlib import Path
from typing import NamedTuple

WIDE, HIGH = 100, 30
"""A window of so many signs and lines."""
_SIGN, _LINE, _EDGE = 8.0, 17, 16
_TYPED, _READ, _A_LINE = 1.6, 1.8, 0.22
"""Seconds: for what is typed, for an answer, and for each line of it."""
_COLOURS = {"1": "t", "2": "f", "32": "g", "33": "w", "1;31": "b", "36": "n"}
_CODE = re.compile(r"\x1b\[([0-9;]*)m")
SESSIONS: dict[str, tuple[str, ...]] = {
    "disk": (
        "survey --root heron", "findings --root heron --least high",
        "provenance /usr/bin/siltmeter --root heron",
        "timeline --root heron --around /usr/bin/tidegauge --within '1 day'",
        "compare before/heron.snapshot heron --only unexplained",
    ),
    "plan": (
        "behind --root curlew", "whatif --upgrade --root curlew", "because libfathom1 --root curlew",
        "needed-by libbrine2 --root curlew --deep", "whatif --drop libbrine2 --root curlew",
    ),
}  # fmt: skip


class Scene(NamedTuple):
    """What was typed, and the lines that came back."""

    typed: str
    lines: list[str]


def played(session: Sequence[str], stations: Path) -> list[Scene]:
    """A session, asked anew. What is longer than the window says by how much."""
    told = {**os.environ, "COLUMNS": str(WIDE), "LC_ALL": "C.UTF-8"}
    told.pop("NO_COLOR", None)
    scenes = []
    for words in session:
        program = f"{sys.executable} -m filigree {words} --format table --color always --no-pager"
        done = subprocess.run(
            program, shell=True, cwd=stations, env=told, capture_output=True, text=True, check=False
        )
        # A disk that came in is mounted somewhere; where it was made is of no interest.
        lines = done.stdout.replace(str(stations), "/mnt").rstrip("\n").split("\n")
        room = HIGH - 3
        if len(lines) > room:
            lines = [
                *lines[: room - 1],
                f"\x1b[2m… and {len(lines) - room + 1:,} lines more\x1b[0m",
            ]
        scenes.append(
            Scene(f"filigree {words}", [*lines, f"\x1b[2m(exit status {done.returncode})\x1b[0m"])
        )
    return scenes


def recorded(scenes: Sequence[Scene]) -> str:
    """Scenes as a picture that moves, and begins anew at its end."""
    lasts = [_TYPED + _READ + _A_LINE * len(scene.lines) for scene in scenes]
    whole = sum(lasts)
    wide, high = WIDE * _SIGN + 2 * _EDGE, HIGH * _LINE + 2 * _EDGE
    styles: list[str] = []
    groups: list[str] = []
    at = 0.0
    for number, (scene, length) in enumerate(zip(scenes, lasts, strict=True)):
        first, typed, last = (100 * one / whole for one in (at, at + _TYPED, at + length))
        at += length
        styles += _frames(number, first, typed, last, len(scene.typed))
        groups += _group(number, scene)
    return "\n".join([
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {wide:g} {high}" role="img" '
        f'aria-label="A session: {escape("; ".join(one.typed for one in scenes))}">',
        "<style>",
        "text{font:13px ui-monospace,Menlo,Consolas,monospace;fill:#d7dee4;white-space:pre}",
        ".t{font-weight:700}.f{fill:#8b98a3}.g{fill:#8fd19e}.w{fill:#e8cf6f}.b{fill:#ff9d94;font-weight:700}"
        ".n{fill:#7cc4ec}.p{fill:#8fd19e;font-weight:700}",
        f".s,.o,.c{{animation-duration:{whole:.2f}s;animation-iteration-count:infinite;"
        "animation-timing-function:step-end}",
        *styles,
        "@media (prefers-reduced-motion:reduce){.s,.o,.c{animation:none}.s,.c{visibility:hidden}"
        ".s0{visibility:visible}}",
        "</style>",
        f'<rect width="{wide:g}" height="{high}" rx="8" fill="#12181d"/>',
            f'<clipPath id="window"><rect width="{wide - _EDGE:g}" height="{high}"/></clipPath>',
        *groups,
        "</svg>", "",
    ])  # fmt: skip


def _frames(number: int, first: float, typed: float, last: float, signs: int) -> Iterator[str]:
    def shown(name: str, start: float) -> str:
        before = f"0%{{visibility:hidden}}{start:.3f}%" if start else "0%"
        after = f"{last:.3f}%{{visibility:hidden}}" if last < 99.999 else ""
        return f"@keyframes {name}{{{before}{{visibility:visible}}{after}}}"

    yield shown(f"s{number}", first)
    yield shown(f"o{number}", typed)
    steps = "".join(
        f"{first + (typed - first) * 0.8 * n / signs:.3f}%{{transform:translateX({n * _SIGN:g}px)}}"
        for n in range(signs + 1)
    )
    yield f"@keyframes c{number}{{0%{{transform:translateX(0)}}{steps}}}"
    yield "".join(f".{kind}{number}{{animation-name:{kind}{number}}}" for kind in "soc")


def _group(number: int, scene: Scene) -> Iterator[str]:
    top = _EDGE + 12
    yield f'<g class="s s{number}" clip-path="url(#window)">'
    yield f'<text x="{_EDGE}" y="{top}"><tspan class="p">$ </tspan>{escape(scene.typed)}</text>'
    # What is not typed yet is covered.
    width = (len(scene.typed) + 1) * _SIGN
    yield (
        f'<rect class="c c{number}" x="{_EDGE + 2 * _SIGN:g}" y="{top - 13}" width="{width:g}" '
        'height="18" fill="#12181d"/>'
    )
    yield f'<g class="o o{number}">'
    for row, line in enumerate(scene.lines, start=2):
        text = "".join(_pieces(line))
        if text:
            yield f'<text x="{_EDGE}" y="{top + row * _LINE}" xml:space="preserve">{text}</text>'
    yield "</g>"
    yield "</g>"


def _pieces(line: str) -> Iterator[str]:
    """A line of a terminal, with its colours as classes."""
    kind = None
    for place, part in enumerate(_CODE.split(line)):
        if place % 2:
            kind = _COLOURS.get(part)
        elif part:
            yield f'<tspan class="{kind}">{escape(part)}</tspan>' if kind else escape(part)


def main() -> None:
    """Record every session."""
    stations, folder = map(Path, sys.argv[1:])
    folder.mkdir(parents=True, exist_ok=True)
    for name, session in SESSIONS.items():
        (folder / f"{name}.svg").write_text(recorded(played(session, stations.resolve())))


if __name__ == "__main__":
    main()
