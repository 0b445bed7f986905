"""Findings of the other two families: a settled station, one thing done to it, and what comes of that.

What is asked is what a change adds to the findings of the station as it was: each rule, and no other.
"""

import gzip
import os
import shutil
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

import pytest

from filigree.demo.dunlin import build_dunlin
from filigree.demo.plover import build_plover
from filigree.demo.stages import SETTLED
from filigree.model.findings import Part
from filigree.questions.rules.findings import FindingsWish, findings
from filigree.system import open_system

NOW = datetime(2026, 3, 1, 12, tzinfo=UTC)
_BUILDERS = {"plover": build_plover, "dunlin": build_dunlin}


class Ground(NamedTuple):
    """A station to be changed at will."""

    folder: Path

    def write(self, path: str, content: bytes | str, mode: int = 0o644) -> None:
        real = self.folder / path
        real.parent.mkdir(parents=True, exist_ok=True)
        real.unlink(missing_ok=True)
        real.write_bytes(content.encode() if isinstance(content, str) else content)
        real.chmod(mode)

    def change(self, path: str, was: str, now: str) -> None:
        text = (self.folder / path).read_text()
        assert was in text
        self.write(path, text.replace(was, now, 1))

    def record(self, pattern: str) -> str:
        found = sorted(self.folder.glob(pattern))
        return str(found[0].relative_to(self.folder))


Do = Callable[[Ground], object]


def swap(path: str, content: bytes = b"other", mode: int = 0o755) -> Do:
    return lambda ground: ground.write(path, content, mode)


def mode(path: str, bits: int) -> Do:
    return lambda ground: (ground.folder / path).chmod(bits)


def gone(path: str) -> Do:
    return lambda ground: (ground.folder / path).unlink()


def link(path: str, target: str) -> Do:
    def do(ground: Ground) -> None:
        (ground.folder / path).unlink(missing_ok=True)
        (ground.folder / path).symlink_to(target)

    return do


def same_size(path: str) -> Do:
    def do(ground: Ground) -> None:
        data = (ground.folder / path).read_bytes()
        ground.write(path, bytes([data[0] ^ 1]) + data[1:], 0o755)

    return do


def change(path: str, was: str, now: str) -> Do:
    return lambda ground: ground.change(path, was, now)


def both(*deeds: Do) -> Do:
    def do(ground: Ground) -> None:
        for one in deeds:
            one(ground)

    return do


def listing(package: str, path: str, words: str) -> Do:
    """The listing of a package's files, with other words in the line of one."""

    def do(ground: Ground) -> None:
        where = ground.record(f"var/lib/pacman/local/{package}-[0-9]*/mtree")
        lines = gzip.decompress((ground.folder / where).read_bytes()).decode().splitlines()
        lines = [
            f"{one} {words}" if one.startswith(f"./{path} ") else one for one in lines
        ]  # fmt: skip
        ground.write(where, gzip.compress("\n".join(lines).encode() + b"\n"))

    return do


_CONF = "etc/pacman.conf"
_TOUCHED = "policy-came-late"
"""The station's own exclusion stands in the same file, and whoever changes that may have changed it."""
_UNIT = "etc/systemd/system/gull.service"
ARCH: dict[str, tuple[Do, set[str]]] = {
    "nothing": (lambda _: None, set()),
    "a program of the same size": (same_size("usr/bin/foghorn"), {"code-altered"}),
    "a program of another size": (swap("usr/bin/foghorn"), {"code-altered"}),
    "a library": (same_size("usr/lib/libkelp.so.1.1.2.13"), {"code-altered"}),
    "a library is gone": (gone("usr/lib/libkelp.so.1.1.2.13"), {"code-missing"}),
    "a program is gone": (gone("usr/bin/foghorn"), {"code-missing"}),
    "data are altered": (
        swap("usr/share/tidetables/groyne-02.tbl", b"another", 0o644), {"data-altered"}
    ),
    "data are gone": (gone("usr/share/tidetables/groyne-02.tbl"), {"data-missing"}),
    "a program with others' rights": (mode("usr/bin/siltmeter", 0o4755), {"rights-came"}),
    "a program that nobody may run": (mode("usr/bin/siltmeter", 0o644), {"form-altered"}),
    "a program that anybody may write": (
        mode("usr/bin/siltmeter", 0o757), {"form-altered", "writable-by-anybody"}
    ),
    "a library's link leads elsewhere": (
        link("usr/lib/libbrine.so.2", "/var/tmp/.brine"), {"leads-elsewhere"}
    ),
    "a setting is edited": (swap("etc/tidegauge/gauge.conf", b"edited", 0o644), set()),
    "a program of nobody's": (swap("usr/bin/gullcheck"), {"program-of-nobody"}),
    "one that is found first": (swap("usr/local/bin/foghorn"), {"shadowing-program"}),
    "a unit of nobody's": (swap(_UNIT, b"[Service]", 0o644), {"start-of-nobody"}),
    "a hook of nobody's": (
        swap("etc/pacman.d/hooks/quay.hook", b"[Trigger]", 0o644), {"hook-of-nobody"}
    ),
    "signatures are not asked for": (
        change(_CONF, "SigLevel = Required DatabaseOptional", "SigLevel = Never"),
        {"unsigned-allowed", _TOUCHED},
    ),
    "a repository in the clear": (
        change(_CONF, "Server = https:", "Server = http:"), {"fetched-in-the-clear", _TOUCHED}
    ),
    "an exclusion hides a program": (
        both(
            change(_CONF, "NoExtract = ", "NoExtract = usr/bin/foghorn "), gone("usr/bin/foghorn")
        ),
        {"policy-came-late"},
    ),
    "an exclusion that hides nothing": (
        change(_CONF, "NoExtract = ", "NoExtract = usr/bin/foghorn "), {_TOUCHED}
    ),
    "an exclusion hides no other content": (
        both(change(_CONF, "NoExtract = ", "NoExtract = usr/bin/foghorn "), swap("usr/bin/foghorn")),
        {"code-altered", _TOUCHED},
    ),
    "a listing is made to fit another mode": (
        both(listing("siltmeter", "usr/bin/siltmeter", "mode=4755"), mode("usr/bin/siltmeter", 0o4755)),
        set(),
    ),
    "what it needs is not there": (
        change("var/lib/pacman/local/foghorn-3.2.0-1/desc", "%DEPENDS%\n", "%DEPENDS%\nquay\n"),
        {"need-unmet"},
    ),
}  # fmt: skip
_MIRRORS = "etc/slackpkg/mirrors"
SLACKWARE: dict[str, tuple[Do, set[str]]] = {
    "nothing": (lambda _: None, set()),
    "a program is gone": (gone("usr/bin/foghorn"), {"code-missing"}),
    "data are gone": (gone("usr/share/tidetables/groyne-02.tbl"), {"data-missing"}),
    "a library is gone": (gone("usr/lib64/libkelp.so.1.1.2.13"), {"code-missing"}),
    "a library's link leads elsewhere": (
        link("usr/lib64/libbrine.so.2", "/var/tmp/.brine"), {"leads-elsewhere"}
    ),
    "a program of nobody's": (swap("usr/bin/gullcheck"), {"program-of-nobody"}),
    "one with others' rights": (swap("usr/bin/gullcheck", mode=0o4755), {"rights-came"}),
    "a program with others' rights": (mode("usr/bin/foghorn", 0o4755), {"rights-untold"}),
    "one that is found first": (swap("usr/local/bin/foghorn"), {"shadowing-program"}),
    "a job of nobody's": (swap("etc/cron.d/gull", b"x", 0o644), {"start-of-nobody"}),
    "a program that anybody may write": (mode("usr/bin/foghorn", 0o777), {"writable-by-anybody"}),
    "a directory of programs may be": (
        mode("usr/bin", 0o777), {"form-altered", "writable-by-anybody"}
    ),
    "a setting is edited": (swap("etc/tidegauge/gauge.conf", b"edited", 0o644), set()),
    "a repository in the clear": (
        change(_MIRRORS, "https://packages", "http://packages"), {"fetched-in-the-clear"}
    ),
    "a repository of another release": (
        change(_MIRRORS, "coast64/", "coast64-11.2/"), {"other-release"}
    ),
    "a repository of this release": (change(_MIRRORS, "coast64/", "coast64-12/"), set()),
    "signatures are not asked for": (
        lambda ground: ground.write("etc/slackpkg/slackpkg.conf", "CHECKGPG=off\n"),
        {"unsigned-allowed"},
    ),
}  # fmt: skip
_LEFT = frozenset({Part.ARCHIVES, Part.RUNNING})
Told = set[tuple[str, str]]


def told(root: Path) -> Told:
    with open_system(str(root)) as system:
        answer = findings(system, FindingsWish(now=NOW, without=_LEFT))
    return {
        (row.rule, one)
        for row in answer.records
        for one in (row.paths or row.subjects or row.packages)
    }


@pytest.fixture(scope="module")
def before(tmp_path_factory: pytest.TempPathFactory) -> dict[str, tuple[Path, Told]]:
    """The stations before the night, without the archives that they kept, and what is told of them."""
    found = {}
    for name, build in _BUILDERS.items():
        root = build(tmp_path_factory.mktemp("before") / name, SETTLED)
        shutil.rmtree(root / "var/cache", ignore_errors=True)
        found[name] = root, told(root)
    return found


@pytest.mark.skipif(os.geteuid() != 0, reason="owners of a copy are only kept with root's rights")
@pytest.mark.parametrize(
    ("station", "name"),
    [("plover", name) for name in ARCH] + [("dunlin", name) for name in SLACKWARE],
)
def test_each_rule_fires_where_it_is_to_and_nowhere_else(
    tmp_path: Path, before: dict[str, tuple[Path, Told]], station: str, name: str
) -> None:
    root, known = before[station]
    own = tmp_path / station
    shutil.copytree(root, own, symlinks=True)
    do, expected = (ARCH if station == "plover" else SLACKWARE)[name]
    do(Ground(own))
    now = told(own)
    assert {rule for rule, _ in now - known} == expected, now ^ known
