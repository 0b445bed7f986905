"""Coverage-guided fuzzing of every reader: a process each, with its time, its memory and its crashes watched.

    python fuzzing/run.py [--inputs 1000000] [--only NAME] [--processes N]

So many inputs in all, shared out among the readers. What makes a reader raise anything but an error of the
product's own, take more than ten seconds or more than 1 GiB, is kept in `fuzzing/found`, and ends with status 1.
"""

import argparse
import re
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

HERE = Path(__file__).parent
LONGEST = 1 << 16
SECONDS, MEBIBYTES = 10, 1024


class Ran(NamedTuple):
    """How one reader fared."""

    name: str
    inputs: int
    seconds: float
    peak: int
    said: str | None


def main() -> int:
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--inputs", type=int, default=1_000_000)
    asked.add_argument("--only", action="append", default=[])
    asked.add_argument("--processes", type=int, default=2)
    asked.add_argument("--reader", help=argparse.SUPPRESS)
    asked.add_argument("rest", nargs="*", help=argparse.SUPPRESS)
    given = asked.parse_args()
    if given.reader:
        return one(given.reader, given.rest)
    from readers import READERS

    names = given.only or list(READERS)
    weights = {name: 1 if READERS[name].slow else 10 for name in names}
    share = given.inputs / sum(weights.values())
    with ThreadPoolExecutor(given.processes) as pool:
        found = list(pool.map(lambda name: watched(name, int(share * weights[name]) + 1), names))
    for ran in sorted(found, key=lambda ran: -ran.seconds):
        state = "ended well" if ran.said is None else ran.said
        print(
            f"{ran.name:22} {ran.inputs:>9,} inputs {ran.seconds:7.1f} s {ran.peak:5} MiB  {state}"
        )
    wrong = [ran for ran in found if ran.said is not None]
    print(
        f"{sum(ran.inputs for ran in found):,} inputs, {len(wrong)} of {len(found)} readers with a fault"
    )
    return int(bool(wrong))


def watched(name: str, share: int) -> Ran:
    """One reader in a process of its own."""
    kept = HERE / "found" / name.replace(" ", "-")
    kept.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as corpus:
        started = time.monotonic()
        done = subprocess.run(
            [sys.executable, str(HERE / "run.py"), "--reader", name, "--",
             f"-runs={share}", f"-max_len={LONGEST}", f"-timeout={SECONDS}", f"-rss_limit_mb={MEBIBYTES}",
             f"-artifact_prefix={kept}/", "-print_final_stats=1", "-use_value_profile=1", corpus],
            capture_output=True, text=True, errors="replace", check=False,
        )  # fmt: skip
    seconds = time.monotonic() - started
    told = dict(re.findall(r"stat::(\w+):\s+(\d+)", done.stderr))
    said = None
    if done.returncode:
        lines = [line for line in done.stderr.split("\n") if line.strip()]
        python = [
            line for line in lines if re.match(r"\s*(\w+Error|\w+Exception|ERROR|==\d+==)", line)
        ]
        said = (python or lines[-1:] or ["it ended by itself"])[0].strip()[:120]
    inputs = int(told.get("number_of_executed_units", 0))
    return Ran(name, inputs, seconds, int(told.get("peak_rss_mb", 0)), said)


def one(name: str, rest: list[str]) -> int:
    """Fuzz one reader, in this process, until it has had its share."""
    import atheris

    with atheris.instrument_imports(include=["filigree"]):
        from readers import READERS
    reader = READERS[name]

    def test(data: bytes) -> None:
        try:
            reader.read(data)
        except Exception as error:
            own = type(error).__module__.startswith("filigree")
            if not own and not isinstance(error, reader.refuses):
                raise

    corpus = Path(rest[-1])
    for number, seed in enumerate(reader.seeds):
        (corpus / f"seed{number}").write_bytes(seed[:LONGEST])
    atheris.Setup([sys.argv[0], *rest], test)
    atheris.Fuzz()
    return 0


if __name__ == "__main__":
    sys.exit(main())
