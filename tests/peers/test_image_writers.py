"""Images made by others: two programs that build and convert layouts, and tar. Run by make peers.

Each is of a station's root; its answers are those of the root itself.
"""

import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from filigree.system import open_system
from tests.cli.test_every_root import told
from tests.cli.test_matrix import COMMANDS
from tests.conftest import Run

pytestmark = pytest.mark.peers
BUILDER, CONVERTER = "umoci", "skopeo"
ASKED = [one for one in COMMANDS if "ARCHIVE" not in one]


def ran(*words: str | Path) -> None:
    done = subprocess.run(
        [str(word) for word in words], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr


def needing(program: str) -> Callable[..., object]:
    return pytest.mark.skipif(shutil.which(program) is None, reason=f"there is no {program} here")


@pytest.fixture(scope="module")
def built(curlew: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A layout of four layers: another program below, the root, a file too many, and that one hidden."""
    top = tmp_path_factory.mktemp("built")
    image, name = top / "layout", f"{top / 'layout'}:station"
    other = top / "other"
    other.write_bytes(b"not what the station has\n")
    ran(BUILDER, "init", "--layout", image)
    ran(BUILDER, "new", "--image", name)
    ran(BUILDER, "insert", "--image", name, other, "/usr/bin/tidegauge")
    ran(BUILDER, "insert", "--image", name, curlew, "/")
    ran(BUILDER, "insert", "--image", name, other, "/usr/bin/never-there")
    ran(BUILDER, "insert", "--image", name, "--whiteout", "/usr/bin/never-there")
    return image


CONVERTED: dict[str, tuple[str, ...]] = {
    "a folder": ("oci:{}/f:station",), "a packed layout": ("oci-archive:{}/f:station",),
    "as an engine saves it": ("docker-archive:{}/f:tides.example/station:1",),
    "zstd": ("oci:{}/f:station", "--dest-compress-format", "zstd", "--dest-compress"),
    "plain": ("oci:{}/f:station", "--dest-decompress"),
}  # fmt: skip


@pytest.fixture(scope="module", params=["as it was built", *CONVERTED])
def image(
    request: pytest.FixtureRequest, built: Path, tmp_path_factory: pytest.TempPathFactory
) -> Path:
    if request.param == "as it was built":
        return built
    if shutil.which(CONVERTER) is None:
        pytest.skip(f"there is no {CONVERTER} here")
    top = tmp_path_factory.mktemp("converted")
    to, *more = (word.format(top) for word in CONVERTED[request.param])
    ran(CONVERTER, "--insecure-policy", "copy", "--quiet", *more, f"oci:{built}:station", to)
    return top / "f"


ANSWERS: dict[tuple[str, str], object] = {}


def of_root(call: Run, command: str, root: Path) -> object:
    """The root's own answer, which is asked for once."""
    key = (command, str(root))
    if key not in ANSWERS:
        ANSWERS[key] = told(call, command, root)
    return ANSWERS[key]


def same(call: Run, image: Path, root: Path, kept: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for command in ASKED:
        monkeypatch.setenv("XDG_CACHE_HOME", str(kept / "cache"))
        assert told(call, command, image) == of_root(call, command, root), command


@needing(BUILDER)
def test_an_image_of_others_answers_as_the_root_does(
    call: Run, image: Path, curlew: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    same(call, image, curlew, tmp_path, monkeypatch)
    with open_system(str(image)) as system:
        assert list(system.tree.troubles) == []
        assert system.tree.layered is not None
        assert system.tree.layered.layers_of("/usr/bin/tidegauge") == [0, 1]
        assert system.tree.layered.layers_of("/usr/bin/never-there") == [2, 3]


@pytest.mark.skipif(shutil.which("tar") is None, reason="there is no tar here")
@pytest.mark.parametrize("form", ["gnu", "pax"])
@pytest.mark.parametrize("packed", ["", "--gzip", "--xz", "--zstd", "--bzip2"])
def test_a_packed_root_answers_as_the_root_does(
    call: Run, heron: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, packed: str, form: str
) -> None:
    path = tmp_path / "root.tar"
    words = [
        "tar",
        "-C",
        str(heron),
        f"--format={form}",
        *filter(None, [packed]),
        "-cf",
        str(path),
        ".",
    ]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    if done.returncode:
        pytest.skip(f"this tar cannot do that: {done.stderr[:80]}")
    for command in ("survey", "census", "verify", "strays", "owner /usr/bin/tidegauge", "behind"):
        monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
        assert told(call, command, path) == of_root(call, command, heron), command
