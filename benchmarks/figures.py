"""Figures that are kept from run to run, beside the kind of the machine that they are of."""

import json
import os
import platform
from collections.abc import Iterator, Mapping
from pathlib import Path

KEPT = Path(__file__).with_suffix(".json")
WORSE = 1.15
Figures = dict[str, dict[str, float]]
"""By what was measured: its `ratio`, and its `peak` of memory in MiB."""
Told = Mapping[str, Mapping[str, float]]


def kind() -> str:
    """The kind of this machine; nothing that tells one of a kind from another."""
    models = {
        line.partition(":")[2].strip()
        for line in Path("/proc/cpuinfo").read_text(errors="replace").splitlines()
        if line.startswith("model name")
    }
    model = " ".join(sorted(models)) or "unknown processor"
    version = ".".join(platform.python_version_tuple()[:2])
    return f"{platform.machine()}, {len(os.sched_getaffinity(0))} of {model}, Python {version}"


def worse(now: Told, then: Told) -> Iterator[str]:
    """What is worse than it was by more than 15 %, in words."""
    for label, figures in now.items():
        for name, value in figures.items():
            before = then.get(label, {}).get(name)
            if before and value > before * WORSE:
                yield f"{label}: {name} {value:.2f}, and was {before:.2f}"


def keep(now: Figures, path: Path = KEPT) -> list[str]:
    """Keep figures in the place of those that they are newer than; what is worse than those, in words."""
    every = json.loads(path.read_text()) if path.exists() else {}
    then = every.get(kind(), {})
    told = list(worse(now, then))
    path.write_text(json.dumps({**every, kind(): {**then, **now}}, indent=1, sort_keys=True) + "\n")
    return told
