"""Signed indexes of a made-up repository, in each family's format, as a station keeps copies of them.

They are signed with a test key that is shipped with its secret part: nobody may ever trust it.
"""

import email.utils
import gzip
import hashlib
from collections.abc import Iterable
from datetime import datetime, timedelta
from functools import lru_cache
from importlib.resources import files
from typing import Any
from xml.sax.saxutils import escape, quoteattr

from filigree.demo.goods import BUILT
from filigree.demo.world import OFFICE

CODENAME = "saltmarsh"
LIFE = timedelta(days=3650)


OFFICE_KEY, STRANGER = "test-key.asc", "stranger-key.asc"


@lru_cache(maxsize=2)
def secret_key(name: str = OFFICE_KEY) -> Any:
    """A test key, its secret part included."""
    from pysequoia import Tsk

    return Tsk.from_bytes(files("filigree.demo").joinpath(name).read_bytes())


def public_key(name: str = OFFICE_KEY) -> bytes:
    """The public part, armoured."""
    return str(secret_key(name).extract_certificate()).encode()


@lru_cache(maxsize=1024)
def clear_signed(text: bytes) -> bytes:
    """A text between its signatures: the same whenever it is asked for, as of one who signs once."""
    from pysequoia import SignatureMode, sign

    return bytes(sign(secret_key().signer(), text, mode=SignatureMode.CLEAR))


@lru_cache(maxsize=1024)
def detached(data: bytes, key: str = OFFICE_KEY, armoured: bool = True) -> bytes:
    """A signature to lie beside what it is of."""
    from pysequoia import SignatureMode, sign

    signer = secret_key(key).signer()
    return bytes(sign(signer, data, mode=SignatureMode.DETACHED, armor=armoured))


def release_file(
    indexes: dict[str, bytes],
    suite: str = CODENAME,
    made: datetime = BUILT,
    expires: datetime | None = BUILT + LIFE,
    **more: str,
) -> bytes:
    """The text that a `deb` repository signs, with the digests of its indexes by path."""
    fields = {
        "Origin": OFFICE,
        "Label": "Coast",
        "Suite": suite,
        "Codename": suite,
        "Date": email.utils.format_datetime(made, usegmt=True),
        "Acquire-By-Hash": "yes",
        "Architectures": "all amd64 arm64",
        "Components": "main",
        **more,
    }
    if expires is not None:
        fields["Valid-Until"] = email.utils.format_datetime(expires, usegmt=True)
    lines = [f"{name}: {value}" for name, value in fields.items()]
    lines.append("SHA256:")
    for path, content in indexes.items():
        lines.append(f" {hashlib.sha256(content).hexdigest()} {len(content):>8} {path}")
    return ("\n".join(lines) + "\n").encode()


def primary_xml(packages: Iterable[tuple[str, ...]]) -> bytes:
    """The list of packages of an `rpm` repository.

    Of each name, epoch, version, release, machine, summary, and perhaps more elements as they are.
    """
    rows = [
        f'<package type="rpm"><name>{escape(name)}</name><arch>{machine}</arch>'
        f"<version epoch={quoteattr(epoch)} ver={quoteattr(version)} rel={quoteattr(release)}/>"
        f"<summary>{escape(summary)}</summary>{''.join(more)}</package>"
        for name, epoch, version, release, machine, summary, *more in packages
    ]
    head = '<?xml version="1.0" encoding="UTF-8"?>\n<metadata xmlns="urn:tides:common" xmlns:rpm="urn:tides:rpm" '
    return (head + f'packages="{len(rows)}">\n' + "\n".join(rows) + "\n</metadata>\n").encode()


def repomd_xml(indexes: dict[str, bytes], made: datetime = BUILT) -> tuple[bytes, dict[str, bytes]]:
    """The list of the indexes, and the files that it lists, compressed, by name."""
    parts, out = [], {}
    for kind, content in indexes.items():
        packed = gzip.compress(content, mtime=0)
        digest = hashlib.sha256(packed).hexdigest()
        name = f"{digest}-{kind}.xml.gz"
        out[name] = packed
        parts.append(
            f'<data type="{kind}"><checksum type="sha256">{digest}</checksum>'
            f'<open-checksum type="sha256">{hashlib.sha256(content).hexdigest()}</open-checksum>'
            f'<location href="repodata/{name}"/><timestamp>{int(made.timestamp())}</timestamp>'
            f"<size>{len(packed)}</size><open-size>{len(content)}</open-size></data>"
        )
    text = '<?xml version="1.0" encoding="UTF-8"?>\n<repomd xmlns="urn:tides:repo"><revision>'
    return (text + f"{int(made.timestamp())}</revision>{''.join(parts)}</repomd>\n").encode(), out
