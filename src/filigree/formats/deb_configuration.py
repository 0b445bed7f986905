"""The configuration of the package manager of a `deb` system: settings in scopes.

    setting = name value ";" | name "{" *setting "}" [";"]          name = word *("::" word)

As the manual page apt.conf(5) describes it. Remarks are `//` or `#` to the end of the line, and what
stands between `/*` and `*/`.
"""

import re

from filigree.formats.damage import text_of

_TOKEN = re.compile(
    r"(?P<remark>//[^\n]*|#[^\n]*|/\*.*?(?:\*/|\Z))|\"(?P<quoted>[^\"]*)\"|(?P<sign>[{};])"
    r"|(?P<word>[^\s{};\"]+)",
    re.DOTALL,
)
DEPTH_LIMIT = 64


def read_configuration(data: bytes) -> dict[str, str]:
    """The last value of each setting, by its whole name in small letters."""
    found: dict[str, str] = {}
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
            if len(words) > 1:
                found["::".join([*filter(None, scopes), words[0].lower()])] = words[1]
            words = []
            if sign == "}" and scopes:
                scopes.pop()
        else:
            words.append(match["quoted"] if match["quoted"] is not None else match["word"])
    return found
