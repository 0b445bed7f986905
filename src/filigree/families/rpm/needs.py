"""By which rules one `rpm` package meets what another asks for.

Follows the chapter on dependencies of the format's manual: names must be the same; where one side
gives no version, any will do; else the two ranges must have a version in common.
"""

from filigree.families.rpm.described import versions_meet
from filigree.formats.rpm_versions import compare_versions
from filigree.model.needs import Capability, Term


def term_is_met(term: Term, capability: Capability) -> bool:
    """Whether a capability meets a term."""
    if term.name != capability.name:
        return False
    if term.comparison is None or term.version is None or capability.version is None:
        return True
    order = compare_versions(capability.version, term.version)
    return versions_meet(term.comparison, capability.comparison, order)
