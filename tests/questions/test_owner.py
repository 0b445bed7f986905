"""Whose file is this: every way in which a path can come from a package."""

import pytest

from filigree.questions.commands.owner import owner
from filigree.questions.finding.ownership import OfferedSearch, absolute, glob_pattern
from filigree.system import open_system
from tests.making import INFO, DebRoot


@pytest.fixture
def coast(deb_root: DebRoot) -> DebRoot:
    """A root with a merged directory, a diversion, a group of links, and a file of nobody's."""
    deb_root.link("bin", "usr/bin")
    (deb_root.folder / "usr/bin").mkdir(parents=True)
    deb_root.package("shell", files={"/bin/dsh": b"shell", "/usr/share/shell/mod.py": b"code"})
    deb_root.package("chart", files={"/usr/bin/plot": b"chart", "/usr/bin/viewer-a": b"a"})
    deb_root.package("rope", files={"/usr/bin/plot": b"chart"})
    deb_root.write("usr/bin/plot.rope", b"rope")
    deb_root.write("var/lib/dpkg/diversions", "/usr/bin/plot\n/usr/bin/plot.rope\nchart\n")
    deb_root.write(
        "var/lib/dpkg/alternatives/viewer", "auto\n/usr/bin/viewer\n\n/usr/bin/viewer-a\n9\n\n"
    )
    deb_root.link("usr/bin/viewer", "/etc/alternatives/viewer")
    deb_root.link("etc/alternatives/viewer", "/usr/bin/viewer-a")
    deb_root.link("usr/bin/by-hand", "viewer-a")
    deb_root.write("usr/share/shell/__pycache__/mod.cpython-311.pyc", b"")
    deb_root.write("usr/sbin/nobodys", b"")
    deb_root.package("vanished", files={"/usr/bin/gone": b"x"})
    (deb_root.folder / "usr/bin/gone").unlink()
    return deb_root


@pytest.mark.parametrize(
    ("asked", "owners"),
    [
        ("/bin/dsh", [("shell", "listed")]),
        ("/usr/bin/dsh", [("shell", "alias")]),
        ("/usr/../bin//dsh", [("shell", "alias")]),
        ("dsh", [("shell", "alias")]),
        ("/usr/bin/plot", [("chart", "listed")]),
        ("/usr/bin/plot.rope", [("rope", "diverted")]),
        ("/bin/plot.rope", [("rope", "diverted")]),
        ("/usr/bin/viewer", [("chart", "alternative")]),
        ("viewer", [("chart", "alternative")]),
        ("/etc/alternatives/viewer", [("chart", "alternative")]),
        ("/usr/bin/by-hand", [("chart", "alias")]),
        ("/usr/share/shell/__pycache__/mod.cpython-311.pyc", [("shell", "generated")]),
        ("/usr/share/shell/__pycache__", [("shell", "generated")]),
        (f"/{INFO}/rope.list", [("rope", "generated")]),
        ("/usr/sbin/nobodys", []),
        ("/no/such/path", []),
        ("/usr/bin/gone", [("vanished", "listed")]),
        ("gone", [("vanished", "listed")]),
        ("/", [(name, "listed") for name in ("shell", "chart", "rope", "vanished")]),
        ("/usr/share", [("shell", "listed")]),
    ],
)
def test_who_owns_it(coast: DebRoot, asked: str, owners: list[tuple[str, str]]) -> None:
    answer = owner(open_system(coast.path), [asked])
    (found,) = answer.records
    assert [(one.name, one.how.value) for one in found.owners] == owners
    assert answer.bad_news is (not owners)


def test_what_it_leads_to(coast: DebRoot) -> None:
    answer = owner(open_system(coast.path), ["/usr/bin/viewer", "/usr/bin/gone", "/bin/dsh"])
    assert [found.resolved for found in answer.records] == [
        "/usr/bin/viewer-a",
        None,
        "/usr/bin/dsh",
    ]


def test_a_glob_finds_what_is_listed_and_what_is_there(coast: DebRoot) -> None:
    answer = owner(open_system(coast.path), ["/usr/*bin/*"])
    found = {one.path: [o.name for o in one.owners] for one in answer.records}
    assert found["/usr/bin/gone"] == ["vanished"]
    assert found["/usr/sbin/nobodys"] == []
    assert "/usr/share/shell/mod.py" not in found
    deep = owner(open_system(coast.path), ["/usr/**/mod*"])
    assert [one.path for one in deep.records] == ["/usr/share/shell/mod.py"]


def test_a_glob_without_a_slash_in_front_matches_anywhere(coast: DebRoot) -> None:
    """Programs first, those of nobody's as well; each file once."""
    answer = owner(open_system(coast.path), ["*s*"])
    told = [(one.path, [o.name for o in one.owners]) for one in answer.records]
    assert told[:2] == [("/usr/sbin/nobodys", []), ("/usr/bin/dsh", ["shell"])]
    assert all("s" in path.rpartition("/")[2] for path, _ in told)
    assert [path for path, _ in told] == list(dict.fromkeys(path for path, _ in told))


@pytest.mark.parametrize(
    ("asked", "paths"),
    [
        ("gauge.conf", ["/etc/tide/gauge.conf", "/usr/share/gauge.conf"]),
        ("*gauge.conf", ["/etc/tide/gauge.conf", "/etc/tide/old-gauge.conf", "/usr/share/gauge.conf"]),
        ("tide/*.conf", ["/etc/tide/gauge.conf", "/etc/tide/old-gauge.conf"]),
        ("ga?ge.*", ["/etc/tide/gauge.conf", "/usr/share/gauge.conf"]),
        ("gauge", ["/usr/bin/gauge", "/usr/share/gauge"]),
        ("auge.conf", []),
    ],
)  # fmt: skip
def test_a_bare_name_is_every_path_with_that_last_part(
    deb_root: DebRoot, asked: str, paths: list[str]
) -> None:
    deb_root.package("gauge", files={
        "/usr/share/gauge.conf": b"x", "/etc/tide/gauge.conf": b"x", "/etc/tide/old-gauge.conf": b"x",
        "/usr/share/gauge/table": b"x", "/usr/bin/gauge": b"x",
    })  # fmt: skip
    answer = owner(open_system(deb_root.path), [asked])
    assert [one.path for one in answer.records] == paths
    assert bool(answer.notes) is not bool(paths)


def test_a_command_that_is_there_goes_before_one_that_has_vanished(coast: DebRoot) -> None:
    coast.package("before", files={"/usr/sbin/horn": b"x"})
    (coast.folder / "usr/sbin/horn").unlink()
    coast.package("now", files={"/usr/bin/horn": b"x"})
    found = owner(open_system(coast.path), ["horn"]).records
    told = [(one.path, [owner.name for owner in one.owners]) for one in found]
    assert told == [("/usr/bin/horn", ["now"]), ("/usr/sbin/horn", ["before"])]


def test_a_command_that_is_nowhere(coast: DebRoot) -> None:
    answer = owner(open_system(coast.path), ["no-such-command", "no-*"])
    assert answer.records == []
    assert answer.notes == ["nothing here is called no-such-command", "nothing here is called no-*"]
    assert answer.bad_news


def test_many_questions_are_answered_like_one(coast: DebRoot) -> None:
    """Many look-ups are served from a table; they must not differ from a single one."""
    paths = ["/bin/dsh", "/usr/bin/plot", "/usr/bin/plot.rope", "/usr/sbin/nobodys", "/usr"]
    single = [owner(open_system(coast.path), [path]).records[0] for path in paths]
    assert owner(open_system(coast.path), paths * 8).records == single * 8


@pytest.mark.parametrize(
    ("pattern", "path", "fits"),
    [
        ("/a/*", "/a/b", True),
        ("/a/*", "/a/b/c", False),
        ("/a/**", "/a/b/c", True),
        ("/a/?", "/a/bc", False),
        ("/a/[bc]", "/a/c", True),
        ("/a/[!bc]", "/a/c", False),
        ("/a/[", "/a/[", True),
        ("/a/[]x]", "/a/]", True),
        ("/a.b", "/axb", False),
        ("/a/\n*", "/a/\nb", True),
    ],
)
def test_globs_of_paths(pattern: str, path: str, fits: bool) -> None:
    import re

    assert bool(re.fullmatch(glob_pattern(pattern), path, re.DOTALL)) is fits


def test_relative_paths_start_at_the_roots_top(coast: DebRoot) -> None:
    assert absolute(open_system(coast.path), "usr//bin/") == "/usr/bin"
    assert absolute(open_system(coast.path, here="/usr"), "./bin/./a") == "/usr/bin/a"


@pytest.mark.parametrize(
    ("path", "others"),
    [
        ("/usr/bin/x", ["/bin/x"]),
        ("/usr/local/bin/x", []),
        ("/bin/x", ["/usr/bin/x"]),
        ("/opt/x", []),
    ],
)
def test_other_ways_to_write_a_path(path: str, others: list[str]) -> None:
    assert OfferedSearch._aliases(path) == others
