"""Expressions that stand in files of a system: globs and regular expressions, matched in linear time.

    glob  = *( "*" | "?" | "[" ["!"] set "]" | sign )        the signs of a set may be ranges

Whoever wrote them may mean to keep us busy for ever, so there is one place that matches them all: by an
engine whose time grows with the text, and not with what could be tried. What it cannot express is
refused, with the reason; so is what is longer than makes sense. Many are asked together, at the cost of
a few.
"""

from collections.abc import Callable, Iterable
from functools import cached_property, lru_cache
from time import perf_counter
from typing import Any

LONGEST = 1024
"""Signs of one expression."""
MOST, MOST_SIGNS = 2000, 64 << 10
"""Expressions that are asked together, and signs of all of them."""
SECONDS = 5.0
"""So long all that is asked of one set may take."""
_MEMORY, _LEAST = 8 << 20, 256 << 10
"""What the engine may take for all of a set, and for a part of it."""
_META = frozenset("*?[")
_SPECIAL = frozenset(r"\.+*?()|[]{}^$")


class PatternError(ValueError):
    """An expression that is not matched, and why."""


class Pattern:
    """One expression. `plain` is the text that alone it matches, None where it is more than a text."""

    def __init__(self, written: str, expression: str, plain: str | None = None) -> None:
        self.written = written
        self.expression = expression
        self.plain = plain

    @cached_property
    def _compiled(self) -> Any:
        return _compile(self.expression)

    def matches(self, text: str) -> bool:
        """Whether it matches a text as a whole."""
        if self.plain is not None:
            return text == self.plain
        return self._compiled.fullmatch(_plainly(text)) is not None

    def is_in(self, text: str) -> bool:
        """Whether it matches anywhere in a text."""
        return self._compiled.search(_plainly(text)) is not None


@lru_cache(maxsize=4096)
def glob(text: str, parts: bool = False) -> Pattern:
    """A glob; with `parts` its signs stop at a slash. Raises PatternError."""
    _not_too_long(text)
    if not _META & set(text):
        return Pattern(text, "".join(map(_literal, text)), text)
    return Pattern(text, _translated(text, "[^/]" if parts else "."))


@lru_cache(maxsize=4096)
def expression(text: str) -> Pattern:
    """A regular expression. Raises PatternError where it does not parse, or needs more than one look."""
    _not_too_long(text)
    found = Pattern(text, _plainly(text))
    _ = found._compiled
    return found


class Patterns:
    """Several expressions in their order, asked together: which is the last that matches a text.

    Raises PatternError where there are too many, and, when asked, once all of it took too long.
    """

    def __init__(self, patterns: Iterable[Pattern], anywhere: bool = False) -> None:
        self._every = list(patterns)
        self._anywhere = anywhere
        self._spent = 0.0
        self._plain: dict[str, int] = {}
        self._others: list[tuple[int, Pattern]] = []
        for number, one in enumerate(self._every):
            if one.plain is not None and not anywhere:
                self._plain[one.plain] = number
            else:
                self._others.append((number, one))
        signs = sum(len(one.expression) for _, one in self._others)
        if len(self._others) > MOST or signs > MOST_SIGNS:
            raise PatternError(
                f"{len(self._others):,} expressions of {signs:,} signs are more than are matched"
            )
        self._groups: dict[tuple[int, int], Any] = {}

    def __len__(self) -> int:
        return len(self._every)

    def last(self, text: str) -> int | None:
        """The number of the last expression that matches; None where none does."""
        plain = self._plain.get(text)
        if not self._others:
            return plain
        self._in_time()
        started = perf_counter()
        found = self._among(0, len(self._others), _plainly(text))
        self._spent += perf_counter() - started
        other = None if found is None else self._others[found][0]
        return max((one for one in (plain, other) if one is not None), default=None)

    def any(self, text: str) -> bool:
        """Whether any expression matches."""
        return self.last(text) is not None

    def every(self, text: str) -> list[int]:
        """The numbers of all that match, in their order."""
        plain = self._plain.get(text)
        found = [] if plain is None else [plain]
        if self._others:
            self._in_time()
            started = perf_counter()
            plainly = _plainly(text)
            parts = [(0, len(self._others))]
            while parts:
                start, end = parts.pop()
                if not self._matches(start, end, plainly):
                    continue
                if end - start == 1:
                    found.append(self._others[start][0])
                else:
                    middle = (start + end) // 2
                    parts += [(start, middle), (middle, end)]
            self._spent += perf_counter() - started
        return sorted(found)

    def _in_time(self) -> None:
        if self._spent > SECONDS:
            raise PatternError(f"to match them took more than {SECONDS:.0f} seconds")

    def _among(self, start: int, end: int, text: str) -> int | None:
        """The last that matches of a part: by halves, each asked as one expression."""
        if not self._matches(start, end, text):
            return None
        while end - start > 1:
            middle = (start + end) // 2
            if self._matches(middle, end, text):
                start = middle
            else:
                end = middle
        return start

    def _matches(self, start: int, end: int, text: str) -> bool:
        compiled = self._groups.get((start, end))
        if compiled is None:
            parts = (f"(?:{one.expression})" for _, one in self._others[start:end])
            memory = max(_LEAST, _MEMORY * (end - start) // len(self._others))
            compiled = self._groups[start, end] = _compile("|".join(parts), memory)
        ask = compiled.search if self._anywhere else compiled.fullmatch
        return ask(text) is not None


def sound(
    texts: Iterable[str], make: Callable[[str], Pattern], refuse: Callable[[str, str], object]
) -> list[Pattern]:
    """The patterns of texts; each that is not matched goes to `refuse`, with the reason."""
    found = []
    for text in texts:
        try:
            found.append(make(text))
        except PatternError as error:
            refuse(text, str(error))
    return found


def _not_too_long(text: str) -> None:
    if len(text) > LONGEST:
        raise PatternError(
            f"it is of {len(text):,} signs, and more than {LONGEST:,} are not matched"
        )


def _compile(text: str, memory: int = _MEMORY) -> Any:
    import re2

    options = re2.Options()
    options.log_errors = False
    options.dot_nl = True
    options.never_capture = True
    options.max_mem = memory
    try:
        return re2.compile(text, options)
    except (re2.error, UnicodeEncodeError) as error:
        why = error.args[0] if error.args else error
        told = why.decode("utf-8", "replace") if isinstance(why, bytes) else str(why)
        raise PatternError(
            f"it does not parse, or cannot be matched in one look: {told[:80]}"
        ) from error


def _plainly(text: str) -> str:
    """A text without lone surrogates, which stand for bytes that are no text: others stand for them."""
    try:
        text.encode()
    except UnicodeEncodeError:
        return "".join(
            chr(ord(sign) + 0x102000) if 0xDC80 <= ord(sign) <= 0xDCFF else sign for sign in text
        )
    return text


def _literal(sign: str) -> str:
    return f"\\{sign}" if sign in _SPECIAL else sign


_TURNING = ("!", "^")
"""What turns a set into all that is not in it: the first by the standard, the second as the systems' own
matching of names (fnmatch(3)) takes it, too."""


def _translated(text: str, sign_of: str) -> str:
    """A glob as a regular expression, in one look from its start to its end."""
    text = _plainly(text)
    closing = text.rfind("]")
    out: list[str] = []
    at = 0
    while at < len(text):
        sign = text[at]
        at += 1
        if sign == "*":
            if out[-1:] != [f"{sign_of}*"]:
                out.append(f"{sign_of}*")
        elif sign == "?":
            out.append(sign_of)
        elif sign == "[" and at < closing:
            end = text.find("]", at + 1 + (text[at] in _TURNING))
            if end < 0:
                out.append(_literal(sign))
                continue
            out.append(_class(text[at:end], sign_of))
            at = end + 1
        else:
            out.append(_literal(sign))
    return "".join(out)


def _class(inside: str, sign_of: str) -> str:
    """The set of a glob; a range that goes backwards holds nothing."""
    turned = inside[:1] in _TURNING
    inside = inside[turned:]
    parts: list[str] = []
    at = 0
    while at < len(inside):
        if inside[at + 1 : at + 2] == "-" and at + 2 < len(inside):
            first, last = inside[at], inside[at + 2]
            if first <= last:
                parts.append(f"{_in_class(first)}-{_in_class(last)}")
            at += 3
        else:
            parts.append(_in_class(inside[at]))
            at += 1
    if not parts:
        return sign_of if turned else r"[^\x00-\x{10FFFF}]"
    return f"[{'^' if turned else ''}{''.join(parts)}]"


def _in_class(sign: str) -> str:
    return f"\\{sign}" if sign in r"\[]^-&~|" else sign
