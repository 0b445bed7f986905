"""Findings as SARIF 2.1.0 (OASIS)."""

import hashlib
from collections.abc import Iterator, Sequence
from typing import Any
from urllib.parse import quote

from filigree.model.answer import Answer
from filigree.model.findings import Finding, RuleFacts, Severity
from filigree.questions.reporting.audit import identity_of
from filigree.views.handover.shared import Handed, json_lines, stamp

_LEVELS = {
    Severity.CRITICAL: "error", Severity.HIGH: "error", Severity.MEDIUM: "warning", Severity.LOW: "note",
}  # fmt: skip
_WEIGHTS = {
    Severity.CRITICAL: "9.5", Severity.HIGH: "8.0", Severity.MEDIUM: "5.5", Severity.LOW: "2.0",
}  # fmt: skip
_MOST = 100
"""So many places of a finding are told by themselves; how many it is made of is told in any case."""
_FINGERPRINT = "filigree/1"


def sarif(answer: Answer[Finding, Any], rules: Sequence[RuleFacts], made: Handed) -> Iterator[str]:
    """The document, line by line. A finding has the same fingerprint at every run, as long as it is of
    the same rule and package, or of the same first thing; what a waiver accepts is suppressed."""
    yield from json_lines(document(answer, rules, made))


def document(
    answer: Answer[Finding, Any], rules: Sequence[RuleFacts], made: Handed
) -> dict[str, Any]:
    """The document as plain values."""
    places = {rule.identity: place for place, rule in enumerate(rules)}
    run: dict[str, Any] = {
        "tool": {"driver": {
            "name": made.product, "version": made.version, "semanticVersion": made.version,
            "rules": [_rule(one) for one in rules],
        }},
        "originalUriBaseIds": {"ROOT": {
            "uri": "file:///", "description": {"text": f"the root that was asked: {answer.system.root}"},
        }},
        "invocations": [{
            "executionSuccessful": not answer.interrupted, "endTimeUtc": stamp(made.made_at),
            "toolExecutionNotifications": [
                {"level": "warning", "message": {"text": f"not looked at: {gap.what}: {gap.why}"}}
                for gap in answer.gaps
            ],
        }],
        "automationDetails": {"id": f"{made.product}/{answer.system.label}"},
        "results": [_result(one, places) for one in answer.records],
        "columnKind": "unicodeCodePoints",
    }  # fmt: skip
    return {
        "$schema": "https://json.schemastore.org/sarif-2.1.0.json", "version": "2.1.0", "runs": [run]
    }  # fmt: skip


def _rule(facts: RuleFacts) -> dict[str, Any]:
    words = (
        f"It looks at {facts.looks_at}. Why that matters: {facts.why}. "
        f"It can be mistaken: {facts.mistaken}."
    )
    return {
        "id": facts.identity, "name": facts.identity,
        "shortDescription": {"text": facts.title}, "fullDescription": {"text": words},
        "help": {"text": f"{words} What to ask next: {facts.ask}"},
        "defaultConfiguration": {"level": _LEVELS[facts.severity]},
        "properties": {"security-severity": _WEIGHTS[facts.severity], "tags": [*map(str, facts.parts)]},
    }  # fmt: skip


def _result(one: Finding, places: dict[str, int]) -> dict[str, Any]:
    made: dict[str, Any] = {
        "ruleId": one.rule, "level": _LEVELS[one.severity], "message": {"text": _words(one)},
        "locations": [_location(path) for path in one.paths[:_MOST]] or _logical(one),
        "partialFingerprints": {_FINGERPRINT: fingerprint(one)},
        "occurrenceCount": max(1, one.count),
        "properties": {
            "severity": one.severity.value, "package": one.package or "", "advice": one.advice,
        },
    }  # fmt: skip
    if one.rule in places:
        made["ruleIndex"] = places[one.rule]
    if one.waived_by:
        made["suppressions"] = [
            {"kind": "external", "status": "accepted", "justification": told} for told in one.waived_by
        ]  # fmt: skip
    return made


def fingerprint(one: Finding) -> str:
    """What tells a finding from others at every run: its rule, and the package or the first thing that it
    is of."""
    identity = "\n".join(identity_of(one))
    return hashlib.sha256(identity.encode("utf-8", "surrogateescape")).hexdigest()


def _words(one: Finding) -> str:
    told = [one.title]
    if one.count > 1:
        told.append(f"{one.count:,} things in all")
    if one.cause:
        told.append(f"likely cause: {one.cause}")
    if one.explained_by:
        told.append(f"explained by {one.explained_by}")
    if one.evidence:
        told.append(f"it rests on: {one.evidence.value}")
    return ". ".join(told)


def _location(path: str) -> dict[str, Any]:
    uri = quote(path.lstrip("/").encode("utf-8", "surrogateescape"))
    return {"physicalLocation": {"artifactLocation": {"uri": uri or ".", "uriBaseId": "ROOT"}}}


def _logical(one: Finding) -> list[dict[str, Any]]:
    names = [*dict.fromkeys((*one.subjects, *one.packages, *filter(None, [one.package])))]
    return [
        {"logicalLocations": [{"fullyQualifiedName": name} for name in names[:_MOST]]}
    ] if names else []  # fmt: skip
