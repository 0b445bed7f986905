"""By which rules one `rpm` package meets what another asks for.

Follows the chapter on dependencies of the format's manual: names must be the same; where one side
gives no version, any will do; else the two ranges must have a version in common.
"""

from filigree.formats.rpm.versions import compare_versions
from filigree.model.needs import Capability, Comparison, Relation, Term
from filigree.model.package import Package


def term_is_met(term: Term, capability: Capability) -> bool:
    """Whether a capability meets a term."""
    if term.name != capability.name:
        return False
    if term.comparison is None or term.version is None or capability.version is None:
        return True
    order = compare_versions(capability.version, term.version)
    return versions_meet(term.comparison, capability.comparison, order)


def term_forbids(
    kind: Relation, term: Term, asker: Package, holder: Package, capability: Capability
) -> bool:
    """Whether `asker` cannot be there together with `holder` because of a need of this kind.

    Conflicts are with whatever provides the name. What a package makes obsolete goes by the packages'
    own names, and when it comes: what is there already stays beside it.
    """
    if holder is asker:
        return False
    if kind is Relation.OBSOLETES:
        own = capability.name == holder.name and capability.version == holder.version
        return not asker.state.present and own and term_is_met(term, capability)
    return kind is Relation.CONFLICTS and term_is_met(term, capability)


_NO_MACHINE = "noarch"
_X86 = ("i686", "i586", "i486", "i386")
_ALSO_TAKEN = {
    "x86_64": ("x86_64_v4", "x86_64_v3", "x86_64_v2", *_X86),
    **{machine: _X86[at + 1 :] for at, machine in enumerate(_X86)},
}


def machines_of(native: str | None) -> tuple[str, ...]:
    """The architectures that run on a machine, its own first."""
    if native is None:
        return ()
    return (native, *_ALSO_TAKEN.get(native, ()), _NO_MACHINE)


def machine_of(architecture: str, native: str | None) -> str:
    """The architecture of a package; what is for any machine counts as the system's own."""
    return native or architecture if architecture == _NO_MACHINE else architecture


def rivals(one: Package, other: Package, side_by_side: bool) -> str | None:
    """Why two packages of one name cannot be there together; None where they can.

    Packages of different widths of machine can; versions of one can where they are of a kind that is
    only ever added.
    """
    if one.architecture != other.architecture:
        if _NO_MACHINE in (one.architecture, other.architecture):
            return "one that is for any machine takes the place of one that is not"
        wide = [package.architecture not in _X86 for package in (one, other)]
        return None if wide[0] is not wide[1] else "only one of these architectures can be there"
    return None if side_by_side else "only one version of a package can be there"


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
