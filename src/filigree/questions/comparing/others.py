"""What became of keys, repositories, declared policy and users from one root to another."""

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime

from filigree.families.protocol import Judging, Sources
from filigree.model.files import Sort
from filigree.questions.comparing.differences import ChangeKind, Compared, What
from filigree.questions.comparing.packages import PackageChanges
from filigree.questions.finding.ranks import Rank
from filigree.system import System

_Told = Mapping[str, tuple[str, str]]
"""What there is of a sort, by identity: what it is, and the file that says so."""


def other_rows(before: System, after: System, packages: PackageChanges) -> Iterator[Compared]:
    """Every difference in keys, repositories, declared diversions, and users."""
    older, newer = (one.sources(Judging(datetime.now(UTC))) for one in (before, after))
    tells: tuple[tuple[What, _Told, _Told], ...] = (
        (What.KEY, _keys(older), _keys(newer)),
        (What.REPOSITORY, _repositories(older), _repositories(newer)),
        (What.POLICY, _policy(before), _policy(after)),
        (What.USER, _users(before), _users(after)),
    )
    for what, was, is_ in tells:
        for identity in sorted({*was, *is_}):
            old, new = was.get(identity), is_.get(identity)
            if (old and old[0]) == (new and new[0]):
                continue
            change = ChangeKind.ALTERED
            if old is None or new is None:
                change = ChangeKind.CAME if old is None else ChangeKind.GONE
            file = (new or old or ("", ""))[1]
            told = _explained(after if new is not None else before, packages, file)
            yield Compared(
                what=what, change=change, subject=identity, package=None, before=old and old[0],
                after=new and new[0], aspects=[], explained_by=told,
                why=None if told else _WHY[what], rank=Rank.OTHER, layer=None,
            )  # fmt: skip


_WHY = {
    What.KEY: "no package that changed has it", What.REPOSITORY: "a decision of somebody's",
    What.POLICY: "a decision of somebody's", What.USER: "nothing tells who made it",
}  # fmt: skip


def _explained(system: System, packages: PackageChanges, file: str) -> str | None:
    """The change of the package that a file belongs to."""
    owners = system.owners_of(file) if file else []
    for move in packages.moves_of(owners):
        return move.words
    return None


def _keys(sources: Sources | None) -> _Told:
    if sources is None:
        return {}
    found: dict[str, tuple[str, str]] = {}
    for one in sources.root_keys():
        scope = "everything" if one.everything else ", ".join(sorted(one.scope)) or "nothing"
        revoked = ", revoked" if one.key.revoked else ""
        identity = f"{one.key.fingerprint} in {one.key.file}"
        found[identity] = (
            f"{one.key.identity or 'nobody known'}, for {scope}{revoked}",
            one.key.file,
        )
    return found


def _repositories(sources: Sources | None) -> _Told:
    if sources is None:
        return {}
    found: dict[str, tuple[str, str]] = {}
    for one in sources.repositories():
        told = [", ".join(one.addresses), "enabled" if one.enabled else "disabled"]
        if one.priority is not None:
            told.append(f"priority {one.priority}")
        if one.must_be_signed is False:
            told.append("need not be signed")
        if one.keys:
            told.append(f"signed by {', '.join(sorted(one.keys))}")
        file = one.configured_in.rpartition(":")[0] or one.configured_in
        architecture = f" ({one.architecture})" if one.architecture else ""
        found[f"{one.identity}{architecture}"] = ("; ".join(told), file)
    return found


def _policy(system: System) -> _Told:
    """Declared diversions; and what of files on record the administrator declared otherwise, or left
    out."""
    found = {
        f"{Sort.DIVERSION} of {one.original}": (
            f"to {one.moved_to}, by {one.keeper or 'the system'}",
            "",
        )
        for one in system.relocations
    }
    for package in system.packages:
        if not package.state.present:
            continue
        for record in system.database.files(package):
            for sort, file, words in record.policies:
                if sort in _DECLARED:
                    found[f"{sort} of {record.path}"] = (words, file)
    return found


_DECLARED = (Sort.OVERRIDE, Sort.EXCLUSION)


def _users(system: System) -> _Told:
    found: dict[str, tuple[str, str]] = {}
    for what, accounts in (("user", system.users), ("group", system.groups)):
        for name, number in accounts.numbers.items():
            found[f"{what} {name}"] = (str(number), "")
    return found
