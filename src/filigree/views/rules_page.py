"""The page of what findings are made by (`docs/findings.md`): of the rules' own declarations."""

from collections.abc import Iterator, Sequence

from filigree.model.findings import RuleFacts, Severity, severity_rank

_HEAD = """# What findings are made by

This page is made from the rules' own declarations (`make docs`); `findings --explain RULE` tells the
same. A severity says how bad it is where it is true; an office may give a rule another one, or leave it
out (`--settings`), and accept a finding as it is, until it changes (`--waivers`). What a rule needs and
was not looked at is a gap, and never clean.
"""
_SEVERITIES = {
    Severity.CRITICAL: "what runs here is somebody else's, as far as can be told",
    Severity.HIGH: "what runs here could be, or it is known how it could become so",
    Severity.MEDIUM: "something is not as it should be",
    Severity.LOW: "worth knowing",
}


def rules_page(rules: Sequence[RuleFacts]) -> str:
    """The page in Markdown, the worst rules first."""
    return "\n".join([*_lines(rules), ""])


def _lines(rules: Sequence[RuleFacts]) -> Iterator[str]:
    yield _HEAD
    yield "| severity | means |"
    yield "| --- | --- |"
    yield from (f"| **{one.value}** | {words} |" for one, words in _SEVERITIES.items())
    for one in sorted(rules, key=lambda rule: severity_rank(rule.severity)):
        yield f"\n## `{one.identity}`\n"
        yield f"**{one.title}** ({one.severity.value}; it takes {', '.join(one.parts)}).\n"
        yield f"- Looks at {one.looks_at}."
        yield f"- Matters, since {one.why}."
        yield f"- May be mistaken: {one.mistaken}."
        yield f"- Ask next: {one.ask}."


if __name__ == "__main__":
    import sys

    from filigree.questions.rules.findings import every_rule

    sys.stdout.write(rules_page([rule.facts for rule in every_rule()]))
