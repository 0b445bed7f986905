"""The label of a system: `os-release`, shell-like assignments (freedesktop.org specification)."""

import shlex

from filigree.formats.damage import text_of


def read_os_release(data: bytes) -> dict[str, str]:
    """The assignments by name. Lines that do not parse are passed over, as the format asks."""
    found: dict[str, str] = {}
    for line in text_of(data).split("\n"):
        name, equals, value = line.strip().partition("=")
        if not equals or name.startswith("#"):
            continue
        try:
            found[name] = "".join(shlex.split(value))
        except ValueError:
            continue
    return found
