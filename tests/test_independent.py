"""What our own writer writes, read by programs that others wrote: both must see the same."""

import shutil
import sqlite3
import subprocess
from pathlib import Path

import pytest

from filigree.demo.archives import CUT_OFF, TRICKY
from filigree.questions.commands.contents import contents
from filigree.system import open_system

Archives = dict[str, Path]
WHOLE = [
    "tidegauge_2.2-1_amd64.deb", "brine-data_2.1.4-3_all.deb", "lanternfish_0.3-1_amd64.deb", TRICKY,
    "tidegauge-2.2-1.x86_64.rpm", "siltmeter-0.4.0-1.x86_64.rpm", "lanternfish-0.3-1.x86_64.rpm",
    "weatherglass-6.2-1.x86_64.rpm",
]  # fmt: skip


def output(*command: str, data: bytes | None = None) -> bytes:
    if shutil.which(command[0]) is None:
        pytest.skip(f"{command[0]} is not here to judge")
    return subprocess.run(command, input=data, capture_output=True, check=True).stdout


def payload(path: Path) -> list[str]:
    """The long listing of an archive's payload, by bsdtar."""
    if path.suffix == ".rpm":
        return output("bsdtar", "tvf", str(path)).decode().splitlines()
    members = output("bsdtar", "tf", str(path)).decode().split()
    (name,) = [member for member in members if member.startswith("data.tar")]
    inner = output("bsdtar", "xOf", str(path), name)
    return output("bsdtar", "tvf", "-", data=inner).decode().splitlines()


@pytest.mark.parametrize("name", WHOLE)
def test_bsdtar_lists_the_same_payload(archives: Archives, curlew: Path, name: str) -> None:
    rows = contents(open_system(str(curlew)), [str(archives[name])]).records
    ours = set()
    for row in rows:
        if row.remarks != ("not shipped: only its place is claimed",):
            end = f" -> {row.link_target}" if row.link_target else ""
            ours.add((f".{row.path}{end}", row.size if row.digest else 0))
    theirs = set()
    for text in payload(archives[name]):
        words = text.split(maxsplit=8)
        kind, size, path = words[0][0], int(words[4]), words[8]
        theirs.add((path.rstrip("/"), size if kind == "-" else 0))
    assert {path for path, _ in ours} == {path for path, _ in theirs}
    assert ours == theirs


@pytest.mark.parametrize("name", [*WHOLE, CUT_OFF])
def test_file_names_the_type(archives: Archives, name: str) -> None:
    told = output("file", "--brief", str(archives[name])).decode()
    assert told.startswith("RPM" if name.endswith(".rpm") else "Debian binary package (format 2.0)")


def test_sqlite_opens_the_database_of_the_station(curlew: Path) -> None:
    path = curlew / "usr/lib/sysimage/rpm/rpmdb.sqlite"
    told = output("sqlite3", str(path), "PRAGMA integrity_check; SELECT count(*) FROM Packages")
    packages = len(open_system(str(curlew)).packages)
    # One of them is the office's key, which is no software.
    assert told.decode().split() == ["ok", str(packages + 1)]
    with sqlite3.connect(path) as connection:
        assert connection.execute("SELECT count(*) FROM Packages").fetchone() == (packages + 1,)


def test_sha256sum_agrees_with_the_records_of_the_station(curlew: Path) -> None:
    system = open_system(str(curlew))
    for package in system.packages:
        if package.name in ("buoywatch", "quayside", "jetty"):
            rows = [r for r in system.database.files(package) if r.digest and r.config]
            for row in rows:
                told = output("sha256sum", str(curlew / row.path.lstrip("/"))).split()[0].decode()
                same = row.path != "/etc/buoywatch.conf"
                assert (row.digest == f"sha256:{told}") is same
