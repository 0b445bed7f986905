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
    "Filter": "filigree.questions.census",
    "survey": "filigree.questions.survey",
    "census": "filigree.questions.census",
    "dossier": "filigree.questions.dossier",
    "contents": "filigree.questions.contents",
    "owner": "filigree.questions.owner",
    "needs": "filigree.questions.needs",
    "needed_by": "filigree.questions.needs",
    "because": "filigree.questions.because",
    "obstacles": "filigree.questions.obstacles",
    "whatif": "filigree.questions.whatif",
    "leftover": "filigree.questions.leftover",
    "draw": "filigree.questions.draw",
    "verify": "filigree.questions.verify",
    "provenance": "filigree.questions.provenance",
    "keys": "filigree.questions.keys",
    "strays": "filigree.questions.strays",
    "repos": "filigree.questions.repos",
    "seek": "filigree.questions.seek",
    "behind": "filigree.questions.behind",
    "groups": "filigree.questions.groups",
    "refresh": "filigree.questions.refresh",
    "Manner": "filigree.questions.verdicts",
    "Against": "filigree.questions.references",
    "Scope": "filigree.questions.scopes",
    "Chosen": "filigree.questions.scopes",
}

__all__ = [*_WHERE, "__version__"]  # noqa: PLE0604 - the names are a table

if TYPE_CHECKING:
    from filigree.model.answer import Answer as Answer
    from filigree.model.errors import FiligreeError as FiligreeError
    from filigree.questions.because import because as because
    from filigree.questions.behind import behind as behind
    from filigree.questions.census import Filter as Filter
    from filigree.questions.census import census as census
    from filigree.questions.contents import contents as contents
    from filigree.questions.dossier import dossier as dossier
    from filigree.questions.draw import draw as draw
    from filigree.questions.groups import groups as groups
    from filigree.questions.keys import keys as keys
    from filigree.questions.leftover import leftover as leftover
    from filigree.questions.needs import needed_by as needed_by
    from filigree.questions.needs import needs as needs
    from filigree.questions.obstacles import obstacles as obstacles
    from filigree.questions.owner import owner as owner
    from filigree.questions.provenance import provenance as provenance
    from filigree.questions.references import Against as Against
    from filigree.questions.refresh import refresh as refresh
    from filigree.questions.repos import repos as repos
    from filigree.questions.scopes import Chosen as Chosen
    from filigree.questions.scopes import Scope as Scope
    from filigree.questions.seek import seek as seek
    from filigree.questions.strays import strays as strays
    from filigree.questions.survey import survey as survey
    from filigree.questions.verdicts import Manner as Manner
    from filigree.questions.verify import verify as verify
    from filigree.questions.whatif import whatif as whatif
    from filigree.system import System as System
    from filigree.system import open_system as open_system


def __getattr__(name: str) -> Any:
    # A question's module has the question's name, so importing it would hide the function.
    if name not in _WHERE:
        raise AttributeError(f"module 'filigree' has no attribute {name!r}")
    value = getattr(import_module(_WHERE[name]), name)
    globals()[name] = value
    return value
