"""What a family may know of a system, and what each answer rests on where it does.

Every family declares of each notion what it rests on (`rests_on`), or why it does not know it
(`silent_on`). Out of that the documentation is made.
"""

from collections.abc import Mapping

NOTIONS: Mapping[str, str] = {
    "packages": "which packages are there",
    "state": "how far an installation has come",
    "reason": "why a package is installed",
    "held": "what is to stay as it is",
    "paths": "whose a path is",
    "content": "what a file holds",
    "aspects": "what else a file is to be",
    "config": "what an administrator may change",
    "moved": "what is elsewhere, or absent, on purpose",
    "needs": "what a package needs",
    "record_signature": "who signed a record",
    "archives": "what an archive holds",
    "offers": "what is offered",
    "paths_offered": "what it would bring",
    "offers_signature": "who signed the lists of it",
    "keys": "which keys count",
    "choice": "which version would be taken",
    "order": "which of two versions is newer",
    "advisories": "what is for security",
    "groups": "what belongs together",
    "history": "what happened before",
}
"""The notions, each with what it tells."""
