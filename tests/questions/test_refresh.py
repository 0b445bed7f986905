"""Indexes fetched from the stand-in server: verified, kept, asked; and everything that is noticed."""

import gzip
import hashlib
import os
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from filigree.access.fetching import Fetcher
from filigree.access.remote import BLOCK, RemoteFile
from filigree.demo import rpm
from filigree.demo.goods import BUILT
from filigree.demo.offered_wares import MADE
from filigree.demo.offering import deb_indexes, write_repositories
from filigree.demo.repository import (
    CODENAME,
    LIFE,
    clear_signed,
    detached,
    public_key,
    release_file,
    repomd_xml,
)
from filigree.demo.rpm_repository import rpm_indexes
from filigree.demo.rpm_wares import shipped
from filigree.demo.server import Server, serving
from filigree.demo.world import Ware
from filigree.model.answer import Answer
from filigree.model.errors import AccessError, BadQuestion
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.behind import behind
from filigree.questions.commands.census import Filter, census
from filigree.questions.commands.contents import contents
from filigree.questions.commands.dossier import dossier
from filigree.questions.commands.owner import owner
from filigree.questions.commands.refresh import RefreshRow, refresh
from filigree.questions.commands.repos import repos
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system
from tests.conftest import Run
from tests.making import DebRoot, RpmRoot

NOW = datetime(2026, 3, 1, tzinfo=UTC)
Make = Callable[..., Path]


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    with serving(write_repositories(tmp_path_factory.mktemp("served"))) as server:
        yield server


@pytest.fixture
def server(served: Server) -> Server:
    """The server with its best manners."""
    served.manners = type(served.manners)()
    served.asked.clear()
    return served


@pytest.fixture
def here(tmp_path: Path, server: Server) -> str:
    """A small system that may fetch from the server, and knows the key."""
    root = DebRoot(tmp_path / "root")
    root.package("jetty", "1.1.0-2")
    root.write("etc/keys/coast.asc", public_key())
    line = (
        f"deb [arch=amd64 signed-by=/etc/keys/coast.asc] {server.address}/coast {CODENAME} main\n"
    )
    root.write("etc/apt/sources.list", line)
    return root.path


@pytest.fixture
def there(tmp_path: Path, server: Server) -> str:
    """The same of the other family."""
    root = RpmRoot(tmp_path / "other")
    root.package("jetty", "1.1.0", "2")
    root.write("etc/pki/rpm-gpg/coast.asc", public_key())
    root.write("etc/yum.repos.d/coast.repo",
               f"[base]\nname=Base\nbaseurl={server.address}/rpm/base/\nrepo_gpgcheck=1\n"
               "gpgkey=file:///etc/pki/rpm-gpg/coast.asc\n")  # fmt: skip
    return root.path


def ask(root: str, cache: Path, **more: Any) -> Answer[RefreshRow, Any]:
    with open_system(root) as system:
        fetcher = Fetcher(str(cache / "fetched"), patience=2.0, pause=0.01)
        options = RepositoryOptions(cache=str(cache), now=NOW, **more)
        return refresh(system, options=options, fetcher=fetcher)


def one(root: str, cache: Path, **more: Any) -> RefreshRow:
    (row,) = ask(root, cache, **more).records
    return row


def snapshot(root: str) -> dict[str, tuple[int, float]]:
    return {
        os.path.join(folder, name): (os.stat(os.path.join(folder, name)).st_size, 0.0)
        for folder, _, names in os.walk(root)
        for name in names
    }


def offered(root: str, cache: Path, **more: Any) -> list[str]:
    with open_system(root) as system:
        options = RepositoryOptions(cache=str(cache), now=NOW, refreshed=True, **more)
        answer = census(system, Filter(), scope=Scope.AVAILABLE, options=options)
        return [row.name for row in answer.records]


@pytest.mark.parametrize("family", ["here", "there"])
def test_what_was_fetched_is_verified_kept_and_asked(
    family: str, request: pytest.FixtureRequest, tmp_path: Path, server: Server
) -> None:
    root, cache = request.getfixturevalue(family), tmp_path / "cache"
    before = snapshot(root)
    first = one(root, cache)
    assert (first.outcome, first.signature, first.why) == ("fetched", "good", None)
    assert first.packages == (69 if family == "here" else 71)
    assert first.sent > 0
    asked = len(server.asked)
    second = one(root, cache)
    assert (second.outcome, second.sent) == ("unchanged", 0)
    # Only what is signed is asked for again, and not sent.
    assert {one.status for one in server.asked[asked:]} == {304}
    assert snapshot(root) == before
    assert "kittiwake" in offered(root, cache)
    with open_system(root) as system:
        kept = RepositoryOptions(cache=str(cache), now=NOW, refreshed=True)
        (row,) = repos(system, options=kept).records
        assert (row.signature, row.matches) == ("good", True)
        assert repos(system, now=NOW).records[0].path is None
        # The made-up small system has an older jetty than is offered.
        told = {r.name: r.candidate for r in behind(system, options=kept).records}
        assert set(told) <= {"jetty"}


def test_indexes_of_paths_are_fetched_when_asked_for(here: str, there: str, tmp_path: Path) -> None:
    for root in (here, there):
        cache = tmp_path / f"cache{len(root)}{root[-1]}"
        with open_system(root) as system:
            options = RepositoryOptions(cache=str(cache), now=NOW, refreshed=True)
            refresh(system, options=options)
            assert (
                owner(system, ["weirgate"], scope=Scope.AVAILABLE, options=options).exit_status == 1
            )
            refresh(system, options=options._replace(paths=True))
            found = owner(system, ["weirgate"], scope=Scope.AVAILABLE, options=options)
        assert {o.name for row in found.records for o in row.owners} == {"weirgate"}
        assert found.records[0].path == "/usr/sbin/weirgate"  # a program goes before a directory


def signed_as(server: Server, made: datetime, expires: datetime | None, **indexes: bytes) -> None:
    """Let the server send another state of the suite: other indexes, another time."""
    front = f"coast/dists/{CODENAME}"
    known, _ = deb_indexes(CODENAME)
    every = {path: indexes.get(path.rpartition("/")[2], content) for path, content in known.items()}
    packed = {f"{path}.gz": gzip.compress(content, mtime=0) for path, content in every.items()}
    text = release_file({**every, **packed}, CODENAME, made, expires)
    server.manners.replaced[f"{front}/InRelease"] = clear_signed(text)
    for path, content in packed.items():
        server.manners.replaced[f"{front}/{path}"] = content
        folder, digest = path.rpartition("/")[0], hashlib.sha256(content).hexdigest()
        server.manners.replaced[f"{front}/{folder}/by-hash/SHA256/{digest}"] = content


def test_an_old_index_that_is_sent_again(here: str, tmp_path: Path, server: Server) -> None:
    one(here, tmp_path)
    signed_as(server, MADE - timedelta(days=30), BUILT + LIFE)
    row = one(here, tmp_path)
    assert row.outcome == "refused"
    assert "an old index is sent again" in (row.why or "")
    assert "2026-02-19" in (row.why or "")
    # What was kept before is kept on.
    assert "kittiwake" in offered(here, tmp_path)


def test_an_old_index_is_measured_by_the_copy_of_the_root_too(
    here: str, tmp_path: Path, server: Server
) -> None:
    signed_as(server, MADE + timedelta(days=9), BUILT + LIFE)
    lists = Path(here) / "var/lib/apt/lists"
    lists.mkdir(parents=True)
    name = server.address.removeprefix("http://") + f"_coast_dists_{CODENAME}_InRelease"
    signed = server.manners.replaced.pop(f"coast/dists/{CODENAME}/InRelease")
    (lists / name).write_bytes(signed)
    server.manners.replaced.clear()
    assert "an old index is sent again" in (one(here, tmp_path).why or "")


def test_an_index_that_has_expired(here: str, tmp_path: Path, server: Server) -> None:
    signed_as(server, MADE, NOW - timedelta(days=1))
    row = one(here, tmp_path)
    assert row.remarks == ["it has expired: nothing newer is sent"]
    with open_system(here) as system:
        options = RepositoryOptions(cache=str(tmp_path), now=NOW, refreshed=True)
        assert any("expired" in gap.why for gap in behind(system, options=options).gaps)


def test_a_mixture_of_two_states(here: str, tmp_path: Path, server: Server) -> None:
    one(here, tmp_path)
    known, _ = deb_indexes(CODENAME)
    newer = known["main/binary-amd64/Packages"] + b"\nPackage: x\nVersion: 1\nArchitecture: all\n"
    signed_as(server, MADE + timedelta(days=1), BUILT + LIFE, Packages=newer)
    for path in [p for p in server.manners.replaced if "Packages" in p or "by-hash" in p]:
        del server.manners.replaced[path]
    row = one(here, tmp_path)
    assert row.outcome == "refused"
    assert row.why == (
        "it is a mixture of two states: its list belongs to the signed file of 2026-02-19 08:30"
    )
    assert "x" not in offered(here, tmp_path)


def test_a_mixture_in_the_other_family(there: str, tmp_path: Path, server: Server) -> None:
    one(there, tmp_path)
    indexes = rpm_indexes()
    newer = indexes["primary"].replace(b"kittiwake", b"kittiwakf")
    listed, _ = repomd_xml({**indexes, "primary": newer}, MADE + timedelta(days=1))
    _, files = repomd_xml(indexes, MADE)
    server.manners.replaced["rpm/base/repodata/repomd.xml"] = listed
    server.manners.replaced["rpm/base/repodata/repomd.xml.asc"] = detached(listed)
    place = listed.decode().partition('href="repodata/')[2].partition('"')[0]
    name = next(name for name in files if name.endswith("primary.xml.gz"))
    server.manners.replaced[f"rpm/base/repodata/{place}"] = files[name]
    row = one(there, tmp_path)
    assert row.outcome == "refused"
    assert "a mixture of two states" in (row.why or "")
    old_listed, _ = repomd_xml(indexes, MADE - timedelta(days=1))
    server.manners.replaced["rpm/base/repodata/repomd.xml"] = old_listed
    server.manners.replaced["rpm/base/repodata/repomd.xml.asc"] = detached(old_listed)
    assert "an old index is sent again" in (one(there, tmp_path).why or "")


def test_a_package_that_went_back(here: str, tmp_path: Path, server: Server) -> None:
    one(here, tmp_path)
    known, _ = deb_indexes(CODENAME)
    text = known["main/binary-amd64/Packages"].replace(b"Version: 5.4.2-1", b"Version: 5.3.9-1")
    signed_as(server, MADE + timedelta(days=1), BUILT + LIFE, Packages=text)
    answer = ask(here, tmp_path)
    (row,) = answer.records
    assert row.older == ["chartroom 5.3.9-1, 5.4.2-1 before"]
    assert (row.outcome, answer.exit_status) == ("fetched", 1)


def forge_the_signed_file(server: Server) -> None:
    path = f"coast/dists/{CODENAME}/InRelease"
    text = (server.folder / path).read_bytes()
    server.manners.replaced[path] = text.replace(b"Label: Coast", b"Label: Coats")


def sign_with_another_key(server: Server) -> None:
    from pysequoia import SignatureMode, Tsk, sign

    _, text = deb_indexes(CODENAME)
    other = Tsk.generate("Other <other@tides.example>")
    signed = bytes(sign(other.signer(), text, mode=SignatureMode.CLEAR))
    server.manners.replaced[f"coast/dists/{CODENAME}/InRelease"] = signed


def take_the_signature_away(server: Server) -> None:
    gone = (f"coast/dists/{CODENAME}/InRelease", f"coast/dists/{CODENAME}/Release.gpg")
    server.manners.only = lambda path: path not in gone


def forge_the_index(server: Server) -> None:
    path = f"coast/dists/{CODENAME}/main/binary-amd64/Packages.gz"
    content = (server.folder / path).read_bytes()
    forged = content[:-20] + bytes(20)
    server.manners.replaced[path] = forged
    name = hashlib.sha256(content).hexdigest()
    server.manners.replaced[f"{path.rpartition('/')[0]}/by-hash/SHA256/{name}"] = forged


def grow_the_index(server: Server) -> None:
    forge_the_index(server)
    for path in list(server.manners.replaced):
        server.manners.replaced[path] += bytes(1 << 20)


def send_nonsense(server: Server) -> None:
    server.manners.replaced[f"coast/dists/{CODENAME}/InRelease"] = (
        b"<html>Welcome to the harbour</html>"
    )


@pytest.mark.parametrize(
    ("manner", "outcome", "signature", "why"),
    [
        (forge_the_signed_file, "refused", "bad", "its signature is bad"),
        (sign_with_another_key, "fetched", "unknown key", ""),
        (take_the_signature_away, "refused", "none", "it is not signed, and it must be"),
        (forge_the_index, "refused", "good", "its digest is another"),
        (grow_the_index, "refused", "good", "are promised"),
        (send_nonsense, "refused", None, ""),
    ],
)
def test_what_is_wrong_is_refused(
    here: str, tmp_path: Path, server: Server, manner: Callable[[Server], None], outcome: str,
    signature: str | None, why: str,
) -> None:  # fmt: skip
    manner(server)
    answer = ask(here, tmp_path)
    (row,) = answer.records
    assert row.outcome == outcome
    assert signature is None or row.signature == signature
    assert why in (row.why or "")
    assert answer.exit_status == (1 if outcome == "refused" else 0)
    if outcome == "refused":
        assert offered(here, tmp_path) == []
    # The server mends its ways: nothing of what was refused stands in the way.
    server.manners = type(server.manners)()
    assert one(here, tmp_path).signature == "good"
    assert "kittiwake" in offered(here, tmp_path)


def test_a_signature_beside_the_file_does_too(here: str, tmp_path: Path, server: Server) -> None:
    server.manners.only = lambda path: not path.endswith("InRelease")
    assert (one(here, tmp_path).outcome, one(here, tmp_path).signature) == ("fetched", "good")


def test_what_cannot_be_reached_is_a_gap(here: str, tmp_path: Path, server: Server) -> None:
    server.manners.fails = 1000
    answer = ask(here, tmp_path)
    assert (answer.records[0].outcome, answer.exit_status) == ("failed", 3)
    assert any("status 503" in gap.why for gap in answer.gaps)


@pytest.mark.parametrize("name", ["mirrorlist", "metalink"])
def test_mirrors(there: str, tmp_path: Path, server: Server, name: str) -> None:
    listed = (server.folder / "rpm/base/repodata/repomd.xml").read_bytes()
    bases = [f"{server.address}/gone/", f"{server.address}/rpm/base/"]
    text = "# mirrors\n" + "\n".join(bases)
    if name == "metalink":
        urls = "".join(f'<url protocol="http">{base}repodata/repomd.xml</url>' for base in bases)
        digest = hashlib.sha256(listed).hexdigest()
        text = (
            f'<metalink><files><file name="repomd.xml"><verification><hash type="md5">00</hash>'
            f'<hash type="sha256">{digest}</hash></verification><resources>{urls}</resources></file>'
            "</files></metalink>"
        )
    server.manners.replaced["mirrors"] = text.encode()
    path = Path(there) / "etc/yum.repos.d/coast.repo"
    path.write_text(path.read_text().replace("baseurl=", f"{name}={server.address}/mirrors\nold="))
    row = one(there, tmp_path)
    assert row.outcome == "fetched"
    assert "was passed over: it is not there" in row.remarks[0]
    assert "kittiwake" in offered(there, tmp_path)
    if name == "metalink":
        server.manners.replaced["mirrors"] = text.replace(digest, "0" * 64).encode()
        assert one(there, tmp_path).outcome == "failed"


def test_an_address_of_ones_own(here: str, there: str, tmp_path: Path, server: Server) -> None:
    folder = str(server.folder / "rpm/base")
    for root, address in (
        (there, f"{server.address}/rpm/base"), (there, folder), (there, f"file://{folder}"),
        (here, f"{server.address}/coast {CODENAME}-urgent main"),
        (here, f"{server.folder}/coast {CODENAME}"),
    ):  # fmt: skip
        with open_system(root) as system:
            options = RepositoryOptions(cache=str(tmp_path / "c"), now=NOW, addresses=(address,))
            answer = dossier(system, ["jetty"], scope=Scope.AVAILABLE, options=options)
            assert answer.records[0].version.startswith("1.1.0-2")
            for wrong in (options._replace(cache=None), options._replace(addresses=(" ",))):
                with pytest.raises(BadQuestion):
                    dossier(system, ["jetty"], scope=Scope.AVAILABLE, options=wrong)


def test_a_name_in_an_index_leads_nowhere_else(there: str, tmp_path: Path, server: Server) -> None:
    indexes = rpm_indexes()
    listed, files = repomd_xml({"primary": indexes["primary"]}, MADE)
    (name,) = files
    hostile = listed.replace(f"repodata/{name}".encode(), b"repodata/../../../../../outside")
    server.manners.replaced["rpm/base/repodata/repomd.xml"] = hostile
    server.manners.replaced["rpm/base/repodata/repomd.xml.asc"] = detached(hostile)
    server.manners.replaced["outside"] = files[name]
    cache = tmp_path / "deep/in/side/cache"
    one(there, cache)
    assert [p for p in tmp_path.rglob("outside") if cache not in p.parents] == []


def test_the_program_refreshes_and_asks(
    run: Run, here: str, tmp_path: Path, server: Server
) -> None:
    cache = {"XDG_CACHE_HOME": str(tmp_path), "COLUMNS": "160"}
    done = run("refresh", "--root", here, "--format", "table", **cache)
    assert done.returncode == 0, done.stderr
    assert "1 fetched" in done.stdout
    done = run("census", "kittiwake", "--available", "--refreshed", "--root", here, **cache)
    assert done.stdout.startswith("kittiwake\t3.4.2-1")
    urgent = f"{server.address}/coast {CODENAME}-urgent main"
    done = run("behind", "--security", "--repo-url", urgent, "--root", here, **cache)
    # The address names no key, and the system trusts none for everything: that is no alarm.
    assert done.stdout.startswith("jetty\tamd64\t1.1.0-2\t1.1.0-2+fix1")
    assert done.returncode == 1
    done = run("census", "--no-cache", "--refreshed", "--root", here, **cache)
    assert done.returncode == 2


# -- archives at an address -----------------------------------------------------------------


def test_no_more_of_an_archive_is_fetched_than_is_needed(server: Server, heron: Path) -> None:
    ware = Ware("bigchart", "1-1", "graphics", "A chart of everything", data=3, data_size=900_000)
    server.manners.replaced["big.rpm"] = content = rpm.archive(shipped(ware), "none")
    address = f"{server.address}/big.rpm"
    with open_system(str(heron)) as system:
        (row,) = dossier(system, [address]).records
        assert (row.name, row.archive_size, row.misnamed != []) == ("bigchart", len(content), True)
        assert sum(one.sent for one in server.asked) <= 3 * BLOCK
        rows = contents(system, [address]).records
        digest = f"sha256:{hashlib.sha256(_payload(ware)).hexdigest()}"
        assert digest in {row.digest for row in rows}
        assert len(server.asked) < 20


def _payload(ware: Ware) -> bytes:
    return next(
        g.content for g in shipped(ware).goods if g.path.endswith("copyright") and g.content
    )


def test_a_server_without_parts_sends_the_whole(server: Server) -> None:
    server.manners.ranges = False
    server.manners.replaced["x"] = body = os.urandom(300_000)
    file = RemoteFile(f"{server.address}/x")
    assert (file.size, file.at(250_000, 99_999)) == (len(body), body[250_000:])
    assert [one.status for one in server.asked] == [200]
    file.close()


def test_parts_are_the_same_as_the_whole(server: Server) -> None:
    server.manners.replaced["x"] = body = os.urandom(40 * BLOCK + 17)
    file = RemoteFile(f"{server.address}/x")
    for offset, count in (
        (0, 10),
        (BLOCK - 3, 9),
        (len(body) - 5, 50),
        (len(body), 9),
        (7 * BLOCK, BLOCK),
    ):
        assert file.at(offset, count) == body[offset : offset + count]
    everything = b"".join(file.at(at, 30_000) for at in range(0, len(body), 30_000))
    assert everything == body
    server.manners.replaced["empty"] = b""
    assert RemoteFile(f"{server.address}/empty").size == 0


def test_what_changes_while_it_is_read(server: Server) -> None:
    server.manners.replaced["x"] = bytes(9 * BLOCK)
    file = RemoteFile(f"{server.address}/x")
    server.manners.replaced["x"] = b"1" * (9 * BLOCK)
    with pytest.raises(AccessError, match="changed"):
        file.at(5 * BLOCK, 10)


def test_archives_that_are_not_there_or_none(server: Server, heron: Path, call: Run) -> None:
    server.manners.replaced["page.rpm"] = b"<html>nothing here</html>" * 9
    for name, words in (
        ("gone.rpm", "there is no archive"), ("page.rpm", "is no archive that can be read"),
    ):  # fmt: skip
        done = call("dossier", f"{server.address}/{name}", "--root", str(heron))
        assert done.returncode == 1
        assert words in done.stderr
    done = call("dossier", "http://127.0.0.1:9/x.deb", "--root", str(heron))
    assert (done.returncode, "cannot be read" in done.stderr) == (1, True)
