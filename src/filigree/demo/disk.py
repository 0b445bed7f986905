"""Puts files on a station's disk, with times that are the same at every run."""

import os
import shutil
from collections.abc import Iterable
from datetime import datetime
from pathlib import Path

from filigree.demo.goods import BUILT, Good


class Disk:
    """A folder that is a station's root, emptied first unless what is there is kept. Paths are absolute,
    as the station sees them."""

    def __init__(self, folder: Path, keep: bool = False) -> None:
        self.folder = folder
        if keep:
            return
        if folder.exists():
            shutil.rmtree(folder)
        folder.mkdir(parents=True)

    def real(self, path: str) -> Path:
        """The path in the world outside. Links on the way to it are the station's own."""
        return self.folder / path.lstrip("/")

    def directory(self, path: str, mode: int = 0o755) -> None:
        """Make a directory."""
        real = self.real(path)
        if not real.exists():
            self._above(real)
            real.mkdir()
            real.chmod(mode)

    def file(
        self, path: str, content: bytes | str, mode: int = 0o644, at: datetime = BUILT
    ) -> None:
        """Write a file."""
        real = self.real(path)
        self._above(real)
        real.write_bytes(content.encode() if isinstance(content, str) else content)
        real.chmod(mode)
        self.touch(path, at)

    def link(self, path: str, target: str, at: datetime = BUILT) -> None:
        """Make a symbolic link."""
        real = self.real(path)
        self._above(real)
        if real.is_symlink() or real.exists():
            real.unlink()
        real.symlink_to(target)
        self.touch(path, at)

    def remove(self, path: str) -> None:
        """Take a file away."""
        self.real(path).unlink()

    def touch(self, path: str, at: datetime) -> None:
        """Set when a path was last changed."""
        seconds = at.timestamp()
        os.utime(self.real(path), (seconds, seconds), follow_symlinks=False)

    def ship(self, goods: Iterable[Good], at: datetime = BUILT) -> None:
        """Put down files as they are shipped."""
        twins: dict[str, Path] = {}
        for good in goods:
            if good.twin in twins:
                self.real(good.path).hardlink_to(twins[good.twin])
                continue
            if good.twin:
                twins[good.twin] = self.real(good.path)
            if good.target is not None:
                self.link(good.path, good.target, at)
            elif good.content is not None:
                self.file(good.path, good.content, good.mode, at)
            else:
                self.directory(good.path, good.mode)

    @staticmethod
    def _above(real: Path) -> None:
        real.parent.mkdir(parents=True, exist_ok=True)
