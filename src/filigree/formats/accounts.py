"""User and group files of a root: colon-separated, name first, number third (passwd(5), group(5))."""

from typing import NamedTuple

from filigree.formats.damage import text_of


class Accounts(NamedTuple):
    """Names by number and numbers by name; the first line counts, in both."""

    names: dict[int, str]
    numbers: dict[str, int]

    def name(self, number: int) -> str:
        """The name of a number; the number itself where none has it."""
        return self.names.get(number, str(number))

    def knows(self, number: int) -> bool:
        """Whether any name has a number."""
        return number in self.names

    def number(self, name: str) -> int | None:
        """The number of a name, or of `#number`; None where nobody is called so."""
        if name.startswith("#") and name[1:].isdecimal() and len(name) < 12:
            return int(name[1:])
        return self.numbers.get(name)


def read_accounts(data: bytes) -> Accounts:
    """Users or groups. Lines that do not parse are passed over."""
    found = Accounts({}, {})
    for line in text_of(data).split("\n"):
        parts = line.split(":")
        if len(parts) > 2 and parts[2].isascii() and parts[2].isdigit() and len(parts[2]) < 11:
            number = int(parts[2])
            found.names.setdefault(number, parts[0])
            found.numbers.setdefault(parts[0], number)
    return found
