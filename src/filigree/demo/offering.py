"""What the office offers its stations: repositories of each family, with every index and every archive.

Below `coast` one of the first family, with a suite in good order, one for what is urgent, and one of
trials that has long expired; below `rpm/base` one of the second. Files by their paths, the same at every
build but for the signatures, which carry the time.
"""

import hashlib
from functools import lru_cache
from pathlib import Path

from filigree.demo import deb
from filigree.demo.goods import goods_of
from filigree.demo.offered_wares import (
    GROUPS,
    LIBRARIES,
    MADE,
    members_of,
    suites,
)
from filigree.demo.repository import (
    clear_signed,
    detached,
    public_key,
    release_file,
)
from filigree.demo.rpm_bytes import PACKERS
from filigree.demo.rpm_repository import rpm_repository
from filigree.demo.world import Ware

# -- the first family -----------------------------------------------------------------------


@lru_cache(maxsize=4)
def deb_indexes(suite: str) -> tuple[dict[str, bytes], bytes]:
    """The indexes of a suite by their paths within it, not packed; and the text of its signed file."""
    one = next(known for known in suites() if known.name == suite)
    packages = [_of_deb(ware) for ware in one.wares]
    stanzas, texts = [], []
    paths: list[tuple[str, str]] = []
    for package in packages:
        place, content = pooled(package.ware)
        stanza, text = _index_stanza(package, place, content)
        stanzas.append(stanza)
        texts.append(text)
        paths += (
            (good.path[1:], f"{package.ware.section}/{package.ware.name}")
            for good in package.goods
            if not good.is_directory
        )
    indexes = {
        "main/binary-amd64/Packages": "\n".join(stanzas).encode(),
        "main/i18n/Translation-en": "\n".join(texts).encode(),
        "main/Contents-amd64": "".join(f"{p:<60} {h}\n" for p, h in sorted(paths)).encode(),
    }
    more = {"NotAutomatic": "yes"} if one.asked_only else {}
    more["Label"] = one.label
    every = {**indexes, **{f"{path}.gz": PACKERS["gzip"](c) for path, c in indexes.items()}}
    return indexes, release_file(every, suite, MADE, one.expires, **more)


def _index_stanza(one: deb.Installed, place: str, content: bytes) -> tuple[str, str]:
    """The stanza of an index, and that of the long description, which is kept apart."""
    kept: list[str] = []
    described: list[str] = []
    for line in deb.stanza(one).splitlines():
        field = line.partition(":")[0]
        if line.startswith(" "):
            if described and not line.startswith(" /"):
                described.append(line)
        elif field == "Description":
            described.append(line.partition(": ")[2])
        elif field not in ("Status", "Conffiles"):
            kept.append(line)
    text = "\n".join(described) + "\n"
    key = hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()
    tasks = [group.identity for group in GROUPS if one.ware.name in members_of(group)]
    kept += [f"Task: {', '.join(tasks)}"] if tasks else []
    kept += [
        f"Description: {described[0]}", f"Description-md5: {key}", f"Filename: {place}",
        f"Size: {len(content)}", f"SHA256: {hashlib.sha256(content).hexdigest()}",
    ]  # fmt: skip
    stanza = f"Package: {one.ware.name}\nDescription-md5: {key}\nDescription-en: {text}"
    return "\n".join(kept) + "\n", stanza


def _of_deb(ware: Ware) -> deb.Installed:
    machine = "all" if ware.any_machine else "amd64"
    return deb.Installed(ware, goods_of(ware, LIBRARIES), architecture=machine)


@lru_cache(maxsize=512)
def pooled(ware: Ware) -> tuple[str, bytes]:
    """The archive of a ware of the first family, and its place below the repository."""
    one = _of_deb(ware)
    content = deb.archive(one, "gzip")
    return f"pool/main/{ware.name}_{ware.version}_{one.architecture}.deb", content


def deb_repository() -> dict[str, bytes]:
    """Every file of the repository, below its address."""
    files: dict[str, bytes] = {}
    for suite in suites():
        indexes, release = deb_indexes(suite.name)
        front = f"dists/{suite.name}"
        for path, content in indexes.items():
            packed = PACKERS["gzip"](content)
            files[f"{front}/{path}.gz"] = packed
            folder = path.rpartition("/")[0]
            named = hashlib.sha256(packed).hexdigest()
            files[f"{front}/{folder}/by-hash/SHA256/{named}"] = packed
        files[f"{front}/InRelease"] = clear_signed(release)
        files[f"{front}/Release"] = release
        files[f"{front}/Release.gpg"] = detached(release)
        files.update(map(pooled, suite.wares))
    return files


# -- the second family ----------------------------------------------------------------------


def write_repositories(folder: Path) -> Path:
    """Write them all below a folder, with the public key beside them."""
    every = {f"coast/{path}": content for path, content in deb_repository().items()}
    every |= {f"rpm/base/{path}": content for path, content in rpm_repository().items()}
    every["coast.asc"] = public_key()
    for path, content in every.items():
        real = folder / path
        real.parent.mkdir(parents=True, exist_ok=True)
        real.write_bytes(content)
    return folder
