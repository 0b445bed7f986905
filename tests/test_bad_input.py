"""Damaged and hostile systems: a clear message, a gap where one is due, and never a traceback."""

import json
import os
import resource
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from filigree.questions.commands.verify import verify
from filigree.system import open_system
from tests.conftest import Run
from tests.making import INFO, STATUS, DebRoot

QUESTIONS: tuple[list[str], ...] = (
    ["survey"], ["census"], ["dossier", "*"], ["contents", "*"], ["owner", "/usr/bin/a", "a"],
    ["needs", "*", "--deep"], ["needed-by", "*", "--deep"], ["verify"], ["verify", "--all"],
)  # fmt: skip


def stanza(name: str, **fields: str) -> str:
    facts = {
        "Package": name,
        "Status": "install ok installed",
        "Version": "1",
        "Architecture": "all",
    }
    return "".join(f"{k}: {v}\n" for k, v in {**facts, **fields}.items()) + "\n"


def cut_in_half(root: DebRoot) -> None:
    root.append(STATUS, stanza("cut")[:60])


def nonsense_in_the_middle(root: DebRoot) -> None:
    root.write(STATUS, stanza("x") + "this is no field\n\n" + (root.folder / STATUS).read_text())


def no_name(root: DebRoot) -> None:
    root.append(STATUS, "Version: 1\nArchitecture: all\n\n")


def list_without_package(root: DebRoot) -> None:
    root.write(f"{INFO}/nobody.list", "/.\n/usr\n")


def package_without_list(root: DebRoot) -> None:
    root.append(STATUS, stanza("unlisted"))


def no_digest(root: DebRoot) -> None:
    root.append(f"{INFO}/a.md5sums", "zzzz  usr/bin/z\nusr/bin/y\n")


def no_path(root: DebRoot) -> None:
    root.append(f"{INFO}/a.list", "/usr/bin/line\nend\n")


def list_is_a_directory(root: DebRoot) -> None:
    (root.folder / f"{INFO}/a.list").unlink()
    (root.folder / f"{INFO}/a.list").mkdir()


def list_is_a_pipe(root: DebRoot) -> None:
    (root.folder / f"{INFO}/a.list").unlink()
    os.mkfifo(root.folder / f"{INFO}/a.list")


def digests_are_a_link_out(root: DebRoot) -> None:
    (root.folder / f"{INFO}/a.md5sums").unlink()
    root.link(f"{INFO}/a.md5sums", "../../../../../../../../etc/passwd")


def list_is_a_loop(root: DebRoot) -> None:
    (root.folder / f"{INFO}/a.list").unlink()
    root.link(f"{INFO}/a.list", "a.list")


def no_relation(root: DebRoot) -> None:
    root.append(STATUS, stanza("b", Depends="a (>=", Provides="((("))


def cut_diversions(root: DebRoot) -> None:
    root.write("var/lib/dpkg/diversions", "/usr/bin/a\n/usr/bin/b\n")


def bad_overrides(root: DebRoot) -> None:
    root.write("var/lib/dpkg/statoverride", "root root rwx /usr/bin/a\n")


def field_twice(root: DebRoot) -> None:
    root.append(STATUS, stanza("twice")[:-1] + "Version: 2\n\n")


def huge_field(root: DebRoot) -> None:
    with (root.folder / STATUS).open("ab") as file:
        file.write(b"Package: huge\nDescription: x\n")
        for _ in range(200):
            file.write(b" " + b"x" * (1 << 20) + b"\n")
        file.write(b"\n" + stanza("after").encode())


def marks_unreadable(root: DebRoot) -> None:
    (root.folder / "var/lib/apt/extended_states").mkdir(parents=True)


DAMAGES: tuple[Callable[[DebRoot], None], ...] = (
    cut_in_half, nonsense_in_the_middle, no_name, list_without_package, package_without_list,
    no_digest, no_path, list_is_a_directory, list_is_a_pipe, digests_are_a_link_out,
    list_is_a_loop, no_relation, cut_diversions, bad_overrides, field_twice, huge_field,
    marks_unreadable,
)  # fmt: skip


@pytest.fixture
def root(deb_root: DebRoot) -> DebRoot:
    deb_root.package("a", files={"/usr/bin/a": b"x"}, config={"/etc/a": b"y"})
    deb_root.package("z", files={"/usr/bin/z": b"x"}, Depends="a")
    return deb_root


@pytest.mark.parametrize("damage", DAMAGES, ids=lambda damage: damage.__name__)
def test_damage_costs_itself_and_is_told(
    root: DebRoot, ask: Callable[..., Any], damage: Callable[[DebRoot], None]
) -> None:
    """Some question reports the gap; the sound packages are still answered for; nothing breaks."""
    damage(root)
    questions = (["census"], ["needs", "*"], ["verify"], ["dossier", "*"])
    wholes = [ask(*question, "--root", root.path) for question in questions]
    assert any(whole["gaps"] for whole in wholes)
    names = {row["name"] for row in wholes[0]["records"]}
    assert names >= {"a", "z"}


@pytest.mark.parametrize(
    "damage", [nonsense_in_the_middle, list_is_a_pipe, no_relation, list_is_a_loop, no_path],
    ids=lambda damage: damage.__name__,
)  # fmt: skip
def test_no_question_breaks(root: DebRoot, call: Run, damage: Callable[[DebRoot], None]) -> None:
    damage(root)
    for question in QUESTIONS:
        for form in ("table", "lines"):
            done = call(*question, "--root", root.path, "--format", form)
            assert done.returncode in (0, 1, 3), (question, done.stderr)


def test_gaps_alone_have_a_status_of_their_own(root: DebRoot, call: Run) -> None:
    nonsense_in_the_middle(root)
    done = call("verify", "z", "--root", root.path)
    assert done.returncode == 3
    assert "a line that is no field" in done.stderr


def test_hostile_text_reaches_no_terminal(deb_root: DebRoot, call: Run) -> None:
    evil = "\x1b]0;owned\x07\x1b[2J[bold red]x[/bold red]"
    deb_root.package("evil", files={"/usr/bin/\x1b[31mred": b"x"}, Section=evil, Maintainer=evil)
    deb_root.write(STATUS, (deb_root.folder / STATUS).read_text().replace(
        "The package evil", f"{evil}\n {evil}"))  # fmt: skip
    (deb_root.folder / "usr/bin/\x1b[31mred").write_bytes(b"y")
    for question in (
        *QUESTIONS,
        ["census", "--columns", "section,summary"],
        ["dossier", "evil", "--full"],
    ):
        for form in ("table", "lines", "csv"):
            done = call(*question, "--root", deb_root.path, "--format", form, "--color", "never")
            assert "\x1b" not in done.stdout + done.stderr, question
            assert "\x07" not in done.stdout + done.stderr
    assert "[bold red]" in call("census", "--root", deb_root.path, "--columns", "summary").stdout


def test_bytes_that_are_not_utf8(deb_root: DebRoot, run: Run, ask: Callable[..., Any]) -> None:
    deb_root.package("a", files={"/usr/bin/a": b"x"})
    status = (deb_root.folder / STATUS).read_bytes()
    deb_root.write(STATUS, status.replace(b"The package", b"\xff\xfe package"))
    real = os.fsencode(deb_root.folder) + b"/usr/bin/b\xff"
    Path(os.fsdecode(real)).write_bytes(b"x")
    deb_root.append(f"{INFO}/a.list", b"/usr/bin/b\xff\n")
    assert ask("census", "--root", deb_root.path)["records"][0]["summary"] == "\\xff\\xfe package a"
    found = ask("owner", os.fsdecode(b"/usr/bin/b\xff"), "--root", deb_root.path)
    assert found["records"][0]["path"] == "/usr/bin/b\\xff"
    assert found["records"][0]["owners"][0]["name"] == "a"
    done = run("contents", "a", "--root", deb_root.path, LC_ALL="C")
    assert "/usr/bin/b\\xff" in done.stdout


@pytest.mark.parametrize("content", [b"", b"\n\n\n", b"\0" * 5000, b"\xff" * 5000, b": \n" * 500])
def test_a_database_of_nothing(deb_root: DebRoot, call: Run, content: bytes) -> None:
    deb_root.write(STATUS, content)
    for question in QUESTIONS:
        done = call(*question, "--root", deb_root.path)
        assert done.returncode in (1, 3), (question, done.stderr)
        assert "empty" in done.stderr


def test_a_database_without_permission(deb_root: DebRoot, call: Run) -> None:
    if os.geteuid() == 0:
        pytest.skip("root may read everything")
    (deb_root.folder / STATUS).chmod(0)
    done = call("census", "--root", deb_root.path)
    assert done.returncode == 2
    assert "permission denied" in done.stderr


def test_a_user_who_cannot_read_everything_is_told_so(deb_root: DebRoot) -> None:
    """Done as somebody else, in a process of their own, where the test is run by root."""
    deb_root.package("a", files={"/opt/open": b"x", "/opt/closed": b"x", "/srv/deep/in": b"x"})
    (deb_root.folder / "opt/closed").chmod(0)
    (deb_root.folder / "srv/deep").chmod(0)
    for above in (deb_root.folder, *deb_root.folder.parents):
        if above.is_relative_to(tempfile.gettempdir()) and above != Path(tempfile.gettempdir()):
            above.chmod(0o755)
    verify(open_system(deb_root.path), workers=1)  # loads what the other user may not read
    reader, writer = os.pipe()
    child = os.fork()
    if not child:
        try:
            if os.geteuid() == 0:
                os.setgroups([])
                os.setgid(65534)
                os.setuid(65534)
            answer = verify(open_system(deb_root.path), workers=1)
            told = [answer.exit_status, answer.summary.verdicts, [gap.why for gap in answer.gaps]]
            os.write(writer, json.dumps(told).encode())
        finally:
            os._exit(0)
    os.close(writer)
    status, verdicts, gaps = json.loads(os.read(reader, 65536))
    os.waitpid(child, 0)
    os.close(reader)
    (deb_root.folder / "srv/deep").chmod(0o755)
    assert status == 3
    assert verdicts["unreadable"] == 2
    assert "permission denied" in gaps


def test_a_huge_field_does_not_fill_the_memory(root: DebRoot) -> None:
    huge_field(root)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    system = open_system(root.path)
    assert [p.name for p in system.packages] == ["a", "z", "after"]
    assert any("a stanza of more than" in gap.why for gap in system.gaps)
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 100 * 1024
