"""What each command asks of a family: where one does not know it, the answer says so."""

from collections.abc import Mapping

_PACKAGE = ("packages", "state", "reason", "held")
_OFFER = ("offers", "offers_signature", "keys")

ASKS: Mapping[str, tuple[str, ...]] = {
    "survey": (*_PACKAGE, "paths", "needs"),
    "census": (*_PACKAGE, *_OFFER, "needs", "groups"),
    "dossier": (
        *_PACKAGE, "paths", "config", "needs", "record_signature", "archives", *_OFFER, "choice",
        "history",
    ),
    "seek": ("packages", *_OFFER),
    "contents": ("paths", "aspects", "config", "archives", "paths_offered"),
    "owner": ("paths", "moved", "archives", "paths_offered"),
    "needs": ("packages", "needs", "archives", *_OFFER),
    "needed-by": ("packages", "reason", "needs", *_OFFER),
    "because": ("packages", "reason", "needs"),
    "obstacles": ("packages", "held", "needs", "archives", *_OFFER, "choice"),
    "whatif": (*_PACKAGE, "needs", "archives", *_OFFER, "choice", "order"),
    "draw": ("packages", "reason", "needs", *_OFFER),
    "verify": (
        "packages", "paths", "content", "aspects", "config", "moved", "record_signature", "archives",
        "offers_signature", "keys",
    ),
    "provenance": ("paths", "content", "record_signature", "archives", *_OFFER),
    "keys": ("keys",),
    "strays": ("paths", "moved"),
    "layers": ("packages", "paths", "content", "config", "moved"),
    "snapshot": ("packages", "paths"),
    "report": (*_PACKAGE, "paths", "needs", *_OFFER),
    "compare": ("packages", "paths", "content", "config", "moved", "history", "order", *_OFFER, "keys"),
    "findings": (
        *_PACKAGE, "paths", "content", "aspects", "config", "moved", "record_signature", "archives",
        *_OFFER, "order", "advisories", "needs", "history",
    ),
    "running": ("packages", "paths", "content", "aspects", "config", "moved"),
    "timeline": ("packages", "paths", "content", "config", "moved", "history", *_OFFER, "keys"),
    "repos": _OFFER,
    "behind": ("packages", "held", *_OFFER, "choice", "order", "advisories"),
    "refresh": _OFFER,
}  # fmt: skip
"""By command, the notions that it asks for."""
