"""The table of every sentence that the stations' answers tell: by station and command, a row each.

`tests/data/sentences.txt` was read row by row against what was laid down at the stations. Where an answer
is meant to say something else its row is changed by hand.
"""

import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

TABLE = Path(__file__).parents[1] / "data/sentences.txt"
_WORDS = re.compile(r"[a-z].* .* ")
_NOT_OURS = frozenset({
    "description", "fields", "other_fields", "homepage", "maintainer", "vendor", "label", "license",
    "identity", "requirement", "made_by", "command", "needs", "provides", "title", "changes",
    "advisories",
})  # fmt: skip
"""What holds words of packages, and not ours."""
_DATE = re.compile(r"\d{4}-\d\d-\d\d(?: \d\d:\d\d)?(?:T[\d:]+Z)?")
_HEX = re.compile(r"[0-9a-f]{32,}|(?<=\.)[0-9a-f]{8}(?=\.(?:apk|tar))")


def sentences_of(answer: Any, places: Mapping[str, str], notes: str) -> list[str]:
    """Every sentence of an answer's JSON, and of the notes beside it, each once, in order.

    Dates, digests, and the `places` where things lie for this once, are left out.
    """
    told = [*_texts(answer["records"]), *_texts(answer["summary"]), *_texts(answer["gaps"])]
    told += notes.splitlines()
    found: dict[str, None] = {}
    for text in told:
        if not _WORDS.search(text):
            continue
        for place, name in places.items():
            text = text.replace(place, name)
        found[_HEX.sub("HEX", _DATE.sub("DATE", text)).strip()] = None
    return list(found)


def _texts(value: Any, key: str = "") -> Iterator[str]:
    if isinstance(value, dict):
        for name, inner in value.items():
            if name not in _NOT_OURS and not (name == "summary" and isinstance(inner, str)):
                yield from _texts(inner, name)
    elif isinstance(value, list):
        for inner in value:
            yield from _texts(inner, key)
    elif isinstance(value, str):
        yield value


def expected() -> dict[tuple[str, str], list[str]]:
    """The table, by station and command."""
    found: dict[tuple[str, str], list[str]] = {}
    for line in TABLE.read_text().splitlines():
        station, command, sentence = line.split("\t")
        found.setdefault((station, command), []).append(sentence)
    return found
