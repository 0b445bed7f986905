"""A list of mirrors as XML, which may tell the digest of the file that all have (RFC 5854 and before)."""

from collections.abc import Iterable
from typing import NamedTuple

from filigree.formats.rpm.repomd import Reader, read_items

MIRRORS_LIMIT = 1000
_STRENGTH = {"sha512": 3, "sha-512": 3, "sha256": 2, "sha-256": 2, "sha1": 1, "sha": 1}


class Mirrors(NamedTuple):
    """Addresses of one file, in the order of the list, and its strongest digest as `algorithm:hex`."""

    addresses: tuple[str, ...]
    digest: str | None


def read_metalink(pieces: Iterable[bytes]) -> Mirrors:
    """The mirrors of the first file. Raises XmlError."""
    found = list(read_items(_Mirrors(), pieces))
    return found[0] if found else Mirrors((), None)


class _Mirrors(Reader[Mirrors]):
    def __init__(self) -> None:
        super().__init__()
        self._addresses: list[str] = []
        self._digests: dict[int, str] = {}
        self._algorithm = ""
        self._depth = 0

    def opened(self, name: str, attributes: dict[str, str]) -> None:
        if name == "alternates":  # digests of other versions of the file
            self._depth += 1
        elif name == "hash":
            self._algorithm = attributes.get("type", "").lower()

    def closed(self, name: str) -> None:
        if name == "alternates":
            self._depth -= 1
        elif name == "url" and len(self._addresses) < MIRRORS_LIMIT:
            self._addresses.append(self.words)
        elif name == "hash" and not self._depth and self._algorithm in _STRENGTH:
            algorithm = self._algorithm.replace("-", "")
            algorithm = "sha1" if algorithm == "sha" else algorithm
            self._digests[_STRENGTH[self._algorithm]] = f"{algorithm}:{self.words.lower()}"
        elif name == "file" and self._addresses:
            best = self._digests[max(self._digests)] if self._digests else None
            self.done.append(Mirrors(tuple(self._addresses), best))
            self._addresses, self._digests = [], {}
