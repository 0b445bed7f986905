"""What a signature of a snapshot is over: a statement with the digest of every table, in canonical JSON.

A table's digest is the SHA-256 of its rows in the order of its key, each a line of canonical JSON (RFC
8785) with an end of line behind it. Each value is a text or null: bytes as `x` and hexadecimal digits,
numbers as `n` and decimal ones, text behind a `t`.
"""

import hashlib
import json
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from typing import Any

from filigree.access.snapshots.form import ORDERS, TABLES, UNSIGNED, VERSION
from filigree.access.snapshots.opening import SnapshotTree
from filigree.formats.openpgp import judge_detached
from filigree.formats.openpgp_signing import sign_detached
from filigree.model.answer import Alarm
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.keys import Key
from filigree.model.signatures import Signatures, SignatureVerdict
from filigree.system import System

_MOST = 16


def signed(made: sqlite3.Connection, key: bytes) -> tuple[str, str]:
    """The statement of a snapshot, and a detached signature of it. Raises BadQuestion where the key
    cannot sign."""
    statement = statement_of(made.execute)
    return statement.decode(), sign_detached(statement, key).decode()


def statement_of(rows: Callable[[str], Iterator[tuple[Any, ...]]]) -> bytes:
    """The statement of a snapshot, by its rows."""
    import rfc8785

    digests = {
        name: f"sha256:{_digest(rows(f'SELECT * FROM main.{name} ORDER BY {ORDERS[name]}'))}"
        for name in TABLES
        if name != UNSIGNED
    }
    told: dict[str, Any] = {"statement": "filigree/snapshot", "form": VERSION, "tables": digests}
    return rfc8785.dumps(told)


def _digest(rows: Iterator[tuple[Any, ...]]) -> str:
    digest = hashlib.sha256()
    for row in rows:
        # Canonical by itself: an array of texts and nulls, without blanks, escapes as short as can be.
        line = json.dumps([_told(one) for one in row], ensure_ascii=False, separators=(",", ":"))
        digest.update(line.encode("utf-8", "surrogateescape") + b"\n")
    return digest.hexdigest()


def _told(value: Any) -> str | None:
    if value is None:
        return None
    if isinstance(value, bytes):
        return f"x{value.hex()}"
    return f"t{value}" if isinstance(value, str) else f"n{value}"


def judge_snapshot(system: System, keyring: Sequence[str], now: datetime | None = None) -> None:
    """Judge the signature of a system's snapshot by keys of the auditor's own: what is not good is bad
    news at every question. Raises BadQuestion where the keyring holds no keys, or the root is none."""
    tree = system.tree
    if not isinstance(tree, SnapshotTree):
        raise BadQuestion("it is no snapshot", system.root)
    try:
        found = judged(tree.record.asked, system.own_keys(keyring), now or datetime.now(UTC))
    except AccessError as error:
        found = Signatures(SignatureVerdict.BAD, reason=error.what)
    system.snapshot_signature = found
    if found.verdict is not SignatureVerdict.GOOD:
        why = f"its signature is {found.verdict.value}: {found.reason or 'nothing says more'}"
        if found.verdict is SignatureVerdict.NONE:
            why = "it carries no signature, and keys were given to judge it by"
        system.report(Alarm(system.root, why))


def judged(
    rows: Callable[[str], Iterator[tuple[Any, ...]]], keys: list[Key], now: datetime
) -> Signatures:
    """What keys say of a snapshot: of a statement that fits its tables, and of no other."""
    found = list(rows(f"SELECT statement, signature FROM {UNSIGNED} LIMIT {_MOST}"))
    if not found:
        return Signatures(SignatureVerdict.NONE, reason="it carries no signature")
    statement = statement_of(rows)
    best: Signatures | None = None
    for told, signature in found:
        if (
            not isinstance(told, str)
            or not isinstance(signature, str)
            or told.encode() != statement
        ):
            why = "what was signed is another content than the snapshot has"
            return Signatures(SignatureVerdict.BAD, reason=why)
        one = judge_detached(statement, signature.encode(), keys, now)
        if one.verdict is SignatureVerdict.BAD:
            return one
        if best is None or one.verdict is SignatureVerdict.GOOD:
            best = one
    assert best is not None
    return best
