"""The client against the stand-in server, which behaves well or badly."""

from collections.abc import Iterator
from hashlib import sha256
from pathlib import Path

import pytest

from filigree.access.fetching import Fetched, Fetcher, FetchError, Progress
from filigree.demo.server import Server, serving

BODY = bytes(range(256)) * 800
DIGEST = f"sha256:{sha256(BODY).hexdigest()}"
LIMIT = 1 << 20


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    folder = tmp_path / "served"
    folder.mkdir()
    (folder / "index").write_bytes(BODY)
    with serving(folder) as found:
        yield found


@pytest.fixture
def fetcher(tmp_path: Path) -> Iterator[Fetcher]:
    found = Fetcher(str(tmp_path / "fetched"), patience=1.0, pause=0.01)
    yield found
    found.close()


def content(found: Fetched) -> bytes:
    return Path(found.path).read_bytes()


def statuses(server: Server) -> list[int]:
    return [one.status for one in server.asked]


def test_what_has_not_changed_is_not_sent_again(server: Server, fetcher: Fetcher) -> None:
    address = f"{server.address}/index"
    first, second = (fetcher.fetch(address, LIMIT) for _ in range(2))
    assert (content(first), first.fresh, first.sent) == (BODY, True, len(BODY))
    assert (second.fresh, second.sent) == (False, 0)
    server.manners.replaced["index"] = b"another"
    assert content(fetcher.fetch(address, LIMIT)) == b"another"
    assert statuses(server) == [200, 304, 200]


def test_what_has_its_digest_is_not_asked_for(server: Server, fetcher: Fetcher) -> None:
    address = f"{server.address}/index"
    for _ in range(2):
        assert content(fetcher.fetch(address, LIMIT, DIGEST, len(BODY))) == BODY
    assert statuses(server) == [200]


def test_what_broke_off_is_gone_on_with(server: Server, fetcher: Fetcher) -> None:
    server.manners.breaks = 2
    assert content(fetcher.fetch(f"{server.address}/index", LIMIT, DIGEST)) == BODY
    assert statuses(server) == [200, 206, 206]
    assert server.asked[-1].sent == len(BODY) - len(BODY) // 2 - len(BODY) // 4


def test_a_server_without_parts_begins_anew(server: Server, fetcher: Fetcher) -> None:
    server.manners.breaks, server.manners.ranges = 1, False
    assert content(fetcher.fetch(f"{server.address}/index", LIMIT, DIGEST)) == BODY
    assert statuses(server) == [200, 200]


def test_what_changed_meanwhile_begins_anew(server: Server, fetcher: Fetcher) -> None:
    address = f"{server.address}/index"
    server.manners.breaks = 9
    with pytest.raises(FetchError):
        fetcher.fetch(address, LIMIT)
    server.manners.breaks = 0
    server.manners.replaced["index"] = b"another, and longer than was sent before" * 9
    assert content(fetcher.fetch(address, LIMIT)) == server.manners.replaced["index"]


def test_a_server_in_trouble_is_asked_again(server: Server, fetcher: Fetcher) -> None:
    server.manners.fails = 3
    assert content(fetcher.fetch(f"{server.address}/index", LIMIT)) == BODY
    assert statuses(server) == [503, 503, 503, 200]
    server.manners.fails = 99
    with pytest.raises(FetchError, match="status 503, 4 times"):
        fetcher.fetch(f"{server.address}/index", LIMIT)


def refuse_size(server: Server) -> None:
    server.manners.larger = 9


def hide_length(server: Server) -> None:
    server.manners.silent_on_length = True


@pytest.mark.parametrize(
    ("limit", "digest", "size", "why"),
    [
        (1000, None, None, "are reasonable"),
        (LIMIT, None, 1000, "are promised"),
        (LIMIT, None, len(BODY) + 1, "were promised"),
        (LIMIT, "sha256:00", None, "its digest is another"),
        (LIMIT, "sha9:00", None, "its digest is another"),
    ],
)  # fmt: skip
@pytest.mark.parametrize("manner", [lambda _: None, hide_length])
def test_what_is_not_as_promised(
    server: Server, fetcher: Fetcher, limit: int, digest: str, size: int, why: str, manner: object
) -> None:
    manner(server)  # type: ignore[operator]
    if manner is hide_length and why.startswith("are"):
        why = "bytes are sent"
    with pytest.raises(FetchError, match=why):
        fetcher.fetch(f"{server.address}/index", limit, digest, size)


def test_a_server_that_claims_more_than_it_sends(server: Server, fetcher: Fetcher) -> None:
    refuse_size(server)
    with pytest.raises(FetchError, match="4 times"):
        fetcher.fetch(f"{server.address}/index", LIMIT)


def test_a_server_that_is_slow(server: Server, fetcher: Fetcher) -> None:
    server.manners.pause = 5
    with pytest.raises(FetchError, match="in time, 4 times"):
        Fetcher(fetcher.folder, patience=0.2, pause=0.01).fetch(f"{server.address}/index", LIMIT)


def test_a_server_that_trickles(server: Server, fetcher: Fetcher) -> None:
    server.manners.trickle = 0.02
    slow = Fetcher(fetcher.folder, patience=0.5, pause=0.01)
    with pytest.raises(FetchError, match=r"next to nothing|in time"):
        slow.fetch(f"{server.address}/index", LIMIT)


@pytest.mark.parametrize(
    ("leads", "why"),
    [("/index", None), ("ftp://x.example/", "no web address"), ("/round", "leads on more than"),
     ("http://[", "fails|no address|leads")],
)  # fmt: skip
def test_redirections(server: Server, fetcher: Fetcher, leads: str, why: str | None) -> None:
    server.manners.leads["round"] = leads
    address = f"{server.address}/round"
    if why is None:
        assert content(fetcher.fetch(address, LIMIT)) == BODY
    else:
        with pytest.raises(FetchError, match=why):
            fetcher.fetch(address, LIMIT)


@pytest.mark.parametrize(
    "address", ["ftp://x.example/y", "nothing", "http://127.0.0.1:1/x", "http://[x"]
)
def test_what_cannot_be_reached(fetcher: Fetcher, address: str) -> None:
    with pytest.raises(FetchError):
        fetcher.fetch(address, LIMIT)


def test_what_is_not_there_is_told_apart(server: Server, fetcher: Fetcher) -> None:
    for address in (f"{server.address}/gone", f"{server.folder}/gone"):
        with pytest.raises(FetchError) as caught:
            fetcher.fetch(address, LIMIT)
        assert caught.value.absent


def test_from_a_folder(server: Server, fetcher: Fetcher) -> None:
    for address in (f"{server.folder}/index", f"file://{server.folder}/index"):
        assert content(fetcher.fetch(address, LIMIT, DIGEST)) == BODY
        with pytest.raises(FetchError, match="larger"):
            Fetcher(f"{fetcher.folder}2").fetch(address, 10)


def test_nothing_outside_of_its_folder_is_served(server: Server, fetcher: Fetcher) -> None:
    with pytest.raises(FetchError) as caught:
        fetcher.fetch(f"{server.address}/%2e%2e/fetched", LIMIT)
    assert caught.value.absent
    (server.folder.parent / "secret").write_text("x")
    assert server.content("../secret") is None


def test_a_folder_that_cannot_be_written_to(server: Server, tmp_path: Path) -> None:
    (tmp_path / "file").write_text("in the way")
    with pytest.raises(FetchError, match="could not be kept"):
        Fetcher(str(tmp_path / "file" / "x")).fetch(f"{server.address}/index", LIMIT)


def test_progress_is_told(server: Server, tmp_path: Path) -> None:
    told: list[Progress] = []
    Fetcher(str(tmp_path / "f"), told.append).fetch(f"{server.address}/index", LIMIT)
    assert [one.done for one in told] == sorted(one.done for one in told)
    assert (told[-1].done, told[-1].total) == (len(BODY), len(BODY))
