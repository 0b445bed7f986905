"""By which rules one `rpm` package meets what another asks for.

Follows the chapter on dependencies of the format's manual: names must be the same; where one side
gives no version, any will do; else the two ranges must have a version in common.
"""

from filigree.formats.rpm_versions import compare_versions
from filigree.model.needs import Capability, Comparison, Term


def term_is_met(term: Term, capability: Capability) -> bool:
    """Whether a capability meets a term."""
    if term.name != capability.name:
        return False
    if term.comparison is None or term.version is None or capability.version is None:
        return True
    order = compare_versions(capability.version, term.version)
    return versions_meet(term.comparison, capability.comparison, order)


def versions_meet(asked: Comparison, offered: Comparison, order: int) -> bool:
    """Whether two ranges of versions have one in common; `order` is the offered end against the asked.

    >>> versions_meet(Comparison.AT_LEAST, Comparison.EQUAL, 1)
    True
    """
    if order == 0:
        same = {Comparison.AT_MOST, Comparison.EQUAL, Comparison.AT_LEAST}
        if asked in same and offered in same:
            return True
        down, up = (Comparison.LESS, Comparison.AT_MOST), (Comparison.GREATER, Comparison.AT_LEAST)
        return (asked in down and offered in down) or (asked in up and offered in up)
    if order > 0:  # what is offered ends, or starts, above what is asked
        return asked in (Comparison.GREATER, Comparison.AT_LEAST) or offered in (
            Comparison.LESS,
            Comparison.AT_MOST,
        )
    return asked in (Comparison.LESS, Comparison.AT_MOST) or offered in (
        Comparison.GREATER,
        Comparison.AT_LEAST,
    )
