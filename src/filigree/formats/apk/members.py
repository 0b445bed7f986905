"""Archives and indexes of `apk`: members of gzip one behind the other, each a tar.

    archive = [signature] control data
    index   = [signature] list

All but the last tar have no mark of their end: read as one they are one. A signature, by a bare RSA key
that its member is named for, is over the packed bytes of the member that follows it (of an index, of all
that follow). What stands in the member of signatures is signed by nobody.
"""

from collections.abc import Iterator
from typing import NamedTuple

from filigree.formats.gzip_members import GzipMember, gzip_members
from filigree.formats.members import PayloadError
from filigree.formats.random_access import Bytes
from filigree.formats.tar_stream import tar_members
from filigree.formats.unpacking import Unpacked, UnpackError

_LEADS = ((".SIGN.RSA.", "sha1"), (".SIGN.RSA256.", "sha256"), (".SIGN.RSA512.", "sha512"))
_SIGNATURE_LIMIT = 1 << 16
_SMALL = 16 << 20
_MOST_FILES = 100


class MemberSignature(NamedTuple):
    """One signature: by which algorithm, the name of its key's file, and the signature itself."""

    algorithm: str
    key: str
    signature: bytes


class SignedMembers:
    """The members of a file, told apart. Raises UnpackError where one is damaged, or more follow.

    `strangers` are the names of what stands among the signatures and is none.
    """

    def __init__(self, source: Bytes, most: int) -> None:
        self._source = source
        self.members = list(gzip_members(source, most))
        self.signatures: list[MemberSignature] = []
        self.strangers: list[str] = []
        if self.members and self._is_of_signatures(self.members[0]):
            self._read_signatures(self.members.pop(0))

    def _is_of_signatures(self, member: GzipMember) -> bool:
        try:
            first = next(self.files(member), None)
        except (PayloadError, UnpackError):
            return False
        return first is not None and first[0].startswith(".SIGN.")

    def _read_signatures(self, member: GzipMember) -> None:
        for name, data in self.files(member, _SIGNATURE_LIMIT):
            told = next((one for one in _LEADS if name.startswith(one[0])), None)
            if told is None:
                self.strangers.append(name)
            else:
                self.signatures.append(MemberSignature(told[1], name[len(told[0]) :], data))

    def files(
        self, member: GzipMember, limit: int = _SMALL, most: int = _MOST_FILES
    ) -> Iterator[tuple[str, bytes]]:
        """The small files of a member, by name. Raises PayloadError or UnpackError."""
        stream = Unpacked(self._source, member.start, member.size, single=True)
        for number, (info, file) in enumerate(tar_members(stream, open_end=True)):
            if number >= most:
                raise PayloadError(f"more than {most} files that describe it", stream.position)
            if not info.isreg():
                continue
            if info.size > limit:
                raise PayloadError(f"{info.name[:80]} is unreasonably large", stream.position)
            data = file.content(info.size)
            if len(data) < info.size:
                raise PayloadError(f"{info.name[:80]} is cut off", stream.position)
            yield info.name.removeprefix("./"), data
