"""Stores to be asked: the forty hosts of the demo, made once."""

from pathlib import Path

import pytest

from filigree.demo.fleet import taken_from, write_fleet
from filigree.fleet.store import FleetStore
from filigree.fleet.taking import Taken

pytest.importorskip("duckdb", reason="the engine is an extra")


@pytest.fixture(scope="session")
def taken(settled: Path, heron: Path, curlew: Path) -> dict[str, Taken]:
    """Stations as rows: heron before the night (`settled`) and after it (`heron`), and curlew."""
    return {
        name: taken_from(root, name)
        for name, root in (("settled", settled), ("heron", heron), ("curlew", curlew))
    }


@pytest.fixture(scope="session")
def forty(taken: dict[str, Taken], tmp_path_factory: pytest.TempPathFactory) -> FleetStore:
    """The store of the demo. Shared: no test may write to it."""
    place = tmp_path_factory.mktemp("fleet")
    quiet = {"heron": taken["settled"], "curlew": taken["curlew"]}
    write_fleet(place, quiet, taken["heron"])
    return FleetStore(str(place / "fleet"))
