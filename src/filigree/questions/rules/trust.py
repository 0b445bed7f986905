"""Rules about trust: keys, and indexes of repositories."""

from collections.abc import Iterator
from datetime import timedelta

from filigree.model.findings import Finding, Part, Severity
from filigree.model.signatures import SignatureVerdict
from filigree.questions.commands.repos import RepositoryRow
from filigree.questions.rules.observed import Observed
from filigree.questions.rules.protocol import FindingRule, listed, one_part


def _key_for_everything(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    # Where no key is for one repository alone the system knows no other way: there it is less strange.
    scoped = any(row.scope for row in seen.keys)
    for row in seen.keys:
        if not row.everything or row.held_by in ("auditor", "both"):
            continue
        owners = seen.system.owners_of(row.file) if row.file else []
        if not owners and row.file is not None:
            who = row.identity or "nobody known"
            yield rule.finding(
                f"a key of {who} counts for every repository, and no package has {row.file}", None,
                [row.file], subjects=[row.fingerprint], state={row.fingerprint: row.file},
                severity=rule.facts.severity if scoped else Severity.MEDIUM,
            )  # fmt: skip


def _bad_keys(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for row in seen.keys:
        counts = row.everything or row.scope or row.archives
        why = "revoked" if row.revoked else row.weakness
        if row.expired(seen.now) and not why:
            why = f"expired since {row.expires_at:%Y-%m-%d}"
        if counts and why and row.held_by != "auditor":
            yield rule.finding(
                f"a key of {row.identity or 'nobody known'} counts, and it is {why}", None,
                [row.file] if row.file else [], subjects=[row.fingerprint],
                severity=Severity.LOW if why.startswith("expired") else rule.facts.severity,
                since=row.revoked_at or row.expires_at, state={row.fingerprint: why},
            )  # fmt: skip


def _there(seen: Observed) -> Iterator[RepositoryRow]:
    return (row for row in seen.repositories if row.enabled and row.path is not None)


def _indexes_wrong(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    for row in _there(seen):
        if row.alarming:
            why = row.reason or (
                "it is not what its signed file says" if row.matches is False else ""
            )
            yield rule.finding(
                f"the index of {row.identity} is not to be believed: {why or 'its signature is bad'}",
                None, [row.path or ""], subjects=[row.identity], since=row.fetched_at,
                state={row.identity: f"{row.signature and row.signature.value}, matches {row.matches}"},
            )  # fmt: skip


def _indexes_unsigned(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    held: dict[tuple[str, str], list[RepositoryRow]] = {}
    for row in _there(seen):
        if row.alarming or row.signature in (SignatureVerdict.GOOD, None):
            continue
        held.setdefault((row.signature.value, row.reason or ""), []).append(row)
    for (verdict, reason), rows in held.items():
        names = list(dict.fromkeys(row.identity for row in rows))
        yield rule.finding(
            f"nobody who counts vouches for the index of {listed(names, 'repositories')}: its signature "
            f"is {verdict}", None, [row.path or "" for row in rows], subjects=names,
            explained_by=reason or None, state=dict.fromkeys(names, verdict),
        )  # fmt: skip


def _indexes_old(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    expired = [
        row for row in _there(seen) if row.expires_at is not None and row.expires_at < seen.now
    ]
    limit = timedelta(days=seen.index_days)
    old = [
        row for row in _there(seen)
        if row not in expired and row.fetched_at is not None and seen.now - row.fetched_at > limit
    ]  # fmt: skip
    for rows, words in ((expired, "expired"), (old, "not fetched for long")):
        names = list(dict.fromkeys(row.identity for row in rows))
        if names:
            times = [row.expires_at if words == "expired" else row.fetched_at for row in rows]
            yield rule.finding(
                f"the index of {listed(names, 'repositories')} is {words}: what is missing now is "
                "not in it", None, subjects=names, since=min((at for at in times if at), default=None),
                state=dict.fromkeys(names, words),
            )  # fmt: skip


def _frozen(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    names = list(dict.fromkeys(
        row.identity for row in _there(seen)
        if row.made_at is not None and row.fetched_at is not None and row.expires_at is None
        and row.fetched_at - row.made_at > _FROZEN
    ))  # fmt: skip
    if names:
        yield rule.finding(
            f"what {listed(names, 'repositories')} sent was made long before it was fetched, and tells "
            "no end", None, subjects=names, state=dict.fromkeys(names, "made long before it was fetched"),
        )  # fmt: skip


def _unchecked(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    held: dict[str, list[str]] = {}
    for row in seen.repositories:
        if row.enabled and False in (row.must_be_signed, row.archives_must_be_signed):
            held.setdefault(row.configured_in, []).append(row.identity)
    for place, names in held.items():
        yield rule.finding(
            f"{place} lets {listed(list(dict.fromkeys(names)), 'repositories')} be used unsigned", None,
            [place.rpartition(":")[0] or place], subjects=list(dict.fromkeys(names)),
            state=dict.fromkeys(names, "need not be signed"),
        )  # fmt: skip


def _in_the_clear(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    names = list(dict.fromkeys(
        row.identity for row in seen.repositories
        if row.enabled and any(one.startswith(("http://", "ftp://")) for one in row.addresses)
    ))  # fmt: skip
    if names:
        yield rule.finding(
            f"{listed(names, 'repositories')} {'is' if len(names) == 1 else 'are'} fetched without "
            "encryption", None, subjects=names, state=dict.fromkeys(names, "without encryption"),
        )  # fmt: skip


def _other_releases(rule: FindingRule, seen: Observed) -> Iterator[Finding]:
    held: dict[str, list[str]] = {}
    for row in seen.repositories:
        if row.enabled and row.other_release is not None:
            held.setdefault(row.other_release, []).append(row.identity)
    for release, told in held.items():
        names = list(dict.fromkeys(told))
        yield rule.finding(
            f"{listed(names, 'repositories')} {'is' if len(names) == 1 else 'are'} of the release "
            f"{release}, and not of this system's", None, subjects=names,
            state=dict.fromkeys(names, f"of the release {release}"),
        )  # fmt: skip


_FROZEN = timedelta(days=180)
RULES: tuple[FindingRule, ...] = (
    FindingRule(one_part(
        "index-frozen", Severity.LOW, "An index that was fetched lately is old", Part.REPOSITORIES,
        "when indexes without an end were made, against when they were fetched",
        "whoever stands between can send the same old state for ever, and hold back what mends it",
        "a repository that is finished, and never changes",
        "repos {subject}",
    ), _frozen),
    FindingRule(one_part(
        "index-not-as-signed", Severity.HIGH, "An index is not what was signed", Part.REPOSITORIES,
        "the copy of every index against its signed file, by exactly the keys that may sign it",
        "whoever changed it decides what is installed next",
        "a copy that was fetched in the midst of a change",
        "repos {subject}",
    ), _indexes_wrong),
    FindingRule(one_part(
        "key-for-everything", Severity.HIGH, "A key that no package has counts for everything", Part.KEYS,
        "keys that are asked wherever no other is named, and whose files they are",
        "its holder can sign for every repository of this system",
        "an office that keeps its key by hand",
        "keys",
    ), _key_for_everything),
    FindingRule(one_part(
        "unsigned-allowed", Severity.HIGH, "Checking of signatures is switched off", Part.REPOSITORIES,
        "what configuration says of whether a repository must be signed",
        "whoever stands between can send anything",
        "a repository on this very machine",
        "repos",
    ), _unchecked),
    FindingRule(one_part(
        "key-weak", Severity.MEDIUM, "A key that counts is revoked, weak or expired", Part.KEYS,
        "keys that count for something, their weakness, revocation and end",
        "what it signs may be somebody else's",
        "an old key beside its newer one",
        "keys",
    ), _bad_keys),
    FindingRule(one_part(
        "index-not-vouched-for", Severity.MEDIUM, "Nobody who counts vouches for an index",
        Part.REPOSITORIES,
        "the signature of every index, by the keys that may sign it",
        "what it offers may be anybody's",
        "a key that was never imported",
        "repos {subject}",
    ), _indexes_unsigned),
    FindingRule(one_part(
        "index-old", Severity.LOW, "An index is expired, or was not fetched for long", Part.REPOSITORIES,
        "when indexes were fetched, and until when they are to be believed",
        "what is missing now is not in it",
        "a machine that is kept as it is",
        "refresh",
    ), _indexes_old),
    FindingRule(one_part(
        "other-release", Severity.LOW, "A repository is of another release", Part.REPOSITORIES,
        "the release that repositories say they are of, against the one that the system says it is of",
        "what it offers was not made to go with what is installed, and what mends that may never come",
        "a number in an address that means something else; others' releases that are named otherwise",
        "repos {subject}",
    ), _other_releases),
    FindingRule(one_part(
        "fetched-in-the-clear", Severity.LOW, "A repository is fetched without encryption",
        Part.REPOSITORIES,
        "the addresses of enabled repositories",
        "whoever stands between knows what is installed here, and can hold back what mends it",
        "a way that is protected otherwise",
        "repos {subject}",
    ), _in_the_clear),
)  # fmt: skip
