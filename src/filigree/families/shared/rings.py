"""Key rings of a user of the root, in both forms that they have: a plain file of keys, and a key box."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from types import MappingProxyType

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Judging, Report, RootKey
from filigree.families.shared.indexes import Keys
from filigree.formats.key_box import BOX_LIMIT, is_key_box, keys_in
from filigree.formats.openpgp_keys import read_keys
from filigree.model.answer import Gap
from filigree.model.errors import AccessError
from filigree.model.keys import Key
from filigree.model.repositories import Repository

NONE_GONE: Mapping[str, str] = MappingProxyType({})


def ring_of(home: str, tree: Tree, keys: Keys, report: Report) -> Iterator[Key]:
    """The keys of the ring in a folder; what cannot be read is reported."""
    yield from keys.held(f"{home}/pubring.gpg")
    box = f"{home}/pubring.kbx"
    try:
        data = tree.read_or_none(box, BOX_LIMIT)
    except AccessError as error:
        report(Gap(box, error.what))
        return
    if data is None:
        return
    if not is_key_box(data):
        report(Gap(box, "it is no key box"))
        return
    for block in keys_in(data):
        try:
            yield from keys.told(read_keys(block, box))
        except ValueError as error:
            report(Gap(box, str(error)))


def held_in_ring(
    ring: Sequence[Key], fillers: Iterable[Key], how: str, names: tuple[str, ...],
    gone: Mapping[str, str] = NONE_GONE,
) -> list[RootKey]:  # fmt: skip
    """The keys of a ring, trusted for every repository, and those in files that it is filled from.

    `how` is what is to be said of the former, `gone` why some of them count no more, by fingerprint.
    """
    found = [
        RootKey(key, f"in the key ring, and {gone[key.fingerprint]}", archives=False)
        if key.fingerprint in gone
        else RootKey(key, how, names, True)
        for key in ring
    ]
    told = {key.fingerprint for key in ring}
    for key in fillers:
        # What fills the ring is not yet in it.
        why = "fills the key ring" if key.fingerprint in told else "lies there; not in the ring"
        found.append(RootKey(key, why, archives=False))
    return found


class RingRepositories:
    """Repositories whose lists are judged with the keys of one ring.

    A family's own tells `_read`, every repository, and `_held`, every key.
    """

    def __init__(
        self, tree: Tree, report: Report, architecture: str | None, judging: Judging
    ) -> None:
        self._tree = tree
        self._report = report
        self.native = architecture or ""
        self._keys = Keys(tree, report, judging.keyring)
        self._now = judging.now
        self._own = judging.copies

    def all(self) -> list[Repository]:
        """Every repository, in the order in which the system asks them; read once."""
        return self._all

    @cached_property
    def _all(self) -> list[Repository]:
        return list(self._read())

    def _read(self) -> Iterator[Repository]:
        raise NotImplementedError

    @cached_property
    def _held(self) -> list[RootKey]:
        raise NotImplementedError

    def root_keys(self) -> Sequence[RootKey]:
        return self._held

    @cached_property
    def _judging(self) -> list[Key]:
        """The keys that lists are judged with: the auditor's own, or else those of the ring."""
        if self._keys.own is not None:
            return self._keys.own
        return [one.key for one in self._held if one.everything]
