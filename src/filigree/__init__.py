"""Filigree: an auditor of the packages on a Linux system. It only reads.

    >>> import filigree
    >>> system = filigree.open_system("/")            # doctest: +SKIP
    >>> filigree.verify(system).summary["verdicts"]   # doctest: +SKIP

`open_system` opens a root; each question is a function that takes the system first and returns an
Answer. What is not asked for is not loaded.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

_WHERE = {
    "open_system": "filigree.system",
    "System": "filigree.system",
    "FiligreeError": "filigree.model.errors",
    "Answer": "filigree.model.answer",
    "Flow": "filigree.model.answer",
    "Filter": "filigree.questions.commands.census",
    "survey": "filigree.questions.commands.survey",
    "census": "filigree.questions.commands.census",
    "census_flow": "filigree.questions.commands.census",
    "Shape": "filigree.questions.commands.census",
    "dossier": "filigree.questions.commands.dossier",
    "contents": "filigree.questions.commands.contents",
    "contents_flow": "filigree.questions.commands.contents",
    "owner": "filigree.questions.commands.owner",
    "needs": "filigree.questions.commands.needs",
    "needed_by": "filigree.questions.commands.needs",
    "because": "filigree.questions.commands.because",
    "obstacles": "filigree.questions.commands.obstacles",
    "whatif": "filigree.questions.commands.whatif",
    "leftover": "filigree.questions.commands.leftover",
    "draw": "filigree.questions.commands.draw",
    "verify": "filigree.questions.commands.verify",
    "provenance": "filigree.questions.commands.provenance",
    "keys": "filigree.questions.commands.keys",
    "strays": "filigree.questions.commands.strays",
    "layers": "filigree.questions.commands.layers",
    "compare": "filigree.questions.comparing.comparing",
    "Wish": "filigree.questions.comparing.comparing",
    "snapshot": "filigree.questions.keeping.taking",
    "found_files": "filigree.questions.reporting.found",
    "inventory": "filigree.questions.reporting.inventory",
    "audit": "filigree.questions.reporting.audit",
    "AuditWish": "filigree.questions.reporting.audit",
    "findings": "filigree.questions.rules.findings",
    "FindingsWish": "filigree.questions.rules.findings",
    "rules": "filigree.questions.rules.findings",
    "running": "filigree.questions.running.running",
    "timeline": "filigree.questions.timeline.timeline",
    "TimelineWish": "filigree.questions.timeline.timeline",
    "by_period": "filigree.questions.timeline.periods",
    "Span": "filigree.questions.timeline.periods",
    "repos": "filigree.questions.commands.repos",
    "seek": "filigree.questions.commands.seek",
    "behind": "filigree.questions.commands.behind",
    "groups": "filigree.questions.commands.groups",
    "refresh": "filigree.questions.commands.refresh",
    "Taking": "filigree.questions.keeping.taking",
    "Manner": "filigree.questions.verifying.verdicts",
    "Against": "filigree.questions.evidence.references",
    "Scope": "filigree.questions.asking.scopes",
    "RootChoice": "filigree.access.roots",
    "RepositoryOptions": "filigree.questions.offers.options",
}

__all__ = [*_WHERE, "__version__"]  # noqa: PLE0604 - the names are a table

if TYPE_CHECKING:
    from filigree.access.roots import RootChoice as RootChoice
    from filigree.model.answer import Answer as Answer
    from filigree.model.answer import Flow as Flow
    from filigree.model.errors import FiligreeError as FiligreeError
    from filigree.questions.asking.scopes import Scope as Scope
    from filigree.questions.commands.because import because as because
    from filigree.questions.commands.behind import behind as behind
    from filigree.questions.commands.census import Filter as Filter
    from filigree.questions.commands.census import Shape as Shape
    from filigree.questions.commands.census import census as census
    from filigree.questions.commands.census import census_flow as census_flow
    from filigree.questions.commands.contents import contents as contents
    from filigree.questions.commands.contents import contents_flow as contents_flow
    from filigree.questions.commands.dossier import dossier as dossier
    from filigree.questions.commands.draw import draw as draw
    from filigree.questions.commands.groups import groups as groups
    from filigree.questions.commands.keys import keys as keys
    from filigree.questions.commands.layers import layers as layers
    from filigree.questions.commands.leftover import leftover as leftover
    from filigree.questions.commands.needs import needed_by as needed_by
    from filigree.questions.commands.needs import needs as needs
    from filigree.questions.commands.obstacles import obstacles as obstacles
    from filigree.questions.commands.owner import owner as owner
    from filigree.questions.commands.provenance import provenance as provenance
    from filigree.questions.commands.refresh import refresh as refresh
    from filigree.questions.commands.repos import repos as repos
    from filigree.questions.commands.seek import seek as seek
    from filigree.questions.commands.strays import strays as strays
    from filigree.questions.commands.survey import survey as survey
    from filigree.questions.commands.verify import verify as verify
    from filigree.questions.commands.whatif import whatif as whatif
    from filigree.questions.comparing.comparing import Wish as Wish
    from filigree.questions.comparing.comparing import compare as compare
    from filigree.questions.evidence.references import Against as Against
    from filigree.questions.keeping.taking import Taking as Taking
    from filigree.questions.keeping.taking import snapshot as snapshot
    from filigree.questions.offers.options import RepositoryOptions as RepositoryOptions
    from filigree.questions.reporting.audit import AuditWish as AuditWish
    from filigree.questions.reporting.audit import audit as audit
    from filigree.questions.reporting.found import found_files as found_files
    from filigree.questions.reporting.inventory import inventory as inventory
    from filigree.questions.rules.findings import FindingsWish as FindingsWish
    from filigree.questions.rules.findings import findings as findings
    from filigree.questions.rules.findings import rules as rules
    from filigree.questions.running.running import running as running
    from filigree.questions.timeline.periods import Span as Span
    from filigree.questions.timeline.periods import by_period as by_period
    from filigree.questions.timeline.timeline import TimelineWish as TimelineWish
    from filigree.questions.timeline.timeline import timeline as timeline
    from filigree.questions.verifying.verdicts import Manner as Manner
    from filigree.system import System as System
    from filigree.system import open_system as open_system


def __getattr__(name: str) -> Any:
    # A question's module has the question's name, so importing it would hide the function.
    if name not in _WHERE:
        raise AttributeError(f"module 'filigree' has no attribute {name!r}")
    value = getattr(import_module(_WHERE[name]), name)
    globals()[name] = value
    return value
