"""Statements about something by its digest (in-toto Statement v1), and their envelopes (DSSE v1)."""

import base64
import json
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

STATEMENT = "https://in-toto.io/Statement/v1"
_EXACT = (1 << 53) - 1
PAYLOAD = "application/vnd.in-toto+json"


class SubjectDigest(NamedTuple):
    """What a statement is about: what it is called, and its digests by algorithm."""

    name: str
    digests: Mapping[str, str]


def statement(subjects: Sequence[SubjectDigest], kind: str, predicate: Any) -> bytes:
    """A statement in canonical JSON (RFC 8785): that a predicate of a kind (a URI) holds of subjects."""
    import rfc8785

    return rfc8785.dumps({
        "_type": STATEMENT,
        "subject": [{"name": one.name, "digest": dict(one.digests)} for one in subjects],
        "predicateType": kind, "predicate": _exact(predicate),
    })  # fmt: skip


def _exact(value: Any) -> Any:
    """A value in which no number is larger than canonical JSON can tell exactly: those are texts."""
    if isinstance(value, dict):
        return {name: _exact(one) for name, one in value.items()}
    if isinstance(value, list):
        return [_exact(one) for one in value]
    return str(value) if type(value) is int and abs(value) > _EXACT else value


def to_be_signed(payload: bytes, kind: str = PAYLOAD) -> bytes:
    """What a signature of an envelope is over: its type and its content, each with its length before it
    (DSSE v1, "PAE")."""
    parts = [b"DSSEv1"]
    for one in (kind.encode(), payload):
        parts += [str(len(one)).encode(), one]
    return b" ".join(parts)


def enveloped(payload: bytes, identity: str | None, sign: Callable[[bytes], bytes] | None) -> bytes:
    """An envelope around a statement, with a signature of `sign` where there is one: over the type and
    the content. `identity` names the key to whoever has several."""
    signatures = []
    if sign is not None:
        made = base64.b64encode(sign(to_be_signed(payload))).decode()
        signatures.append({"sig": made, **({"keyid": identity} if identity else {})})
    told = {
        "payload": base64.b64encode(payload).decode(), "payloadType": PAYLOAD, "signatures": signatures,
    }  # fmt: skip
    return json.dumps(told, separators=(",", ":")).encode() + b"\n"
