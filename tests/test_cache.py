"""What the auditor keeps is believed only where nobody else could have written it."""

import hashlib
import os
import shutil
import sqlite3
import stat
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from filigree.access.private_folder import make_private, open_private, why_not_private
from filigree.demo.deb import Installed, archive
from filigree.demo.goods import goods_of
from filigree.demo.heron import build_heron
from filigree.demo.offering import write_repositories
from filigree.demo.server import serving
from filigree.demo.world import WARES
from filigree.families.deb import places
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.model.files import Evidence, Verdict
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.census import Filter, census
from filigree.questions.commands.refresh import refresh
from filigree.questions.commands.verify import verify
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.planning.future import Plan
from filigree.questions.reporting.inventory import inventory
from filigree.questions.verifying.verdicts import Manner
from filigree.system import open_system

root_only = pytest.mark.skipif(os.geteuid() != 0, reason="only root can give files away")


def offered(root: Path, cache: Path) -> Answer[object, Any]:
    with open_system(str(root)) as system:
        options = RepositoryOptions(cache=str(cache))
        return census(system, Filter(), scope=Scope.AVAILABLE, options=options)  # type: ignore[return-value]


def forge(cache: Path) -> None:
    """Let a kept table offer what no index offers."""
    for path in cache.glob("offers-*.sqlite"):
        with sqlite3.connect(path) as connection:
            connection.execute("UPDATE offers SET name = 'gullfeather' WHERE name = 'tidegauge'")
            connection.execute(
                "UPDATE offers SET record = replace(record, 'tidegauge', 'gullfeather')"
            )


@pytest.fixture
def cache(heron: Path, tmp_path: Path) -> Path:
    """A cache that was filled by an earlier run, and is not quite honest."""
    folder = tmp_path / "home/cache/filigree"
    offered(heron, folder)
    forge(folder)
    assert "gullfeather" in {row.name for row in offered(heron, folder).records}  # type: ignore[attr-defined]
    return folder


def _linked(path: Path) -> None:
    away = path.with_name(f"{path.name}-away")
    path.rename(away)
    path.symlink_to(away)


def _given(path: Path) -> None:
    os.chown(path, 950, 950)


def test_no_digest_of_what_would_come_rests_on_a_kept_table(heron: Path, tmp_path: Path) -> None:
    """Whoever wrote into the table would have their archive in a document of the auditor's."""
    options = RepositoryOptions(cache=str(tmp_path / "cache"))

    def told() -> set[str]:
        with open_system(str(heron)) as system:
            records = inventory(system, False, options, Plan(("weirgate",))).records
        return {one.digest for one in records if one.digest is not None}

    (digest,) = told()
    assert told() == {digest}
    for path in (tmp_path / "cache").glob("offers-*.sqlite"):
        with sqlite3.connect(path) as connection:
            connection.execute(
                "UPDATE offers SET record = replace(record, ?, ?)",
                (digest.partition(":")[2], "0" * 64),
            )
    assert told() == set()


FOLDER_HARM: dict[str, Callable[[Path], object]] = {
    "writable by all": lambda cache: cache.chmod(0o777),
    "writable by a group": lambda cache: cache.chmod(0o770),
    "sticky": lambda cache: cache.chmod(0o1777),
    "a link": _linked,
    "above it, writable by all": lambda cache: cache.parent.chmod(0o777),
    "far above it, writable by a group": lambda cache: cache.parent.parent.chmod(0o775),
}


@pytest.mark.parametrize("harm", FOLDER_HARM)
def test_a_folder_that_others_could_write_to_is_not_used(
    heron: Path, cache: Path, harm: str
) -> None:
    FOLDER_HARM[harm](cache)
    before = sorted(cache.iterdir())
    answer = offered(heron, cache)
    names = {row.name for row in answer.records}  # type: ignore[attr-defined]
    assert ("gullfeather" in names, "tidegauge" in names) == (False, True)
    assert any("it is not used" in gap.why for gap in answer.gaps)
    assert answer.exit_status == 3
    assert sorted(cache.iterdir()) == before


@root_only
@pytest.mark.parametrize("whose", ["", ".."])
def test_a_folder_of_somebody_else_s_is_not_used(heron: Path, cache: Path, whose: str) -> None:
    _given(cache / whose if whose else cache)
    answer = offered(heron, cache)
    assert "gullfeather" not in {row.name for row in answer.records}  # type: ignore[attr-defined]
    assert any("belongs to somebody else" in gap.why for gap in answer.gaps)


FILE_HARM: dict[str, Callable[[Path], object]] = {
    "writable by all": lambda path: path.chmod(0o666),
    "writable by a group": lambda path: path.chmod(0o620),
    "a link": _linked,
    "given away": _given,
}


@pytest.mark.parametrize("harm", [h for h in FILE_HARM if h != "given away" or os.geteuid() == 0])
def test_a_table_that_others_could_write_to_is_made_anew(
    heron: Path, cache: Path, harm: str
) -> None:
    for path in list(cache.glob("offers-*.sqlite")):
        FILE_HARM[harm](path)
    assert "gullfeather" not in {row.name for row in offered(heron, cache).records}  # type: ignore[attr-defined]
    for path in cache.glob("offers-*.sqlite"):
        if not path.is_symlink():
            assert stat.S_IMODE(path.stat().st_mode) == 0o600


def test_a_link_above_the_user_s_own_cache_is_nothing_odd(heron: Path, tmp_path: Path) -> None:
    (tmp_path / "disk").mkdir(mode=0o755)
    (tmp_path / "home").symlink_to(tmp_path / "disk")
    cache = tmp_path / "home/cache"
    assert not any("not used" in gap.why for gap in offered(heron, cache).gaps)
    assert list((tmp_path / "disk/cache").iterdir())


def test_what_is_kept_is_made_for_the_caller_alone(heron: Path, tmp_path: Path) -> None:
    before = os.umask(0)
    try:
        cache = tmp_path / "deep/er/cache"
        offered(heron, cache)
        served = write_repositories(tmp_path / "served")
        with serving(served) as server, open_system(str(heron)) as system:
            address = f"{server.address}/coast saltmarsh main"
            options = RepositoryOptions(cache=str(cache), addresses=(address,))
            refresh(system, options=options, added_only=True)
    finally:
        os.umask(before)
    every = [cache, cache.parent, *cache.rglob("*")]
    assert len([one for one in every if one.is_file()]) == 12
    for one in every:
        wanted = 0o700 if one.is_dir() else 0o600
        assert stat.S_IMODE(one.stat().st_mode) == wanted, one


@pytest.mark.parametrize("harm", ["folder", "file", "copies", "copy", "link"])
def test_fetched_copies_count_only_where_nobody_else_wrote_them(
    heron: Path, tmp_path: Path, harm: str
) -> None:
    cache = tmp_path / "cache"
    with serving(write_repositories(tmp_path / "served")) as server:
        address = f"{server.address}/coast saltmarsh main"
        fetched = RepositoryOptions(cache=str(cache), addresses=(address,))
        with open_system(str(heron)) as system:
            assert refresh(system, options=fetched, added_only=True).records[0].outcome == "fetched"
        copies = cache / "copies"
        one = next(path for path in copies.rglob("*") if path.is_file())
        match harm:
            case "folder":
                cache.chmod(0o777)
            case "file":
                one.chmod(0o666)
            case "copies":
                copies.chmod(0o770)
            case "copy":
                one.parent.chmod(0o777)
            case _:
                _linked(one)
        with open_system(str(heron)) as system:
            options = RepositoryOptions(cache=str(cache), refreshed=True)
            answer = census(system, Filter(), scope=Scope.AVAILABLE, options=options)
    assert any("it is not used" in gap.why for gap in answer.gaps)
    if harm == "folder":
        with (
            open_system(str(heron)) as system,
            pytest.raises(BadQuestion, match="nothing can be kept"),
        ):
            refresh(system, options=fetched)


def test_what_counts_as_signed_is_read_in_the_index_once_more(tmp_path: Path) -> None:
    """A table in a cache of one's own, called by the right digest, that promises another archive."""
    root, cache = build_heron(tmp_path / "heron"), tmp_path / "cache"
    ware = next(ware for ware in WARES if ware.name == "siltmeter")
    evil = archive(Installed(ware, tuple(
        good if good.path != "/usr/bin/siltmeter"
        else type(good)(good.path, good.mode, (root / "usr/bin/siltmeter").read_bytes())
        for good in goods_of(ware)
    )))  # fmt: skip
    (kept,) = (root / places.ARCHIVES[1:]).glob("siltmeter_*.deb")
    options = RepositoryOptions(cache=str(cache))
    manner = Manner(least=Evidence.SIGNED)

    def asked() -> Answer[object, Any]:
        with open_system(str(root)) as system:
            return verify(system, ["siltmeter"], frozenset(Verdict), manner=manner, options=options)  # type: ignore[return-value]

    assert Evidence.SIGNED in {row.evidence for row in asked().records}  # type: ignore[attr-defined]
    old, new = (hashlib.sha256(data).hexdigest() for data in (kept.read_bytes(), evil))
    size = f"Size: {kept.stat().st_size}", f"Size: {len(evil)}"
    kept.write_bytes(evil)
    for path in cache.glob("offers-*.sqlite"):
        with sqlite3.connect(path) as connection:
            connection.execute("UPDATE offers SET record = replace(record, ?, ?)", (old, new))
            connection.execute("UPDATE offers SET record = replace(record, ?, ?)", size)
    answer = asked()
    assert not [row for row in answer.records if row.evidence is Evidence.SIGNED]  # type: ignore[attr-defined]
    assert any("that is not believed" in gap.why for gap in answer.gaps)
    # The table that was not true is gone, and made anew.
    assert "is in it" not in " ".join(gap.why for gap in asked().gaps)
    assert not any("that is not believed" in gap.why for gap in asked().gaps)


def test_a_file_of_one_s_own_follows_no_link(tmp_path: Path) -> None:
    (tmp_path / "elsewhere").write_text("precious")
    (tmp_path / "file").symlink_to(tmp_path / "elsewhere")
    with pytest.raises(OSError, match=r"(?i)symbolic|link"):
        open_private(str(tmp_path / "file"), "w")
    assert (tmp_path / "elsewhere").read_text() == "precious"
    make_private(str(tmp_path / "a/b"))
    assert why_not_private(str(tmp_path / "a"), "b") is None
    shutil.rmtree(tmp_path / "a")
    assert why_not_private(str(tmp_path / "a"), "b") is None


def test_what_nobody_asks_for_is_taken_away(heron: Path, tmp_path: Path) -> None:
    """The sooner what is made anew most often; what is not of the auditor's tables never."""
    folder = tmp_path / "cache"
    folder.mkdir(mode=0o700)
    days = {
        "offers-1-a.sqlite": 80, "offers-1-b.sqlite": 91, "blobs-1-a.sqlite": 13,
        "blobs-1-b.sqlite": 15, "new-a.sqlite": 2, "new-b.sqlite": 0.5, "offers-1-c.txt": 400,
    }  # fmt: skip
    for name, age in days.items():
        (folder / name).write_bytes(b"")
        then = time.time() - age * 86400
        os.utime(folder / name, (then, then))
    offered(heron, folder)
    left = {path.name for path in folder.iterdir()} & days.keys()
    assert left == {
        "offers-1-a.sqlite", "blobs-1-a.sqlite", "new-b.sqlite", "offers-1-c.txt",
    }  # fmt: skip
