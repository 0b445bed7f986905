"""A fleet in a real object server, on the loopback address. Run by make peers.

The server is a program of its own, out of the package index; it reports to nobody, and listens to nobody
else. Two gatherers go through it at once, and one is ended.
"""

import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from tools.cluster import PEERS

from filigree.fleet.gate import Gathering, take_in
from filigree.fleet.store import LISTS, FleetStore
from filigree.fleet.taking import Taken
from tests.fleet.conftest import taken
from tests.fleet.test_store import NOW, named

SERVER = PEERS / "bin" / "moto_server"
pytestmark = [
    pytest.mark.peers,
    pytest.mark.skipif(
        not SERVER.exists(), reason="there is no object server here: make peers gets it"
    ),
]
__all__ = ["taken"]
HOW = Gathering(now=NOW)
ADDRESS = "s3://tides/north"


@pytest.fixture(scope="module")
def server() -> Iterator[str]:
    """Where it answers; with a bucket in it."""
    with socket.create_server(("127.0.0.1", 0)) as held:
        port = held.getsockname()[1]
    process = subprocess.Popen(
        [str(SERVER), "-H", "127.0.0.1", "-p", str(port)], start_new_session=True,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        env={**os.environ, "DO_NOT_TRACK": "1", "TELEMETRY": "off"},
    )  # fmt: skip
    where = f"http://127.0.0.1:{port}"
    try:
        for _ in range(200):
            try:
                assert httpx.put(f"{where}/tides", timeout=5).status_code == 200
                break
            except httpx.TransportError:
                time.sleep(0.1)
        yield where
    finally:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()


@pytest.fixture
def settings(server: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> dict[str, str]:
    """What those who speak to object stores look for in the environment; and an empty bucket."""
    told = {
        "AWS_ACCESS_KEY_ID": "tide", "AWS_SECRET_ACCESS_KEY": "table", "AWS_REGION": "us-east-1",
        "AWS_ENDPOINT": server, "AWS_ALLOW_HTTP": "true", "XDG_CACHE_HOME": str(tmp_path / "cache"),
    }  # fmt: skip
    for name, value in told.items():
        monkeypatch.setenv(name, value)
    assert httpx.post(f"{server}/moto-api/reset", timeout=5).status_code == 200
    assert httpx.put(f"{server}/tides", timeout=5).status_code == 200
    return told


def opened(tmp_path: Path, make: bool = False) -> FleetStore:
    return FleetStore(ADDRESS, make=make, cache=str(tmp_path / "cache" / "filigree"))


def program(*words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "filigree", "fleet", *words],
        capture_output=True, text=True, check=False,
    )  # fmt: skip


def test_the_program_gathers_and_asks_there(settings: dict[str, str], heron: Path) -> None:
    assert settings
    gathered = program("gather", ADDRESS, "--root", str(heron), "--name", "heron")
    assert "heron\tgathered" in gathered.stdout, gathered.stderr
    told = program("owner", ADDRESS, "/usr/bin/tidegauge")
    assert "altered" in told.stdout
    assert "could have made up which files count" in told.stderr
    assert program("tidy", ADDRESS).returncode == 0
    # And what it wrote is what its names say, as another client reads it.
    read = subprocess.run(
        [str(PEERS / "bin" / "python"), "-c", _READ], capture_output=True, text=True, check=True
    ).stdout.split()
    kept = dict(zip(read[::2], read[1::2], strict=True))
    assert any(name.endswith(".parquet") for name in kept)
    for name, digest in kept.items():
        assert name.startswith("north/lists/") or name.endswith(f"/{digest}.parquet")


_READ = """
import boto3, hashlib, os
client = boto3.client("s3", endpoint_url=os.environ["AWS_ENDPOINT"])
for one in client.list_objects_v2(Bucket="tides", Prefix="north/")["Contents"]:
    data = client.get_object(Bucket="tides", Key=one["Key"])["Body"].read()
    print(one["Key"], hashlib.sha256(data).hexdigest())
"""


def test_a_list_is_made_but_once(settings: dict[str, str], tmp_path: Path) -> None:
    assert settings
    one, other = opened(tmp_path, make=True), opened(tmp_path, make=True)
    assert one.commit([])
    assert not other.commit([])
    other.refresh()
    assert other.commit([])
    assert one.shelf.names(LISTS) == ["00000001.json", "00000002.json"]


def test_two_that_gather_at_once_lose_nothing(
    settings: dict[str, str], taken: dict[str, Taken], tmp_path: Path
) -> None:
    assert settings
    one, other = opened(tmp_path, make=True), opened(tmp_path, make=True)
    for number in range(3):
        assert take_in(one, [named(taken["heron"], f"a{number}")], HOW) == 1
        assert take_in(other, [named(taken["curlew"], f"b{number}")], HOW) == 1
    told = program("hosts", ADDRESS, "--format", "csv").stdout.splitlines()
    assert {line.partition(",")[0] for line in told[1:]} == {
        *(f"a{n}" for n in range(3)), *(f"b{n}" for n in range(3)),
    }  # fmt: skip


def test_a_gatherer_that_is_ended_costs_nothing_that_was_there(
    settings: dict[str, str], heron: Path, taken: dict[str, Taken], tmp_path: Path
) -> None:
    store = opened(tmp_path, make=True)
    take_in(store, [named(taken["curlew"], "before")], HOW)
    words = ["gather", ADDRESS, "--root", str(heron), "--name", "after", "--without-findings"]
    for wait in (0.2, 0.8, 1.5, 2.5):
        running = subprocess.Popen(
            [sys.executable, "-m", "filigree", "fleet", *words], env={**os.environ, **settings},
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        time.sleep(wait)
        os.killpg(running.pid, signal.SIGKILL)
        running.wait()
        told = program("hosts", ADDRESS, "--format", "csv").stdout.splitlines()[1:]
        assert {line.partition(",")[0] for line in told} in ({"before"}, {"before", "after"})
    assert program("gather", *words[1:]).returncode in (0, 3)
    assert "after" in program("hosts", ADDRESS).stdout
    assert program("tidy", ADDRESS).returncode == 0


def test_a_server_that_is_not_there_is_told(
    settings: dict[str, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    assert settings
    monkeypatch.setenv("AWS_ENDPOINT", "http://127.0.0.1:1")
    done = program("hosts", ADDRESS)
    assert done.returncode == 2
    assert "Traceback" not in done.stderr
    assert len(done.stderr.splitlines()) < 6
