"""The configuration of the package manager of a `deb` system: settings in scopes.

    setting = name value ";" | name "{" *(setting | value ";") "}" [";"]     name = word *("::" word)

As the manual page apt.conf(5) describes it. Remarks are `//` or `#` to the end of the line, and what
stands between `/*` and `*/`.
"""

import re
from collections.abc import Iterator

from filigree.formats.damage import text_of

_TOKEN = re.compile(
    r"(?P<remark>//[^\n]*|#[^\n]*|/\*.*?(?:\*/|\Z))|\"(?P<quoted>[^\"]*)\"|(?P<sign>[{};])"
    r"|(?P<word>[^\s{};\"]+)",
    re.DOTALL,
)
DEPTH_LIMIT = 64


def read_configuration(data: bytes) -> dict[str, str]:
    """The last value of each setting, by its whole name in small letters."""
    return {
        "::".join([*scopes, words[0].lower()]): words[1]
        for scopes, words in _statements(data)
        if len(words) > 1 and not words[0].endswith("::")
    }


def read_lists(data: bytes) -> dict[str, list[str]]:
    """The values of each list, by its whole name in small letters: in braces, or added with `::`."""
    found: dict[str, list[str]] = {}
    for scopes, words in _statements(data):
        if len(words) == 1 and scopes:
            found.setdefault("::".join(scopes), []).append(words[0])
        elif len(words) > 1 and words[0].endswith("::"):
            name = "::".join([*scopes, words[0].lower().removesuffix("::")])
            found.setdefault(name, []).append(words[1])
    return found


def _statements(data: bytes) -> Iterator[tuple[list[str], list[str]]]:
    """The words of each statement, below the names of the scopes that it stands in."""
    scopes: list[str] = []
    words: list[str] = []
    for match in _TOKEN.finditer(text_of(data)):
        if match["remark"] is not None:
            continue
        sign = match["sign"]
        if sign == "{":
            scopes.append(words[0].lower() if words else "")
            if len(scopes) > DEPTH_LIMIT:
                break
            words = []
        elif sign:
            if words:
                yield [scope for scope in scopes if scope], words
            words = []
            if sign == "}" and scopes:
                scopes.pop()
        else:
            words.append(match["quoted"] if match["quoted"] is not None else match["word"])
