"""What became of paths from one root to another: each with what explains it, or what speaks against that.

Rules, before the code that keeps them:

- A package's change explains a path of it only where the path is then as the new record says; a package
  that stayed explains nothing but an administrator's own settings.
- What is nobody's is explained by a cause of `strays`; a program only by those that a record of the
  system's stands behind. Data of nobody's, outside of where programs and settings live, is no affair of
  packages: that is said, and is no alarm.
- Where one of the two holds no digest, size and time of change are all that tells.
"""

import stat
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import Any, NamedTuple

from filigree.access.trees.directories import decoded, encoded
from filigree.access.trees.protocol import Entry
from filigree.access.trees.recorded import RecordedTree
from filigree.access.trees.recorded_form import PathForm
from filigree.model.answer import Gap
from filigree.model.files import KIND_OF_FORM, Aspect, FileRecord, Kind, Role
from filigree.model.package import Package
from filigree.model.roles import role_of
from filigree.questions.comparing.differences import ChangeKind, Compared, What
from filigree.questions.comparing.packages import PackageChange, PackageChanges
from filigree.questions.comparing.paths import PathPair, aspects_of, differing
from filigree.questions.finding.causes import Cause, Causes
from filigree.questions.finding.owned_paths import owned_paths
from filigree.questions.finding.ownership import source_of_bytecode
from filigree.questions.finding.ranks import Rank, rank_of
from filigree.system import System

PLACES = (
    "/bin/", "/sbin/", "/lib", "/usr/", "/etc/", "/boot/", "/opt/", "/root/.", "/var/spool/cron/",
)  # fmt: skip
"""Below these lies what runs, what starts it, and what settles how: nothing there is mere data."""
_FIRM = (Cause.ALTERNATIVE, Cause.BYTECODE, Cause.DIVERTED)


class FileChanges:
    """The paths of two roots. `undigested` are files that were compared by size and time alone,
    `half_digested` those of which only one of the two has a digest."""

    def __init__(
        self, before: System, after: System, packages: PackageChanges,
        chooses: Callable[[str], bool] = lambda _: True,
    ) -> None:  # fmt: skip
        self._before = before
        self._after = after
        self._packages = packages
        self._chooses = chooses
        self.undigested = 0
        self.half_digested = 0

    def _alike(self, rows: Sequence[tuple[Any, ...]]) -> None:
        self.undigested += sum(row[-1] is None and stat.S_ISREG(row[2]) for row in rows)

    @cached_property
    def pairs(self) -> list[tuple[PathPair, list[Aspect]]]:
        """The paths that are another, and in what."""
        older, newer = self._before.tree, self._after.tree
        assert isinstance(older, RecordedTree)
        assert isinstance(newer, RecordedTree)
        found = []
        for pair in differing(older, newer, self._alike):
            if not self._chooses(pair.path):
                continue
            aspects = aspects_of(pair.before, pair.after)
            if not aspects:
                self.half_digested += _is_half_digested(pair)
            if not aspects or self._is_unseen(pair):
                continue
            found.append((pair, aspects))
        return found

    def rows(self) -> Iterator[Compared]:
        """Every path that is another, with what explains it."""
        if not self.pairs:
            return
        names = self._names()
        owned_before = owned_paths(self._before, ["/"], present=True, names=names)
        owned_after = owned_paths(self._after, ["/"], present=True, names=names)
        whose = _Whose(
            self._before, self._after, owned_before, owned_after,
            Causes(self._before, owned_before), Causes(self._after, owned_after), self._packages,
        )  # fmt: skip
        for pair, aspects in self.pairs:
            yield whose.row(pair, aspects)

    def _names(self) -> set[str]:
        """The last parts of all paths that may be asked for: of a path, of what it was made of, of what
        it is another state of."""
        found: set[str] = set()
        endings = {*self._before.database.kept_endings, *self._after.database.kept_endings}
        for pair, _ in self.pairs:
            made_of = source_of_bytecode(pair.path)
            found.update(one.rpartition("/")[2] for one in (pair.path, made_of or ""))
            found.update(
                pair.path.removesuffix(ending).rpartition("/")[2]
                for ending in endings
                if pair.path.endswith(ending)
            )
        return found

    def _is_unseen(self, pair: PathPair) -> bool:
        """Whether a path is only missing on one side because nobody looked there."""
        real = encoded(pair.path).rstrip(b"/")
        for form, system in ((pair.before, self._before), (pair.after, self._after)):
            tree = system.tree
            if form is None and isinstance(tree, RecordedTree):
                why = tree.unseen(real)
                if why is not None:
                    folder = pair.path.rpartition("/")[0] or "/"
                    system.report(Gap(f"what was below {folder}", why))
                    return True
        return False

    def report_hindrances(self) -> None:
        """Say of both what could not be looked at: nothing of that was compared."""
        for system in (self._before, self._after):
            assert isinstance(system.tree, RecordedTree)
            for what, why in system.tree.hindrances():
                system.report(Gap(what, why))


class _Whose(NamedTuple):
    before: System
    after: System
    owned_before: dict[str, list[Package]]
    owned_after: dict[str, list[Package]]
    causes_before: Causes
    causes_after: Causes
    packages: PackageChanges

    def row(self, pair: PathPair, aspects: list[Aspect]) -> Compared:
        path = pair.path
        owners = self.owned_after.get(path) or self.owned_before.get(path) or []
        seen = pair.after or pair.before
        assert seen is not None
        kind = KIND_OF_FORM.get(stat.S_IFMT(seen.mode), Kind.FILE)
        rank = Rank.RIGHTS if seen.capabilities else rank_of(kind, seen.mode & 0o7777)
        told, why = self._explained(pair, aspects, owners, rank)
        change = ChangeKind.ALTERED
        if pair.before is None or pair.after is None:
            change = ChangeKind.CAME if pair.before is None else ChangeKind.GONE
        layered = self.after.tree.layered
        return Compared(
            what=What.FILE, change=change, subject=path,
            package=owners[0].name if owners else None, before=_words(pair.before, aspects),
            after=_words(pair.after, aspects), aspects=aspects, explained_by=told, why=why,
            rank=rank, layer=layered.layer_of_file(path) if layered is not None else None,
        )  # fmt: skip

    def _explained(
        self, pair: PathPair, aspects: list[Aspect], owners: list[Package], rank: Rank
    ) -> tuple[str | None, str | None]:
        if not owners:
            return self._of_nobody(pair, rank)
        both = [*self.owned_before.get(pair.path, ()), *self.owned_after.get(pair.path, ())]
        moves = self.packages.moves_of(both)
        for move in moves:
            why = self._against(pair, move)
            if why is None:
                return move.words, None
            if not self._is_setting(pair.path, both, aspects):
                return None, why
        if self._is_setting(pair.path, both, aspects):
            if rank is not Rank.OTHER:
                return None, "an administrator may change it, and it can be run"
            return "a setting that an administrator may change", None
        return None, f"{owners[0].name} did not change"

    def _against(self, pair: PathPair, move: PackageChange) -> str | None:
        """Why a package's change does not explain a path; None where it does."""
        record = None if move.after is None else _record(self.after, move.after, pair.path)
        if pair.after is None:
            gone = record is None or record.excuse is not None
            return None if gone else f"{move.words}, and its record still has it"
        if record is None:
            return f"{move.words}, and nothing says that it is to be so"
        if record.digest is not None and not _has_digest(self.after, pair.path, record.digest):
            return f"{move.words}, and its content is not what the record says"
        if record.mode is not None and record.mode != pair.after.mode & 0o7777:
            return f"{move.words}, and its mode is not what the record says"
        target = None if pair.after.target is None else decoded(pair.after.target)
        if record.link_target is not None and record.link_target != target:
            return f"{move.words}, and it leads elsewhere than the record says"
        return None

    def _is_setting(self, path: str, owners: list[Package], aspects: list[Aspect]) -> bool:
        if set(aspects) - {Aspect.CONTENT, Aspect.MODIFIED, Aspect.PRESENCE}:
            return False
        for system in (self.after, self.before):
            for package in owners:
                record = _record(system, package, path)
                if record is not None:
                    role = role_of(record.path, record.kind, record.mode, record.mark)
                    return record.config or (role is Role.CONFIG and record.digest is None)
        return False

    def _of_nobody(self, pair: PathPair, rank: Rank) -> tuple[str | None, str | None]:
        form = pair.after or pair.before
        assert form is not None
        causes = self.causes_after if pair.after is not None else self.causes_before
        keeper = (self.after if pair.after is not None else self.before).database.keeper_of(
            pair.path
        )
        if keeper is not None:
            for move in self.packages.moves_of([keeper]):
                return move.words, None
            if rank is not Rank.OTHER:
                return None, f"a script of {keeper.name}, which did not change"
        cause, detail = causes.of(_entry(pair.path, form))
        if pair.path.startswith(tuple(self.after.family.places)) and rank is Rank.OTHER:
            keeps = cause is Cause.DATABASE or not pair.path.startswith("/etc/")
            if keeps:
                return "what it records is compared by itself", None
        if cause is not None and (rank is Rank.OTHER or cause in _FIRM):
            return f"{cause.value}: {detail}", None
        if rank is not Rank.OTHER:
            return None, "it can be run, and is nobody's"
        if pair.path.startswith(PLACES):
            return None, "it is nobody's"
        return "data of nobody's", None


def _is_half_digested(pair: PathPair) -> bool:
    """Whether nobody can tell whether a file is the same: one of the two has no digest of it."""
    before, after = pair.before, pair.after
    if before is None or after is None or not stat.S_ISREG(after.mode):
        return False
    known = ((before.sha256, after.sha256), (before.sha1, after.sha1), (before.md5, after.md5))
    return not any(one and other for one, other in known) and any(
        one or other for one, other in known
    )


def _record(system: System, package: Package, path: str) -> FileRecord | None:
    """What a package's record says of a real path."""
    known = [one for one in system.present([package.name]) if one.version == package.version]
    for one in known:
        if one.architecture != package.architecture:
            continue
        name = path.rpartition("/")[2]
        for record in system.database.files(one):
            if record.location.rpartition("/")[2] == name and system.real(record.location) == path:
                return record
    return None


def _has_digest(system: System, path: str, digest: str) -> bool:
    return system.tree.holds(path, digest, 1 << 62) >= 0


def _entry(path: str, form: PathForm) -> Entry:
    target = None if form.target is None else decoded(form.target)
    return Entry(
        path=path, kind=KIND_OF_FORM.get(stat.S_IFMT(form.mode), Kind.FILE), size=form.size,
        mode=form.mode & 0o7777, uid=form.uid, gid=form.gid, modified=form.modified,
        link_target=target,
    )  # fmt: skip


def _words(form: PathForm | None, aspects: list[Aspect]) -> str | None:
    """What a path was, or is, in those things in which it is another."""
    if form is None:
        return None
    kind = KIND_OF_FORM.get(stat.S_IFMT(form.mode), Kind.FILE)
    told: list[str] = []
    for aspect in aspects:
        match aspect:
            case Aspect.CONTENT | Aspect.MODIFIED:
                digest = f", sha256:{form.sha256.hex()}" if form.sha256 is not None else ""
                told.append(f"{form.size:,} bytes{digest}")
            case Aspect.MODE:
                told.append(f"{form.mode & 0o7777:04o}")
            case Aspect.OWNER:
                told.append(f"owner {form.uid}")
            case Aspect.GROUP:
                told.append(f"group {form.gid}")
            case Aspect.LINK_TARGET:
                told.append(f"to {decoded(form.target or b'')}")
            case Aspect.CAPABILITIES:
                told.append("capabilities" if form.capabilities else "no capabilities")
            case _:
                told.append(f"{kind.value}, {form.mode & 0o7777:04o}")
    return "; ".join(dict.fromkeys(told))
