"""The deb family: packages, states, files, policy, links, needs, as the raw files say."""

import os
from pathlib import Path

import pytest

from filigree.families.protocol import Asked, Provided
from filigree.families.registry import families
from filigree.model.errors import DatabaseError, NoSystem
from filigree.model.files import Kind, ManagedLink, Role
from filigree.model.needs import Capability, Relation, Term
from filigree.model.package import Package, Reason, State, Wanted
from filigree.system import System, open_system
from tests.making import INFO, STATUS, DebRoot, md5

AUTOMATIC = "var/lib/apt/extended_states"


def only(system: System, name: str) -> Package:
    (found,) = [p for p in system.packages if p.name == name]
    return found


@pytest.mark.parametrize(
    ("status", "state", "wanted", "held", "damaged"),
    [
        ("install ok installed", State.INSTALLED, Wanted.INSTALL, False, False),
        ("hold ok installed", State.INSTALLED, Wanted.HOLD, True, False),
        ("install reinstreq half-installed", State.HALF_INSTALLED, Wanted.INSTALL, False, True),
        ("install ok unpacked", State.UNPACKED, Wanted.INSTALL, False, False),
        ("install ok half-configured", State.HALF_CONFIGURED, Wanted.INSTALL, False, False),
        ("install ok triggers-awaited", State.AWAITING_TRIGGERS, Wanted.INSTALL, False, False),
        ("install ok triggers-pending", State.PENDING_TRIGGERS, Wanted.INSTALL, False, False),
        ("deinstall ok config-files", State.CONFIGURATION_LEFT, Wanted.REMOVE, False, False),
        ("purge ok not-installed", State.NOT_INSTALLED, Wanted.PURGE, False, False),
        ("something new here", State.UNKNOWN, Wanted.UNKNOWN, False, True),
        ("two words", State.UNKNOWN, Wanted.UNKNOWN, False, False),
    ],
)
def test_every_state(
    deb_root: DebRoot, status: str, state: State, wanted: Wanted, held: bool, damaged: bool
) -> None:
    deb_root.package("a", status=status)
    package = only(open_system(deb_root.path), "a")
    assert (package.state, package.wanted, package.held, package.damaged) == (
        state, wanted, held, damaged,
    )  # fmt: skip


def test_only_what_is_in_order_is_sound() -> None:
    assert {state for state in State if state.sound} == {
        State.INSTALLED, State.AWAITING_TRIGGERS, State.PENDING_TRIGGERS,
    }  # fmt: skip
    assert {state for state in State if not state.present} == {
        State.CONFIGURATION_LEFT, State.NOT_INSTALLED, State.ARCHIVE, State.AVAILABLE,
    }  # fmt: skip


def test_the_facts_of_a_stanza(deb_root: DebRoot) -> None:
    deb_root.package(
        "a", "2:1-3", Source="b (1.9)", Installed_Size="12", Section="science", Essential="yes",
        Maintainer="Ottoline Marsh <ottoline@tides.example>",
    )  # fmt: skip
    package = only(open_system(deb_root.path), "a")
    assert (package.source, package.source_version) == ("b", "1.9")
    assert package.installed_size == 12 * 1024
    assert package.protected
    assert package.summary == "The package a"
    assert package.license is None
    assert package.installed_at is not None


def test_why_it_is_installed(deb_root: DebRoot) -> None:
    deb_root.package("chosen")
    deb_root.package("needed")
    deb_root.package("words", architecture="all")
    deb_root.package("foreign", architecture="arm64")
    system = open_system(deb_root.path)
    assert {p.reason for p in system.packages} == {None}
    deb_root.write(
        AUTOMATIC,
        "".join(
            f"Package: {name}\nArchitecture: amd64\nAuto-Installed: {mark}\n\n"
            for name, mark in (("needed", 1), ("words", 1), ("foreign", 1), ("chosen", 0))
        ),
    )
    reasons = {p.name: p.reason for p in open_system(deb_root.path).packages}
    assert reasons == {
        "chosen": Reason.CHOSEN,
        "needed": Reason.DEPENDENCY,
        "words": Reason.DEPENDENCY,
        "foreign": Reason.CHOSEN,
    }


def test_a_minimal_image_keeps_one_file_a_package(tmp_path: Path) -> None:
    root = DebRoot(tmp_path)
    (tmp_path / STATUS).unlink()
    folder = "var/lib/dpkg/status.d"
    root.write(f"{folder}/a", "Package: a\nVersion: 1\nArchitecture: amd64\n")
    root.write(f"{folder}/a.md5sums", f"{md5(b'x')}  usr/bin/a\n")
    root.write("usr/bin/a", b"x")
    system = open_system(root.path)
    package = only(system, "a")
    assert package.state is State.INSTALLED
    assert [record.path for record in system.database.files(package)] == ["/usr/bin/a"]
    assert not system.gaps


def test_the_record_of_each_path(deb_root: DebRoot) -> None:
    deb_root.package(
        "a", files={"/usr/bin/a": b"program"}, config={"/etc/a.conf": b"setting"},
        listed=["/usr/lib/a.so"],
    )  # fmt: skip
    system = open_system(deb_root.path)
    records = {r.path: r for r in system.database.files(only(system, "a"))}
    assert set(records) == {
        "/",
        "/usr",
        "/usr/bin",
        "/usr/bin/a",
        "/etc",
        "/etc/a.conf",
        "/usr/lib/a.so",
    }
    assert records["/usr/bin"].kind is Kind.DIRECTORY
    assert records["/usr/bin/a"].digest == f"md5:{md5(b'program')}"
    assert records["/usr/bin/a"].kind is Kind.FILE
    setting = records["/etc/a.conf"]
    assert (setting.config, setting.mark, setting.digest) == (
        True,
        Role.CONFIG,
        f"md5:{md5(b'setting')}",
    )
    assert records["/usr/lib/a.so"].kind is None


def test_what_is_on_record_but_not_listed_is_not_lost(deb_root: DebRoot) -> None:
    deb_root.package("a", Conffiles="\n /etc/gone " + "0" * 32 + " obsolete\n /etc/new newconffile")
    deb_root.append(f"{INFO}/a.md5sums", f"{'1' * 32}  usr/bin/unlisted\n")
    system = open_system(deb_root.path)
    records = {r.path: r for r in system.database.files(only(system, "a"))}
    assert records["/usr/bin/unlisted"].digest == "md5:" + "1" * 32
    assert records["/etc/gone"].excuse == "the package no longer ships it"
    assert records["/etc/new"].digest is None


def test_diversions_move_everybodys_file_but_the_keepers(deb_root: DebRoot) -> None:
    for name in ("keeper", "other"):
        deb_root.package(name, files={"/bin/a": name.encode()})
    deb_root.write(
        "var/lib/dpkg/diversions", "/bin/a\n/bin/a.other\nkeeper\n/bin/z\n/bin/z.local\n:\n"
    )
    system = open_system(deb_root.path)
    places = {
        name: {r.path: r.location for r in system.database.files(only(system, name))}
        for name in ("keeper", "other")
    }
    assert places["keeper"]["/bin/a"] == "/bin/a"
    assert places["other"]["/bin/a"] == "/bin/a.other"
    assert len(system.relocations) == 2


def test_declared_owners_modes_and_exclusions(deb_root: DebRoot) -> None:
    deb_root.package(
        "a",
        files={"/usr/sbin/a": b"x", "/usr/share/doc/a/b": b"", "/usr/share/doc/a/copyright": b""},
    )
    deb_root.write("var/lib/dpkg/statoverride", "root tide 4750 /usr/sbin/a\n")
    deb_root.write(
        "etc/dpkg/dpkg.cfg.d/small", "path-exclude=/usr/share/doc/*\npath-include=*/copyright\n"
    )
    deb_root.write("etc/dpkg/dpkg.cfg.d/ignored.orig", "path-exclude=/usr/*\n")
    system = open_system(deb_root.path)
    records = {r.path: r for r in system.database.files(only(system, "a"))}
    one = records["/usr/sbin/a"]
    assert (one.owner, one.group, one.mode, one.excuse) == ("root", "tide", 0o4750, None)
    assert records["/usr/share/doc/a/b"].excuse == "left out by the declared rule /usr/share/doc/*"
    assert records["/usr/share/doc/a/copyright"].excuse is None


def test_links_made_at_run_time(deb_root: DebRoot) -> None:
    deb_root.write(
        "var/lib/dpkg/alternatives/viewer", "auto\n/usr/bin/viewer\n\n/usr/bin/a\n50\n\n"
    )
    links = open_system(deb_root.path).managed_links
    assert links["/usr/bin/viewer"] == ManagedLink("/usr/bin/viewer", "viewer")
    assert "/etc/alternatives/viewer" in links


def test_lists_of_either_naming_and_of_two_architectures(deb_root: DebRoot) -> None:
    for architecture in ("amd64", "arm64"):
        deb_root.package(
            "lib", files={f"/usr/lib/{architecture}/lib.so": b""}, architecture=architecture,
            stem=f"lib:{architecture}", Multi_Arch="same",
        )  # fmt: skip
    system = open_system(deb_root.path)
    for package in system.packages:
        assert f"/usr/lib/{package.architecture}/lib.so" in system.database.listing(package)
    assert not system.gaps


def test_needs_of_every_kind(deb_root: DebRoot) -> None:
    deb_root.package(
        "a", Pre_Depends="b", Depends="c (>= 1), d | e", Recommends="f", Suggests="g", Enhances="h",
        Breaks="i (<< 2)", Conflicts="j", Replaces="k", Provides="v, w (= 3)",
    )  # fmt: skip
    system = open_system(deb_root.path)
    package = only(system, "a")
    assert [need.kind for need in system.database.needs(package)] == [
        Relation.REQUIRES_FIRST, Relation.REQUIRES, Relation.REQUIRES, Relation.RECOMMENDS,
        Relation.SUGGESTS, Relation.ENHANCES, Relation.BREAKS, Relation.CONFLICTS, Relation.REPLACES,
    ]  # fmt: skip
    assert system.database.capabilities(package) == (
        Capability("a", "1.0-1"), Capability("v"), Capability("w", "3"),
    )  # fmt: skip


def made(name: str, architecture: str = "amd64", serves: str = "", version: str = "1") -> Package:
    fields = {"Multi-Arch": serves} if serves else {}
    return Package(name, version, architecture, "deb", fields=fields)


@pytest.mark.parametrize(
    ("term", "asker", "holder", "capability", "met"),
    [
        ("b", "amd64", made("b"), "b 1", True),
        ("b", "amd64", made("b", "arm64"), "b 1", False),
        ("b", "amd64", made("b", "arm64", "foreign"), "b 1", True),
        ("b", "amd64", made("b", "arm64", "allowed"), "b 1", False),
        ("b:any", "amd64", made("b", "arm64", "allowed"), "b 1", True),
        ("b:any", "amd64", made("b", "arm64"), "b 1", False),
        ("b:arm64", "amd64", made("b", "arm64"), "b 1", True),
        ("b:native", "arm64", made("b"), "b 1", True),
        ("b:native", "arm64", made("b", "arm64"), "b 1", False),
        ("b", "all", made("b"), "b 1", True),
        ("b", "amd64", made("b", "all"), "b 1", True),
        ("b", "arm64", made("b", "all"), "b 1", False),
        ("b", "arm64", made("b", "all", "foreign"), "b 1", True),
        ("b >= 2", "amd64", made("b"), "b 1", False),
        ("b >= 2", "amd64", made("b"), "b 2~rc1", False),
        ("b >= 2", "amd64", made("b"), "b 2.0-1", True),
        ("v", "amd64", made("b"), "v", True),
        ("v >= 1", "amd64", made("b", version="9"), "v", False),
        ("v >= 1", "amd64", made("b"), "v 1", True),
        ("x", "amd64", made("b"), "b 1", False),
    ],
)
def test_what_meets_a_need(
    deb_root: DebRoot, term: str, asker: str, holder: Package, capability: str, met: bool
) -> None:
    from filigree.model.needs import Comparison

    deb_root.write("var/lib/dpkg/arch", "amd64\narm64\n")
    name, _, version = term.partition(" >= ")
    name, _, architecture = name.partition(":")
    asked = Term(
        name, Comparison.AT_LEAST if version else None, version or None, architecture or None
    )
    provided, _, at = capability.partition(" ")
    offered = Capability(provided, at or None)
    database = open_system(deb_root.path).database
    assert (
        database.rules.satisfies(Asked(asked, made("a", asker)), Provided(offered, holder)) is met
    )


def test_a_root_that_is_no_system(tmp_path: Path) -> None:
    with pytest.raises(NoSystem) as caught:
        open_system(str(tmp_path))
    for family in families():
        for path in family.looked_for():
            assert path in str(caught.value)


def test_a_database_that_cannot_be_read(tmp_path: Path) -> None:
    folder = tmp_path / "var/lib/dpkg"
    folder.mkdir(parents=True)
    os.mkfifo(folder / "status")
    with pytest.raises(DatabaseError):
        open_system(str(tmp_path))
    (folder / "status").unlink()
    (folder / "status").mkdir()
    with pytest.raises(DatabaseError):
        open_system(str(tmp_path))


def test_an_empty_database_is_a_gap(deb_root: DebRoot) -> None:
    system = open_system(deb_root.path)
    assert [gap.why for gap in system.gaps] == ["the package database is empty"]
