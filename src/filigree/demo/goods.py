"""From a ware to its files: paths and bytes, the same at every run."""

import hashlib
import random
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import lru_cache

from filigree.demo.world import OFFICE, SEED, Ware

BUILT = datetime(2026, 1, 12, 8, 30, tzinfo=UTC)
_WORDS = (
    "high low water spring neap tide gauge mark datum sluice lock buoy fog horn chart sound "
    "ebb flood slack moon quarter depth harbour bar channel groyne dike marsh salt station"
).split()


_AT_ONCE = 20


def arrived(number: int) -> datetime:
    """When the package of a number was installed: so many at once, a week after those before."""
    week, place = divmod(number, _AT_ONCE)
    return BUILT + timedelta(days=7 * week, hours=2, minutes=place)


@dataclass(frozen=True, slots=True)
class Good:
    """One file as it is shipped. A directory has neither content nor target.

    Goods with the same `twin` are hard links of one file.
    """

    path: str
    mode: int = 0o644
    content: bytes | None = None
    target: str | None = None
    config: bool = False
    twin: str = ""

    @property
    def is_directory(self) -> bool:
        return self.content is None and self.target is None

    @property
    def md5(self) -> str:
        """The digest of its content, in hex."""
        return hashlib.md5(self.content or b"", usedforsecurity=False).hexdigest()


def words(key: str, count: int) -> str:
    """Made-up prose, the same for the same key."""
    dice = random.Random(f"{SEED}/{key}")
    out, line = [], []
    for _ in range(count):
        line.append(dice.choice(_WORDS))
        if len(line) == 11:
            out.append(" ".join(line))
            line = []
    return "\n".join([*out, " ".join(line)]) + "\n"


def machine_code(key: str, size: int) -> bytes:
    """Something that looks like a program: the magic number of ELF, then noise."""
    dice = random.Random(f"{SEED}/{key}")
    return b"\x7fELF\x02\x01\x01" + bytes(9) + dice.randbytes(size - 16)


@lru_cache(maxsize=512)
def goods_of(ware: Ware, libraries: str = "/usr/lib") -> tuple[Good, ...]:
    """Every path of a ware, directories included and first, sorted."""
    files = [*_programs(ware), *_library(ware, libraries), *_shared(ware), *_papers(ware)]
    directories = {above for good in files for above in _above(good.path)}
    every = [Good(path, 0o755) for path in directories] + files
    return tuple(sorted(every, key=lambda good: good.path))


def _above(path: str) -> list[str]:
    parts = path.split("/")[1:-1]
    return ["/" + "/".join(parts[:depth]) for depth in range(1, len(parts) + 1)]


def _size(key: str, low: int, high: int) -> int:
    return random.Random(f"{SEED}/size/{key}").randint(low, high)


def _programs(ware: Ware) -> list[Good]:
    found = []
    for name in ware.programs:
        # The programs of such a ware are one file that looks at the name it is called by.
        key = f"{ware.name}/{'one' if ware.one_file else name}"
        if ware.any_machine:
            code = f"#!/bin/dsh\n# {ware.summary}.\n".encode() + words(key, 60).encode()
        else:
            code = machine_code(key, _size(key, 9_000, 60_000))
        directory = "/bin" if ware.essential else "/usr/bin"
        twin = ware.name if ware.one_file else ""
        found.append(Good(f"{directory}/{name}", 0o755, code, twin=twin))
        found.append(_manual(ware, name, 1))
    for name in ware.daemons:
        key = f"{ware.name}/{name}"
        found.append(
            Good(f"/usr/sbin/{name}", 0o755, machine_code(key, _size(key, 20_000, 90_000)))
        )
        found.append(_manual(ware, name, 8))
    return found


def _manual(ware: Ware, name: str, section: int) -> Good:
    text = f'.TH {name.upper()} {section} "2026-01-12" "{OFFICE}"\n.SH NAME\n'
    text += f"{name} \\- {ware.summary.lower()}\n.SH DESCRIPTION\n" + words(f"manual/{name}", 120)
    return Good(f"/usr/share/man/man{section}/{name}.{section}", 0o644, text.encode())


def _library(ware: Ware, libraries: str) -> list[Good]:
    found = []
    if ware.library:
        real = f"{ware.library}.{ware.version.partition('-')[0].partition('~')[0]}"
        key = f"{ware.name}/{libraries}"
        code = machine_code(key, _size(key, 15_000, 120_000))
        found.append(Good(f"{libraries}/{real}", 0o644, code))
        found.append(Good(f"{libraries}/{ware.library}", 0o777, target=real))
    for number in range(ware.headers):
        text = f"/* {ware.summary}. */\n" + words(f"{ware.name}/h{number}", 90)
        stem = ware.name.removesuffix("-dev").removeprefix("lib")
        found.append(Good(f"/usr/include/{stem}/{_WORDS[number]}.h", 0o644, text.encode()))
    return found


def _shared(ware: Ware) -> list[Good]:
    found = []
    for number in range(ware.data):
        key = f"{ware.name}/data{number}"
        dice = random.Random(f"{SEED}/{key}")
        rows = [
            f"{dice.randint(0, 720):>4} {dice.uniform(-4, 4):+.3f}"
            for _ in range(ware.data_size // 12)
        ]
        name = f"{dice.choice(_WORDS)}-{number + 1:02d}.tbl"
        text = "\n".join(rows) + "\n"
        found.append(Good(f"/usr/share/{ware.name}/{name}", 0o644, text.encode()))
    for locale in ware.locales:
        text = words(f"{ware.name}/{locale}", 200)
        path = f"/usr/share/locale/{locale}/LC_MESSAGES/{ware.name}.mo"
        found.append(Good(path, 0o644, text.encode()))
    for name in ware.settings:
        text = f"# {ware.summary}.\n# Settings of {ware.name}.\n" + words(f"{ware.name}/{name}", 40)
        found.append(Good(f"/etc/{name}", 0o644, text.encode(), config=True))
    return found


def _papers(ware: Ware) -> list[Good]:
    license_ = f"{ware.name} is made up by the {OFFICE}.\n"
    license_ += "It may be copied by anybody who minds the tide.\n"
    changes = f"{ware.name} ({ware.version})\n\n" + words(f"{ware.name}/changes", 150)
    folder = f"/usr/share/doc/{ware.name}"
    return [
        Good(f"{folder}/copyright", 0o644, license_.encode()),
        Good(f"{folder}/changelog", 0o644, changes.encode()),
    ]
