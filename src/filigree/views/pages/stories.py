"""The story of a finding on a page: what it is made of, what differs, why it matters, and how somebody
checks it again with programs that every system has."""

import shlex
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from filigree.model.answer import iso
from filigree.model.files import Aspect, Difference, Evidence
from filigree.model.findings import Finding, RuleFacts
from filigree.questions.reporting.audit import Audit, identity_of
from filigree.questions.reporting.by_hand import MOST, ByHand, JudgedPath
from filigree.views.handover.sarif import fingerprint
from filigree.views.text import escaped

_NOTHING = "nothing"
_DIGESTS = {
    "md5": "md5sum", "sha1": "sha1sum", "sha224": "sha224sum", "sha256": "sha256sum",
    "sha384": "sha384sum", "sha512": "sha512sum", "blake2b": "b2sum",
}  # fmt: skip
_TOOLS = {
    Aspect.PRESENCE: "ls -ld", Aspect.SIZE: "stat -c %s", Aspect.KIND: "stat -c %F",
    Aspect.MODE: "stat -c %04a", Aspect.OWNER: "stat -c '%U %u'", Aspect.GROUP: "stat -c '%G %g'",
    Aspect.LINK_TARGET: "readlink", Aspect.DEVICE: "stat -c '%t %T'", Aspect.MODIFIED: "stat -c %y",
    Aspect.CAPABILITIES: "getcap",
}  # fmt: skip


class HandCheck(NamedTuple):
    """One thing that differs: of which path, in what, what was expected and found; the command that tells
    it again (None where no general program does), and who told what was expected."""

    path: str
    aspect: str
    expected: str
    found: str
    command: str | None
    told_by: str


def story(one: Finding, audit: Audit, rules: Mapping[str, RuleFacts]) -> dict[str, Any]:
    """A finding, as the page tells it: every text escaped."""
    facts = rules.get(one.rule)
    return {
        "id": fingerprint(one)[:12],
        "rule": escaped(one.rule), "severity": one.severity.value,
        "title": escaped(one.title), "package": one.package and escaped(one.package),
        "things": [
            escaped(told) for told in (*one.paths, *one.subjects, *one.packages) if told != one.package
        ],
        "cause": one.cause and escaped(one.cause), "evidence": one.evidence and one.evidence.value,
        "since": one.since and iso(one.since), "advice": escaped(one.advice),
        "explained": one.explained_by and escaped(one.explained_by),
        "why": facts and escaped(facts.why), "mistaken": facts and escaped(facts.mistaken),
        "checks": list(checks(one, audit.by_hand)), "unchecked": max(0, len(one.paths) - MOST),
        "waived": [escaped(told) for told in one.waived_by],
        "is_new": audit.earlier is not None and identity_of(one) in audit.earlier.new,
    }  # fmt: skip


def checks(one: Finding, told: ByHand) -> Iterator[HandCheck]:
    """What differs of the first paths of a finding, each with the way to see it again."""
    for path in one.paths[:MOST]:
        for judged in told.paths.get(path, []):
            if one.package in (None, judged.verdict.package):
                yield from _of_path(judged, told.directory)


def _of_path(judged: JudgedPath, directory: str | None) -> Iterator[HandCheck]:
    where = shell_word((directory or ".").rstrip("/") + judged.lies_at)
    for one in judged.verdict.differences:
        yield HandCheck(
            escaped(judged.verdict.path), one.aspect.value, _told(one.expected), _told(one.found),
            _command(one, where), _told_by(judged, one),
        )  # fmt: skip


def _command(one: Difference, where: str) -> str | None:
    """What tells it again, of the file at a place that is one word of a shell."""
    digests = _DIGESTS.get((one.expected or "").partition(":")[0])
    if one.aspect is Aspect.CONTENT:
        return None if digests is None else f"{digests} {where}"
    tool = _TOOLS.get(one.aspect)
    if tool is None:
        return None
    if one.aspect is Aspect.LINK_TARGET and digests is not None:
        # On record is the digest of the text that it leads by.
        return f"{tool} {where}; {tool} -n {where} | {digests}"
    return f"{tool} {where}"


def _told(value: str | None) -> str:
    return _NOTHING if value is None else escaped(value)


def _told_by(judged: JudgedPath, one: Difference) -> str:
    if one.aspect is Aspect.RECORD and judged.verdict.evidence is Evidence.RECORD:
        return "what is kept with the record, to tell whether it was changed"
    if judged.verdict.evidence is not Evidence.RECORD:
        return "the package’s archive: provenance tells which, and what vouches for it"
    if judged.recorded_in is None:
        return "the system’s own record"
    return f"the system’s own record, where {escaped(judged.recorded_in)} is"


def difference(one: Difference) -> str:
    """A difference in a line."""
    return f"{one.aspect.value}: {_told(one.expected)} expected, {_told(one.found)} found"


def shell_word(path: str) -> str:
    r"""A path as a shell takes it: one word, whatever is in it, of signs that can be read.

    >>> shell_word("/usr/bin/tide gauge"), shell_word("/tmp/\x1b\udcff'")
    ("'/usr/bin/tide gauge'", "$'/tmp/\\x1b\\xff\\x27'")
    """
    if path.isprintable():
        return shlex.quote(path)
    return f"$'{''.join(_byte(one) for one in path.encode('utf-8', 'surrogateescape'))}'"


def _byte(one: int) -> str:
    plain = 0x20 <= one < 0x7F and one not in b"'\\"
    return chr(one) if plain else f"\\x{one:02x}"
