"""Files of sections, as several families configure repositories: `[identity]`, then `name = value`.

A line that starts with a space goes on with the value above; `#` and `;` start a remark. As the manual
page of the format's readers describes it.
"""

from typing import NamedTuple

from filigree.formats.damage import Damage, text_of


class Section(NamedTuple):
    """One section: its name, its values by name in small letters, and the line where it starts."""

    name: str
    values: dict[str, str]
    line: int


def read_sections(data: bytes) -> tuple[list[Section], list[Damage]]:
    """The sections of a file. Of a name given twice the last value counts."""
    found: list[Section] = []
    damages: list[Damage] = []
    last = ""
    for number, text in enumerate(text_of(data).split("\n"), 1):
        if not text.strip() or text.lstrip()[0] in "#;":
            continue
        if text.startswith("[") and text.rstrip().endswith("]"):
            found.append(Section(text.strip()[1:-1].strip(), {}, number))
            last = ""
        elif text[0].isspace() and last and found:
            found[-1].values[last] += f"\n{text.strip()}"
        elif "=" in text and found:
            name, _, value = text.partition("=")
            last = name.strip().lower()
            found[-1].values[last] = value.strip()
        else:
            damages.append(Damage(number, "a line that is no section and no value"))
    return found, damages
