"""Draws the rooms of the house from the code's own imports, as text.

python tools/rooms.py            prints the picture that stands in docs/architecture.md
python tools/rooms.py --write    puts it there
"""

import sys
from pathlib import Path

from tools.structure import measure

PAGE = Path(__file__).parents[1] / "docs/architecture.md"
BEGIN, END = "<!-- rooms: made by tools/rooms.py -->", "<!-- end of rooms -->"
LAYERS = (
    "cli", "demo", "views", "fleet", "questions.rules", "questions.running", "questions.timeline",
    "questions.comparing", "questions.keeping", "questions.commands", "questions.verifying", "questions.planning",
    "questions.evidence", "questions.dependencies", "questions.asking", "questions.finding",
    "questions.offers", "system", "paths", "families", "access", "formats", "model",
)  # fmt: skip
"""From the top: each asks only those below it."""


def room_of(module: str) -> str | None:
    """The room that a module is in; None for the top itself."""
    name = module.removeprefix("filigree.")
    return next((room for room in LAYERS if name == room or name.startswith(f"{room}.")), None)


def picture() -> str:
    """A line a room: how large it is, and which rooms it asks."""
    found = measure()
    asks: dict[str, set[str]] = {room: set() for room in LAYERS}
    files = dict.fromkeys(LAYERS, 0)
    for path in found.files:
        room = room_of(path.removesuffix(".py").removesuffix("/__init__").replace("/", "."))
        if room is not None:
            files[room] += 1
    for module, others in found.imports.items():
        room = room_of(module)
        if room is not None:
            asks[room] |= {other for one in others if (other := room_of(one)) not in (None, room)}
    rows = []
    for room in LAYERS:
        asked = ", ".join(_short(one) for one in LAYERS if one in asks[room])
        rows.append(f"{_short(room):<13}{files[room]:>4} files   asks {asked or 'nobody'}")
    return "\n".join(["```", *rows, "```"])


def _short(room: str) -> str:
    return room.removeprefix("questions.")


def page_with(drawn: str) -> str:
    """The page with a picture in its place."""
    front, _, rest = PAGE.read_text().partition(BEGIN)
    _, _, back = rest.partition(END)
    return f"{front}{BEGIN}\n{drawn}\n{END}{back}"


if __name__ == "__main__":
    if "--write" in sys.argv[1:]:
        PAGE.write_text(page_with(picture()))
    else:
        print(picture())
