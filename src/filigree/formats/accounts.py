"""User and group files of a root: colon-separated, name first, number third (passwd(5), group(5))."""

from filigree.formats.damage import text_of


def read_accounts(data: bytes) -> dict[int, str]:
    """Names by number; the first name of a number counts. Lines that do not parse are passed over."""
    names: dict[int, str] = {}
    for line in text_of(data).split("\n"):
        parts = line.split(":")
        if len(parts) > 2 and parts[2].isascii() and parts[2].isdigit() and len(parts[2]) < 11:
            names.setdefault(int(parts[2]), parts[0])
    return names
