"""Builds small `deb` roots for tests, real bytes in the real formats."""

import hashlib
from pathlib import Path

STATUS = "var/lib/dpkg/status"
INFO = "var/lib/dpkg/info"


def md5(content: bytes) -> str:
    return hashlib.md5(content, usedforsecurity=False).hexdigest()


class DebRoot:
    """A root that grows package by package."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.write(STATUS, b"")

    @property
    def path(self) -> str:
        return str(self.folder)

    def write(self, path: str, content: bytes | str, mode: int = 0o644) -> Path:
        real = self.folder / path.lstrip("/")
        real.parent.mkdir(parents=True, exist_ok=True)
        real.write_bytes(content.encode() if isinstance(content, str) else content)
        real.chmod(mode)
        return real

    def append(self, path: str, content: bytes | str) -> None:
        real = self.folder / path
        before = real.read_bytes() if real.exists() else b""
        self.write(path, before + (content.encode() if isinstance(content, str) else content))

    def link(self, path: str, target: str) -> None:
        real = self.folder / path.lstrip("/")
        real.parent.mkdir(parents=True, exist_ok=True)
        real.symlink_to(target)

    def package(
        self,
        name: str,
        version: str = "1.0-1",
        files: dict[str, bytes] | None = None,
        config: dict[str, bytes] | None = None,
        listed: list[str] | None = None,
        status: str = "install ok installed",
        architecture: str = "amd64",
        stem: str | None = None,
        **fields: str,
    ) -> None:
        """One package: its stanza, its list, its digests, its files. `listed` adds bare paths."""
        files, config = files or {}, config or {}
        stanza = {
            "Package": name, "Status": status, "Architecture": architecture, "Version": version,
            "Description": f"The package {name}",
        }  # fmt: skip
        stanza |= {key.replace("_", "-"): value for key, value in fields.items()}
        if config:
            lines = [f" {path} {md5(content)}" for path, content in config.items()]
            stanza["Conffiles"] = "\n" + "\n".join(lines)
        text = "".join(f"{key}: {value}\n" for key, value in stanza.items())
        self.append(STATUS, text + "\n")
        stem = stem or name
        every = sorted({*files, *config, *(listed or ()), *self._above([*files, *config])})
        self.write(f"{INFO}/{stem}.list", "/.\n" + "".join(f"{path}\n" for path in every))
        if files:
            sums = [f"{md5(content)}  {path[1:]}\n" for path, content in files.items()]
            self.write(f"{INFO}/{stem}.md5sums", "".join(sums))
        for path, content in {**files, **config}.items():
            self.write(path, content)

    @staticmethod
    def _above(paths: list[str]) -> set[str]:
        found = set()
        for path in paths:
            while path := path.rpartition("/")[0]:
                found.add(path)
        return found
