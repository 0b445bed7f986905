"""What repositories offer: scopes of the census, the cache, and indexes that may not be believed."""

import hashlib
import os
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.access.store import VERSION, Store
from filigree.access.tables import OfferTable
from filigree.access.trees.directory import DirectoryTree
from filigree.demo.heron import OUTSIDERS
from filigree.demo.repository import primary_xml
from filigree.families.shared.indexes import checked_pieces
from filigree.formats.damage import Damage
from filigree.formats.deb.index import read_index
from filigree.formats.rpm.primary import read_primary
from filigree.formats.rpm.repomd import XmlError
from filigree.formats.stanzas import read_stanzas
from filigree.model.answer import Gap
from filigree.model.errors import AccessError
from filigree.model.repositories import IndexFile, IndexKind, Offer
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.census import Filter, census
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system
from tests.conftest import Run
from tests.making import DebRoot
from tests.questions.test_repos import forge_the_index, forge_the_release

Items = Callable[[Callable[[Gap], None]], Iterable[Offer]]
BASE = "packages.tides.example/coast saltmarsh main"
URGENT = "packages.tides.example/coast saltmarsh-urgent main"


def told(
    root: Path, *patterns: str, outsiders: bool = False, **options: object
) -> list[tuple[str, str, list[str] | None]]:
    wanted = Filter(patterns=patterns, outsiders=outsiders)
    with open_system(str(root)) as system:
        answer = census(system, wanted, **options)  # type: ignore[arg-type]
    return [(row.name, row.state.value, row.offered_by) for row in answer.records]


def test_what_is_installed_is_not_looked_up_unless_asked_for(heron: Path) -> None:
    assert told(heron, "spindrift") == [("spindrift", "installed", None)]


def test_available_and_any(own_heron: Path) -> None:
    status = own_heron / "var/lib/dpkg/status"
    status.write_text(status.read_text().replace("Version: 0.7.11-2", "Version: 0.7.10-9"))
    assert told(own_heron, "mudflat", scope=Scope.AVAILABLE) == [
        ("mudflat-doc", "available", [BASE]),
        ("mudflat-window", "available", [BASE]),
        ("mudflatd", "available", [BASE]),
    ]
    assert sorted(told(own_heron, "mudflatd", "spindrift", scope=Scope.ANY)) == [
        ("mudflatd", "available", [BASE]),
        ("mudflatd", "installed", []),
        ("spindrift", "installed", []),
    ]
    both = told(own_heron, "libbrine2", scope=Scope.ANY)
    assert both == [("libbrine2", "installed", [BASE])]


def test_what_no_repository_offers(heron: Path, curlew: Path) -> None:
    assert [name for name, _, _ in told(heron, outsiders=True)] == list(OUTSIDERS)
    assert [name for name, _, _ in told(curlew, outsiders=True)] == list(OUTSIDERS)


def test_one_repository_alone(heron: Path) -> None:
    urgent = told(heron, scope=Scope.AVAILABLE, options=RepositoryOptions(("saltmarsh-urgent",)))
    assert len(urgent) == 4
    assert all(by == [URGENT] for _, _, by in urgent)
    with open_system(str(heron)) as system:
        answer = census(system, scope=Scope.AVAILABLE, options=RepositoryOptions(("flood",)))
    assert (answer.notes, answer.exit_status) == (["no repository is called flood"], 1)


def test_the_other_family(curlew: Path) -> None:
    rows = told(curlew, "tidegauge", "bedrock", scope=Scope.ANY)
    assert rows == [
        ("bedrock", "installed", ["coast-base"]),
        ("bedrock", "installed", ["coast-base"]),
        ("tidegauge", "installed", ["coast-base"]),
        ("tidegauge", "available", ["coast-base"]),
    ]


@pytest.mark.parametrize("forge", [forge_the_index, forge_the_release])
def test_an_index_that_may_not_be_believed_is_a_gap(
    own_heron: Path, forge: Callable[[Path], None]
) -> None:
    forge(own_heron)
    with open_system(str(own_heron)) as system:
        answer = census(system, Filter(patterns=("gift",)), scope=Scope.AVAILABLE)
    assert answer.records == []
    assert any(BASE in gap.what for gap in answer.gaps)


def test_without_any_index_nobody_is_an_outsider(own_heron: Path) -> None:
    for path in (own_heron / "var/lib/apt/lists").glob("packages*"):
        path.unlink()
    with open_system(str(own_heron)) as system:
        answer = census(system, Filter(outsiders=True))
    assert (answer.records, answer.exit_status) == ([], 3)


# -- the cache ------------------------------------------------------------------------------

OFFERS = [Offer(f"shoal{n}", "1", "all", "Sand", None, f"Package: shoal{n}\n") for n in range(5000)]


def kept(
    folder: Path | None, report: Callable[[Gap], None], made: Items | None = None
) -> OfferTable:
    store = Store(str(folder) if folder else None, report)
    return store.table(OfferTable, "sha256:ab", "/lists/one", made or (lambda _: OFFERS))


def told_by(table: OfferTable) -> list[str]:
    return [offer.name for offer in table.offers()]


NAMES = [offer.name for offer in OFFERS]


@pytest.fixture
def gaps() -> list[Gap]:
    return []


def test_an_index_is_parsed_once(tmp_path: Path, gaps: list[Gap]) -> None:
    calls = []

    def offers(_: object) -> list[Offer]:
        calls.append(1)
        return OFFERS

    for _ in range(3):
        table = kept(tmp_path / "cache", gaps.append, offers)
        assert told_by(table) == NAMES
        assert [offer.name for offer in table.offers([1, 5000])] == ["shoal0", "shoal4999"]
        table.close()
    assert (len(calls), gaps) == (1, [])
    assert os.stat(tmp_path / "cache").st_mode & 0o777 == 0o700


@pytest.mark.parametrize("damage", ["cut", "empty", "rows", "nonsense"])
def test_a_damaged_table_is_made_anew(tmp_path: Path, gaps: list[Gap], damage: str) -> None:
    kept(tmp_path, gaps.append).close()
    (path,) = tmp_path.glob("offers-*.sqlite")
    match damage:
        case "cut":
            path.write_bytes(path.read_bytes()[:5000])
        case "empty":
            path.write_bytes(b"")
        case "rows":
            with sqlite3.connect(path) as connection:
                connection.execute("DELETE FROM offers WHERE id = 5000")
        case _:
            path.write_bytes(b"nonsense" * 1000)
    assert told_by(kept(tmp_path, gaps.append)) == NAMES
    assert gaps == []


def test_runs_at_once_do_each_other_no_harm(tmp_path: Path, gaps: list[Gap]) -> None:
    def count(_: int) -> int:
        return len(told_by(kept(tmp_path, gaps.append)))

    with ThreadPoolExecutor(4) as pool:
        assert list(pool.map(count, range(8))) == [len(OFFERS)] * 8
    assert [path.name for path in tmp_path.iterdir()] == [f"offers-{VERSION}-sha256-ab.sqlite"]
    assert gaps == []


def test_where_nothing_can_be_kept_the_answer_is_the_same(tmp_path: Path, gaps: list[Gap]) -> None:
    (tmp_path / "file").write_text("in the way")
    said: list[str] = []
    store = Store(str(tmp_path / "file" / "cache"), gaps.append, said.append)
    assert told_by(store.table(OfferTable, "sha256:ab", "/lists/one", lambda _: OFFERS)) == NAMES
    assert (gaps, len(said)) == ([], 1)


def test_what_is_damaged_in_an_index_is_told_every_time(tmp_path: Path) -> None:
    def offers(report: Callable[[Gap], None]) -> Iterator[Offer]:
        report(Gap("/lists/one, stanza 7", "a line that is no field"))
        yield from OFFERS

    for _ in range(2):
        gaps: list[Gap] = []
        assert told_by(kept(tmp_path, gaps.append, offers)) == NAMES
        assert gaps == [Gap("/lists/one, stanza 7", "a line that is no field")]


def test_an_index_that_breaks_off_is_not_kept(tmp_path: Path, gaps: list[Gap]) -> None:
    def offers(_: object) -> Iterator[Offer]:
        yield from OFFERS[:10]
        raise ValueError("it changed while it was read")

    assert told_by(kept(tmp_path, gaps.append, offers)) == NAMES[:10]
    assert gaps == [Gap("/lists/one", "it changed while it was read")]
    assert list(tmp_path.iterdir()) == []
    assert told_by(kept(tmp_path, gaps.append)) == NAMES


def test_text_that_is_not_utf8_is_kept_and_found(tmp_path: Path, gaps: list[Gap]) -> None:
    odd = Offer("sh\udcffal", "1", "all", "S\udc80nd", None, "x", (("provides", "\udcfe"),))
    for _ in range(2):
        table = kept(tmp_path, gaps.append, lambda _: [OFFERS[0], odd, OFFERS[1]])
        assert told_by(table) == ["shoal0", "sh\udcffal", "shoal1"]
        (found,) = table.called(["sh\udcffal"])
        assert found.summary == "S\udc80nd"
        assert [name for name, _ in table.known_as("provides", ["\udcfe"])] == ["\udcfe"]
        assert [offer.name for offer in table.holding(["\udc80n"])] == ["sh\udcffal"]


def test_wildcards_in_what_is_sought_are_letters(gaps: list[Gap]) -> None:
    rows = [Offer(name, "1", "all", None, None, "") for name in ("a%b", "axb", "a_b", "a\\b")]
    table = kept(None, gaps.append, lambda _: rows)
    for word in ("a%b", "a_b", "a\\b"):
        assert [offer.name for offer in table.holding([word])] == [word]


def test_the_installed_program_keeps_what_it_parsed(run: Run, tmp_path: Path, heron: Path) -> None:
    cache = {"XDG_CACHE_HOME": str(tmp_path)}
    one = run("census", "--available", "gull", "--root", str(heron), "--no-cache", **cache)
    assert not list(tmp_path.iterdir())
    two = run("census", "--available", "gull", "--root", str(heron), **cache)
    assert len(list((tmp_path / "filigree").iterdir())) == 3
    three = run("census", "--available", "gull", "--root", str(heron), **cache)
    assert one.stdout == two.stdout == three.stdout != ""
    done = run("census", "--available", "--any", "--root", str(heron))
    assert done.returncode == 2


def test_a_disk_that_is_full(tmp_path: Path, heron: Path) -> None:
    """The program may write no file of more than a few blocks: the answer is the same, and told why."""
    command = [
        sys.executable,
        "-m",
        "filigree",
        "census",
        "--available",
        "gull",
        "--root",
        str(heron),
    ]
    environment = {**os.environ, "XDG_CACHE_HOME": str(tmp_path)}
    done = subprocess.run(
        ["bash", "-c", 'ulimit -f 20; exec "$@"', "x", *command],
        capture_output=True, text=True, check=False, env=environment, timeout=60,
    )  # fmt: skip
    free = subprocess.run(command, capture_output=True, text=True, check=False, timeout=60,
                          env={**environment, "XDG_CACHE_HOME": str(tmp_path / "other")})  # fmt: skip
    assert done.stdout == free.stdout != ""
    assert "nothing could be kept in" in done.stderr
    assert "nothing could be kept in" not in free.stderr
    assert done.returncode == free.returncode


def test_an_index_that_changes_between_two_looks(tmp_path: Path) -> None:
    (tmp_path / "list").write_bytes(b"Package: a\n")
    tree = DirectoryTree(str(tmp_path))
    digest = f"sha256:{hashlib.sha256(b'Package: a' + chr(10).encode()).hexdigest()}"
    for inner in (True, False):
        file = IndexFile(IndexKind.PACKAGES, "/list", digest, inner)
        assert b"".join(checked_pieces(tree, file)) == b"Package: a\n"
    (tmp_path / "list").write_bytes(b"Package: b\n")
    for inner in (True, False):
        file = IndexFile(IndexKind.PACKAGES, "/list", digest, inner)
        with pytest.raises(AccessError, match="changed"):
            list(checked_pieces(tree, file))


def test_packages_twice_and_names_with_escapes(deb_root: DebRoot, call: Run) -> None:
    hostile = "sh\x1b[31moal"
    text = "".join(
        f"Package: {name}\nVersion: {version}\nArchitecture: all\nDescription: \x1b]0;x\x07 {name}\n\n"
        for name, version in (
            ("shoal", "1"),
            ("shoal", "1"),
            ("shoal", "2"),
            (hostile, "1"),
            ("", "1"),
        )
    )
    deb_root.package("shoal", "1", architecture="all")
    deb_root.write(
        "etc/apt/sources.list", "deb [trusted=yes arch=all] http://x.example/y/ z main\n"
    )
    stem = "var/lib/apt/lists/x.example_y_dists_z_"
    digest = hashlib.sha256(text.encode()).hexdigest()
    deb_root.write(f"{stem}main_binary-all_Packages", text)
    deb_root.write(f"{stem}Release", "Suite: z\nCodename: z\nComponents: main\nSHA256:\n "
                   f"{digest} {len(text)} main/binary-all/Packages\n")  # fmt: skip
    for words in (("census", "--available"), ("seek", "shoal"), ("dossier", "--available", "shoal"),
                  ("behind",), ("dossier", "--any", "sh*")):  # fmt: skip
        for form in ("table", "lines", "json"):
            done = call(*words, "--root", deb_root.path, "--format", form, "--no-cache")
            assert "\x1b" not in done.stdout + done.stderr
    assert told(Path(deb_root.path), scope=Scope.AVAILABLE)[0][2] is not None
    names = [name for name, _, _ in told(Path(deb_root.path), scope=Scope.AVAILABLE)]
    assert sorted(names) == sorted([hostile, "shoal", "shoal"])


# -- the formats ----------------------------------------------------------------------------


@given(
    st.lists(
        st.sampled_from([
            b"Package: a\n", b"Version: 1\n", b"Description: one\n more\n .\n", b"\n", b"Empty:\n",
            b"no field\n", b" leading\n", b"package: b\n", b"X: : y\n",
        ])
    ),
    st.integers(1, 40),
)  # fmt: skip
def test_the_fast_reader_agrees_with_the_careful_one(lines: list[bytes], step: int) -> None:
    data = b"".join(lines)
    pieces = [data[at : at + step] for at in range(0, len(data), step)]
    fast = [
        None if isinstance(found, Damage) else found.fields.get("Version")
        for found in read_index(pieces)
    ]
    careful = [
        None if isinstance(found, Damage) else found.fields.get("Version")
        for found in read_stanzas([data])
    ]
    if not any(line in (b"package: b\n",) for line in lines) and lines.count(b"Version: 1\n") < 2:
        assert fast == careful


def test_primary_is_read_as_written_in_pieces_of_any_size() -> None:
    rows = [("a<b", "1", "2.0", "3", "noarch", "Salt & sand"), ("c", "0", "1", "1", "x86_64", "")]
    data = primary_xml(rows)
    for step in (1, 7, len(data)):
        pieces = [data[at : at + step] for at in range(0, len(data), step)]
        found = list(read_primary(pieces))
        assert [(one.texts["name"], one.facts["version.epoch"]) for one in found] == [
            ("a<b", "1"), ("c", "0"),
        ]  # fmt: skip
        assert found[0].texts["summary"] == "Salt & sand"


@given(st.binary(max_size=200), st.integers(0, 300))
def test_mutated_lists_are_packages_or_an_error(put: bytes, at: int) -> None:
    data = primary_xml([("a", "1", "2", "3", "noarch", "x")])
    try:
        for one in read_primary([data[:at] + put + data[at:]]):
            assert one.texts is not None
    except XmlError:
        pass
    list(read_index([b"Package: a\nVersion: 1\n\n"[:at] + put]))
