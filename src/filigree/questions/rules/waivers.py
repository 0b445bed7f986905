"""What an auditor accepted, until it changes.

Rules, before the code that keeps them:

- A waiver accepts what exactly was found then: a file by the digest of its content, its mode and owners,
  a package by its version, a key by its fingerprint. Whatever is otherwise now is not accepted any more.
- A glob accepts a set as a whole, by one digest over all that it matches: one more, one less or another
  one, and the set is not accepted any more.
- A finding is accepted where all that it is made of is. One that is so in part is told, and says so.
- What has run out, what fits nothing, and what would accept anything at all is told.
"""

import fnmatch
import hashlib
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from datetime import datetime

from filigree.formats.office_files import (
    OfficeFileError,
    OfficeSettings,
    Waiver,
    read_settings,
    read_waivers,
)
from filigree.formats.openpgp import judge_detached
from filigree.model.answer import Alarm
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.files import Kind
from filigree.model.findings import Finding
from filigree.model.signatures import SignatureVerdict
from filigree.system import System

SET = "set sha256:"
_GLOB = frozenset("*?[")
_LIMIT = 16 << 20
_EACH = 6
"""Of so many things each is proposed by itself, of more the set."""
_TEMPLATE = "write here why it is accepted"


def exact(system: System, finding: Finding) -> Finding:
    """A finding with what exactly is found of each path now: also what no rule looked at may not
    change."""
    state = {what: told for what, told in finding.state.items() if what not in finding.paths}
    for path in finding.paths:
        told = finding.state.get(path)
        state[path] = "; ".join(filter(None, (told, _found(system, path))))
    return replace(finding, state=state)


def _found(system: System, path: str) -> str:
    try:
        seen = system.tree.observe(path)
        digest = system.tree.observe(path, "sha256").digest if seen.kind is Kind.FILE else None
    except AccessError as error:
        return "absent" if error.absent else "not to be read"
    words = [seen.kind.value, f"mode {seen.mode:04o}", f"owner {seen.uid}:{seen.gid}"]
    if seen.link_target is not None:
        words.append(f"to {seen.link_target}")
    return ", ".join([*words, *([digest] if digest else [])])


def is_glob(what: str) -> bool:
    """Whether a waiver is of a set."""
    return bool(_GLOB & set(what))


def set_digest(items: Iterable[tuple[str, str]]) -> str:
    """One digest over all things of a set and what was found of each, in their order."""
    digest = hashlib.sha256()
    for what, told in sorted(items):
        digest.update(f"{what}\0{told}\n".encode("utf-8", "surrogateescape"))
    return f"{SET}{digest.hexdigest()}"


class Waivers:
    """All that was accepted, and what became of each."""

    def __init__(self, waivers: Sequence[Waiver], now: datetime) -> None:
        self._waivers = waivers
        self._now = now
        self._used: set[int] = set()
        self._lapsed: dict[int, str] = {}

    def judged(self, finding: Finding) -> Finding:
        """A finding with who accepted it, all of it; or with what of it is accepted no more. Its state is
        to be exact."""
        accepted: dict[str, Waiver] = {}
        why: list[str] = []
        for waiver in self._waivers:
            if waiver.rule != finding.rule or waiver.package not in (None, finding.package):
                continue
            items = {
                what: told for what, told in finding.state.items() if _speaks_of(waiver, what)
            }  # fmt: skip
            if not items:
                continue
            self._used.add(waiver.number)
            if waiver.until is not None and waiver.until < self._now:
                why.append(f"what {waiver.by} accepted ran out on {waiver.until:%Y-%m-%d}")
            elif not _fits(waiver, items):
                why.append(f"what {waiver.by} accepted is another now")
                self._lapsed[waiver.number] = finding.rule
            else:
                accepted.update(dict.fromkeys(items, waiver))
        if finding.state and accepted.keys() >= finding.state.keys():
            who = dict.fromkeys(f"{one.by}: {one.why}" for one in accepted.values())
            return replace(finding, waived_by=list(who))
        if accepted:
            why.append(f"{len(accepted):,} of {len(finding.state):,} are accepted")
        told = "; ".join(filter(None, (finding.explained_by, *dict.fromkeys(why))))
        return replace(finding, explained_by=told or None)

    def remarks(self, asked: Iterable[str]) -> Iterator[str]:
        """What is to be said of waivers themselves: those of rules that were `asked` and fit nothing,
        those that have run out, those that would accept anything."""
        rules = set(asked)
        for waiver in self._waivers:
            name = f"waiver {waiver.number} ({waiver.rule}, {waiver.what})"
            if waiver.number in self._lapsed:
                yield f"{name} has lapsed: what it accepted is another now"
            elif waiver.until is not None and waiver.until < self._now:
                yield f"{name} ran out on {waiver.until:%Y-%m-%d}"
            elif waiver.rule in rules and waiver.number not in self._used:
                yield f"{name} fits nothing any more"
            if is_glob(waiver.what) and not waiver.accepted.startswith(SET):
                yield f"{name} is too wide: a glob is accepted by the digest of its set, and no other way"


def _speaks_of(waiver: Waiver, what: str) -> bool:
    return what == waiver.what or (is_glob(waiver.what) and fnmatch.fnmatchcase(what, waiver.what))


def _fits(waiver: Waiver, items: dict[str, str]) -> bool:
    if is_glob(waiver.what):
        return waiver.accepted == set_digest(items.items())
    return all(told == waiver.accepted for told in items.values())


def load_waivers(
    system: System, path: str, keyring: Sequence[str], now: datetime
) -> tuple[Waiver, ...]:
    """The waivers of a file of the auditor's own. With a keyring only where the signature beside it is
    good: what is not is bad news, and nothing of it counts. Raises BadQuestion where it is none."""
    data = system.own_bytes(path, _LIMIT)
    try:
        waivers = tuple(read_waivers(data))
    except OfficeFileError as error:
        raise BadQuestion(f"no waivers: {error}", path, "mend the file") from error
    if not keyring:
        system.say(f"nobody judged who accepted what {path} says: no keys were given")
        return waivers
    beside = system.beside(path)
    if beside is None:
        system.report(
            Alarm(path, "it is unsigned, and keys were given: nothing of it was accepted")
        )
        return ()
    found = judge_detached(data, beside, system.own_keys(keyring), now)
    if found.verdict is not SignatureVerdict.GOOD:
        why = f"its signature is {found.verdict.value}: nothing of it was accepted"
        system.report(Alarm(path, why))
        return ()
    return waivers


def load_settings(system: System, path: str) -> OfficeSettings:
    """The settings of an office, out of a file of the auditor's own. Raises BadQuestion."""
    try:
        return read_settings(system.own_bytes(path, _LIMIT))
    except OfficeFileError as error:
        raise BadQuestion(f"no settings: {error}", path, "mend the file") from error


def proposed(findings: Iterable[Finding], by: str) -> Iterator[Waiver]:
    """Waivers for all of some findings, whose state is exact: to be read by a person before they are
    kept."""
    for finding in findings:
        if len(finding.state) <= _EACH:
            for what, told in finding.state.items():
                if is_glob(what):
                    told = set_digest([(what, told)])
                yield Waiver(0, finding.rule, what, finding.package, told, by, _TEMPLATE, None)
            continue
        digest = set_digest(finding.state.items())
        yield Waiver(
            0, finding.rule, _glob_of(finding), finding.package, digest, by, _TEMPLATE, None
        )


def _glob_of(finding: Finding) -> str:
    """A glob that matches all of a finding."""
    import posixpath

    if len(finding.paths) != len(finding.state):
        return "*"
    folder = posixpath.commonpath(finding.paths)
    return f"{folder.rstrip('/')}/*" if not _GLOB & set(folder) else "*"
