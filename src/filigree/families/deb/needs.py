"""By which rules one `deb` package meets what another asks for.

Follows the Debian Policy Manual, sections 7.1 and 7.5, and the multi-architecture specification:
a need is for the asker's own architecture, unless the holder serves any (`foreign`), or lets itself
be asked for by any (`allowed` with the qualifier `any`). `all` counts as the system's own.
"""

from filigree.formats.deb_versions import compare_versions
from filigree.model.needs import Capability, Term
from filigree.model.package import Package


def term_is_met(
    term: Term, asker: Package, holder: Package, capability: Capability, native: str | None
) -> bool:
    """Whether `holder`, through `capability`, meets `term` of `asker`."""
    if term.name != capability.name:
        return False
    if not _architecture_fits(term.architecture, asker, holder, native):
        return False
    if term.comparison is None:
        return True
    if capability.version is None or term.version is None:
        return False
    return term.comparison.holds(compare_versions(capability.version, term.version))


def _architecture_fits(
    qualifier: str | None, asker: Package, holder: Package, native: str | None
) -> bool:
    serves = holder.fields.get("Multi-Arch")
    theirs = _own(holder.architecture, native)
    if qualifier == "any":
        return serves in ("allowed", "foreign") or theirs == _own(asker.architecture, native)
    if qualifier == "native":
        return theirs == native
    if qualifier is not None:
        return theirs == qualifier
    return serves == "foreign" or theirs == _own(asker.architecture, native)


def _own(architecture: str, native: str | None) -> str | None:
    return native if architecture == "all" else architecture
