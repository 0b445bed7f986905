"""This machine's own packages, where it is a `deb` system, against its raw files read independently.

Nothing of Filigree is used for the expected side: text is cut with `split`, digests are coreutils'.
"""

import grp
import hashlib
import os
import pwd
import random
import re
import shutil
import socket
import stat
import subprocess
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from urllib.parse import urlsplit

import pytest

from filigree.formats.deb.versions import compare_versions
from filigree.formats.openpgp import judge_clear_signed
from filigree.formats.openpgp_keys import read_keys
from filigree.model.files import Aspect, Evidence, Verdict
from filigree.model.signatures import SignatureVerdict
from filigree.questions.asking.scopes import Scope, looking
from filigree.questions.commands.behind import behind
from filigree.questions.commands.census import Filter, census
from filigree.questions.commands.keys import keys
from filigree.questions.commands.needs import needs
from filigree.questions.commands.owner import owner
from filigree.questions.commands.provenance import Holds, provenance
from filigree.questions.commands.repos import repos
from filigree.questions.commands.seek import seek
from filigree.questions.commands.survey import survey
from filigree.questions.commands.verify import verify
from filigree.questions.dependencies.kept_offer_graph import graph_of_offers
from filigree.questions.evidence.references import Against
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.planning.outcomes import Wishes
from filigree.questions.planning.plans import Planner
from filigree.questions.planning.world import SystemWorld
from filigree.questions.verifying.verdicts import Manner
from filigree.system import System, open_system
from tests.planning.checking import checked

STATUS = Path("/var/lib/dpkg/status")
INFO = Path("/var/lib/dpkg/info")

pytestmark = pytest.mark.skipif(not STATUS.exists(), reason="this machine is no deb system")


@pytest.fixture(scope="module")
def system() -> Iterator[System]:
    with open_system("/") as opened:
        yield opened


def diversions() -> list[list[str]]:
    path = Path("/var/lib/dpkg/diversions")
    lines = path.read_text().splitlines() if path.exists() else []
    return [lines[at : at + 3] for at in range(0, len(lines), 3)]


def lists() -> dict[str, set[str]]:
    """The paths of each package, by the name of its list file."""
    return {
        path.stem.partition(":")[0]: set(path.read_text("utf-8", "surrogateescape").splitlines())
        for path in sorted(INFO.glob("*.list"))
    }


def test_counts_by_state(system: System) -> None:
    raw = Counter(
        line.split()[-1]
        for line in STATUS.read_text("utf-8", "surrogateescape").splitlines()
        if line.startswith("Status: ")
    )
    (found,) = survey(system).records
    words = {"config-files": "configuration-left"}
    assert found.states == {words.get(state, state): count for state, count in raw.items()}


def test_owners_of_random_paths(system: System) -> None:
    """The packages whose list has the line, for 200 paths that no diversion touches."""
    by_name = lists()
    moved = {path for entry in diversions() for path in entry[:2]}
    every = sorted({path for paths in by_name.values() for path in paths if path != "/."} - moved)
    asked = random.Random(7).sample(every, min(200, len(every)))
    for found in owner(system, asked).records:
        raw = {name for name, paths in by_name.items() if found.path in paths}
        listed = {one.name for one in found.owners if one.how.value == "listed"}
        # A merged directory may add the owners of the same file by its other path.
        assert listed == raw, found.path


def test_owners_of_every_diversion(system: System) -> None:
    by_name = lists()
    for original, moved_to, keeper in diversions():
        (kept, gone) = owner(system, [original, moved_to]).records
        raw = {name for name, paths in by_name.items() if original in paths}
        expected = {keeper} & raw
        if os.path.lexists(original):
            assert {o.name for o in kept.owners if o.how.value == "listed"} == expected, original
        assert {o.name for o in gone.owners if o.how.value == "diverted"} == raw - {keeper}, (
            moved_to
        )


def naive_findings(names: list[str]) -> tuple[set[str], set[str]]:
    """What coreutils finds different, and what is missing; diverted paths left to others."""
    moved = {entry[0] for entry in diversions()}
    altered, missing = set(), set()
    for name in names:
        for path in (p for p in INFO.glob(f"{name}*.md5sums") if p.stem.partition(":")[0] == name):
            done = subprocess.run(
                ["md5sum", "-c", str(path)], cwd="/", capture_output=True, check=False,
                env={**os.environ, "LC_ALL": "C"},
            )  # fmt: skip
            for line in done.stdout.decode("utf-8", "surrogateescape").splitlines():
                subject, _, verdict = line.rpartition(": ")
                if verdict == "FAILED" and f"/{subject}" not in moved:
                    altered.add(f"/{subject}")
                if verdict == "FAILED open or read" and f"/{subject}" not in moved:
                    missing.add(f"/{subject}")
    return altered, missing


def assert_agreement(system: System, names: list[str]) -> None:
    altered, missing = naive_findings(names)
    answer = verify(system, names)
    settings = {r.path for p in system.packages for r in system.database.configuration(p)}
    sums = {
        f"/{line[34:]}"
        for name in names
        for path in INFO.glob(f"{name}*.md5sums")
        for line in path.read_text("utf-8", "surrogateescape").splitlines()
    }
    moved = {path for entry in diversions() for path in entry[:2]}
    found = [r for r in answer.records if r.path in sums - settings and r.path not in moved]
    assert {r.path for r in found if r.verdict.value == "altered"} == altered - settings
    assert {r.path for r in found if r.verdict.value == "missing"} == missing - settings


@pytest.mark.skipif(shutil.which("md5sum") is None, reason="md5sum is not here to judge")
def test_verdicts_of_a_sample_of_packages(system: System) -> None:
    names = sorted({p.name for p in system.packages if (p.installed_size or 0) < 20 << 20})
    assert_agreement(system, random.Random(11).sample(names, min(60, len(names))))


@pytest.mark.whole
def test_verdicts_of_every_package(system: System) -> None:
    assert_agreement(system, sorted({p.name for p in system.packages}))


def test_the_running_system_needs_nothing_that_is_not_there(system: System) -> None:
    """A system that runs is consistent: anything found here is our error until shown otherwise."""
    names = [f"{p.name}:{p.architecture}" for p in system.packages if p.state.value == "installed"]
    unmet = [r for r in needs(system, names).records if r.status == "unmet"]
    assert unmet == []


def _raw_stanzas(text: str) -> list[dict[str, str]]:
    """Stanzas of one-line fields, cut with `split`; longer lines go with the field before."""
    found = []
    for stanza in text.split("\n\n"):
        fields: dict[str, str] = {}
        for line in stanza.replace("\n ", " ").split("\n"):
            name, colon, value = line.partition(": ")
            if colon:
                fields[name] = value
        if fields:
            found.append(fields)
    return found


_RAW_TERM = re.compile(r"([^\s(:]+)(?::\w+)?(?:\s*\(\s*([<>=]+)\s*([^)\s]+)\s*\))?")
_RAW_SIGNS = {
    ">=": lambda order: order >= 0, "<=": lambda order: order <= 0, "=": lambda order: order == 0,
    ">>": lambda order: order > 0, "<<": lambda order: order < 0,
}  # fmt: skip


def _raw_terms(text: str) -> list[tuple[str, str, str]]:
    plain = text.replace(",", " ").replace("|", " ")
    return [(m[1], m[2] or "", m[3] or "") for m in _RAW_TERM.finditer(plain)]


def _raw_walk(stanzas: list[dict[str, str]], start: str) -> set[str]:
    """Every package that is needed by one, breadth first."""
    providers: dict[str, list[tuple[str, str]]] = {}
    for fields in stanzas:
        providers.setdefault(fields["Package"], []).append((fields["Package"], fields["Version"]))
        for name, _, version in _raw_terms(fields.get("Provides", "")):
            providers.setdefault(name, []).append((fields["Package"], version))
    by_name = {fields["Package"]: fields for fields in stanzas}
    found = {start}
    front = [start]
    while front:
        fields = by_name[front.pop(0)]
        asked = f"{fields.get('Pre-Depends', '')} , {fields.get('Depends', '')}"
        for name, sign, version in _raw_terms(asked):
            for other, provided in providers.get(name, ()):
                fits = not sign or (
                    provided and _RAW_SIGNS[sign](compare_versions(provided, version))
                )
                if fits and other not in found:
                    found.add(other)
                    front.append(other)
    return found - {start}


def test_deep_needs_are_what_a_walk_over_the_raw_text_finds(system: System) -> None:
    """Of the five packages with the most needs; their versions are all met, as the system is in order."""
    stanzas = [
        fields
        for fields in _raw_stanzas(STATUS.read_text("utf-8", "surrogateescape"))
        if fields.get("Status", "").endswith(" installed")
    ]
    if len({fields["Architecture"] for fields in stanzas} - {"all"}) > 1:
        pytest.skip("packages of several architectures: a walk by names alone is not enough")
    stanzas.sort(key=lambda fields: -fields.get("Depends", "").count(","))
    for fields in stanzas[:5]:
        answer = needs(system, [fields["Package"]], None)
        told = {row.name for row in answer.records if row.name} - {fields["Package"]}
        assert told == _raw_walk(stanzas, fields["Package"])


def _plans_of_random_offers(system: System, count: int) -> None:
    """Each gets a plan that checks out against the raw text, or reasons."""
    raw = _raw_offers()
    cache = os.environ.get("XDG_CACHE_HOME")
    options = RepositoryOptions(cache=str(Path(cache, "filigree")) if cache else None)
    with looking(system, Scope.AVAILABLE, options) as lookup:
        assert lookup.offered is not None
        if lookup.offered.empty:
            pytest.skip("no index here may be believed")
        world = SystemWorld(system, lookup)
        names = sorted(lookup.offered.names())
        for name in random.Random(17).sample(names, min(count, len(names))):
            wish = next((o.package for o in world.versions(name) if not o.passed_over), None)
            if wish is None:
                continue
            outcome = Planner(world, Wishes(add=[wish])).decide()
            if not outcome.found:
                assert outcome.obstacles, name
                continue
            final = [item.package for item in outcome.final]
            assert checked(world, final) == [], name
            there = {package.name for package in final}
            for package in final:
                if package.state.value == "available":
                    fields = raw[package.name, package.version]
                    there |= {name for name, _, _ in _raw_terms(fields.get("Provides", ""))}
                else:
                    there |= {c.name for c in world.capabilities(package)}
            for package in final:
                if package.state.value == "available":
                    fields = raw[package.name, package.version]
                    asked = f"{fields.get('Pre-Depends', '')},{fields.get('Depends', '')}"
                    for group in filter(str.strip, asked.split(",")):
                        terms = {term for term, _, _ in _raw_terms(group)}
                        assert terms & there, (name, package.name, group)


def _raw_offers() -> dict[tuple[str, str], dict[str, str]]:
    lz4 = pytest.importorskip("lz4.frame")
    found = {}
    for path in LISTS.glob("*_Packages.lz4"):
        for fields in _raw_stanzas(lz4.decompress(path.read_bytes()).decode()):
            found[fields["Package"], fields["Version"]] = fields
    if not found:
        pytest.skip("no copies of indexes are here")
    return found


def test_plans_for_some_offers_check_out(system: System) -> None:
    _plans_of_random_offers(system, 12)


@pytest.mark.whole
def test_plans_for_three_hundred_offers_check_out(system: System) -> None:
    _plans_of_random_offers(system, 300)


@pytest.mark.whole
def test_the_graph_is_as_large_as_the_raw_text(system: System) -> None:
    raw = _raw_offers()
    with looking(system, Scope.AVAILABLE) as lookup:
        assert lookup.offered is not None
        graph = graph_of_offers(lookup.offered)
        assert set(graph.called) == {name for name, _ in raw}
        for one in sorted(graph.called)[::997]:
            told = {version for name, version in raw if name == one}
            assert {graph.identity(number)[0] for number in graph.called[one]} == told


LISTS = Path("/var/lib/apt/lists")


def test_signatures_are_what_gpgv_says(system: System) -> None:
    """Of every signed index here; and of each with one byte changed."""
    gpgv = shutil.which("gpgv")
    rows = [row for row in repos(system).records if row.path and row.keys]
    if gpgv is None or not rows:
        pytest.skip("gpgv, or signed indexes with keys of their own, are not here")
    for row in rows:
        signed = Path((row.path or "").split(f"_{row.component}_")[0] + "_InRelease")
        if not signed.exists() or not all(Path(key).suffix == ".gpg" for key in row.keys):
            continue
        rings = [word for key in row.keys for word in ("--keyring", key)]
        done = subprocess.run([gpgv, *rings, str(signed)], capture_output=True, check=False)
        assert (row.signature is SignatureVerdict.GOOD) is (done.returncode == 0)
        keys = [key for name in row.keys for key in read_keys(Path(name).read_bytes(), name)]
        changed = signed.read_bytes().replace(b"\nDate: ", b"\nDate:  ", 1)
        signature, _ = judge_clear_signed(changed, keys, datetime.now(UTC))
        assert signature.verdict is SignatureVerdict.BAD


def test_counts_of_indexes_are_what_grep_counts(system: System) -> None:
    lz4 = pytest.importorskip("lz4.frame")
    compared = 0
    for row in repos(system).records:
        packed = list(LISTS.glob(f"*_{row.suite}_*_Packages.lz4"))
        for path in packed:
            if path.name.endswith(f"_{row.component}_binary-{row.architecture}_Packages.lz4"):
                text = lz4.decompress(path.read_bytes())
                if str(path) == row.path:
                    assert row.packages == text.count(b"\nPackage: ") + text.startswith(
                        b"Package: "
                    )
                    compared += 1
    if not compared:
        pytest.skip("no copies of indexes are here")


def test_outsiders_are_in_no_index(system: System) -> None:
    lz4 = pytest.importorskip("lz4.frame")
    names: set[str] = set()
    for path in LISTS.glob("*_Packages.lz4"):
        for text in lz4.decompress(path.read_bytes()).decode().split("\n"):
            if text.startswith("Package: "):
                names.add(text.removeprefix("Package: "))
    if not names:
        pytest.skip("no copies of indexes are here")
    answer = census(system, Filter(outsiders=True))
    if answer.gaps:
        pytest.skip("not every index here may be believed")
    there = {p.name for p in system.packages if p.state.present}
    assert {row.name for row in answer.records} == there - names


def _raw_versions() -> dict[str, set[tuple[str, str]]]:
    """Version and file of every package in the copies of indexes here, read without our readers."""
    lz4 = pytest.importorskip("lz4.frame")
    found: dict[str, set[tuple[str, str]]] = {}
    for path in LISTS.glob("*_Packages.lz4"):
        for stanza in lz4.decompress(path.read_bytes()).decode().split("\n\n"):
            name = re.search(r"^Package: (.*)$", stanza, re.MULTILINE)
            version = re.search(r"^Version: (.*)$", stanza, re.MULTILINE)
            if name and version:
                found.setdefault(name[1], set()).add((version[1], path.name))
    if not found:
        pytest.skip("no copies of indexes are here")
    return found


def test_what_is_behind_is_in_the_raw_indexes(system: System) -> None:
    raw = _raw_versions()
    rows = {row.name: row for row in behind(system).records}
    pinned = any(Path("/etc/apt/preferences.d").iterdir())
    for row in rows.values():
        versions = {version for version, _ in raw[row.name]}
        assert row.candidate in versions
        if row.status == "ahead":
            assert row.installed not in versions
        if row.security:
            assert any("security" in name for _, name in raw[row.name])
    # Whatever is there in one version alone, and not in the installed one, must be told.
    for package in system.packages:
        versions = {version for version, _ in raw.get(package.name, ())}
        if package.state.present and len(versions) == 1 and package.version not in versions:
            assert package.name in rows or pinned
        if package.state.present and versions == {package.version}:
            assert package.name not in rows


def test_what_is_sought_is_what_the_raw_text_holds(system: System) -> None:
    lz4 = pytest.importorskip("lz4.frame")
    expected: set[str] = set()
    for path in LISTS.glob("*_Packages.lz4"):
        for stanza in lz4.decompress(path.read_bytes()).decode().split("\n\n"):
            fields = dict(
                re.findall(r"^(Package|Description|Provides): (.*)$", stanza, re.MULTILINE)
            )
            told = [fields.get("Package", ""), fields.get("Description", "")]
            told += [part.split("(")[0] for part in fields.get("Provides", "").split(",")]
            if any("harbour" in text.lower() for text in told):
                expected.add(fields["Package"])
    if not list(LISTS.glob("*_Packages.lz4")):
        pytest.skip("no copies of indexes are here")
    here = {p.name for p in system.packages if p.state.present
            and "harbour" in f"{p.name} {p.summary} {p.description}".lower()}  # fmt: skip
    assert {row.name for row in seek(system, ["harbour"]).records} == expected | here


# -- from a file to the distribution's key ---------------------------------------------------

CACHE = Path("/var/cache/apt/archives")


def cached() -> dict[str, Path]:
    """The archive of each installed package whose archive lies in the cache, by its name alone."""
    found = {}
    for stanza in STATUS.read_text("utf-8", "surrogateescape").split("\n\n"):
        told = dict(
            line.split(": ", 1) for line in stanza.split("\n") if re.match(r"\w[\w-]*: ", line)
        )
        if told.get("Status") != "install ok installed" or "Version" not in told:
            continue
        version = told["Version"].replace(":", "%3a")
        path = CACHE / f"{told['Package']}_{version}_{told['Architecture']}.deb"
        if path.exists():
            found[told["Package"]] = path
    return found


def raw_digests() -> dict[str, set[str]]:
    """Every SHA-256 that a copy of an index tells, by package: cut out of the raw text."""
    import lz4.frame

    found: dict[str, set[str]] = {}
    for path in Path("/var/lib/apt/lists").glob("*_Packages*"):
        data = path.read_bytes()
        text = (lz4.frame.decompress(data) if path.suffix == ".lz4" else data).decode(
            "utf-8", "replace"
        )
        for stanza in text.split("\n\n"):
            name = re.search(r"^Package: (.*)$", stanza, re.MULTILINE)
            digest = re.search(r"^SHA256: (.*)$", stanza, re.MULTILINE)
            if name and digest:
                found.setdefault(name[1], set()).add(digest[1])
    return found


def listing(archive: Path) -> dict[str, tuple[str, str, str]]:
    """Mode, owner and group of each path, as another program lists them."""
    with archive.open("rb") as file:
        parts = subprocess.run(["bsdtar", "-tf", "-"], stdin=file, capture_output=True, check=True)
        name = next(one for one in parts.stdout.decode().split() if one.startswith("data.tar"))
        file.seek(0)
        data = subprocess.run(
            ["bsdtar", "-xOf", "-", name], stdin=file, capture_output=True, check=True
        )
    done = subprocess.run(
        ["bsdtar", "-tvf", "-"], input=data.stdout, capture_output=True, check=True
    )
    found = {}
    for line in done.stdout.decode("utf-8", "surrogateescape").splitlines():
        mode, _, owner, group, *_, path = line.split(None, 8)
        found[path.partition(" -> ")[0].removeprefix(".").rstrip("/") or "/"] = (mode, owner, group)
    return found


@pytest.mark.skipif(
    not CACHE.is_dir() or not cached(), reason="no archive of what is installed is kept here"
)
def test_the_whole_chain_to_the_distributions_key(system: System) -> None:
    archives, told = cached(), raw_digests()
    options = random.Random(17).sample(sorted(archives), min(12, len(archives)))
    answer = provenance(system, options)
    for row in answer.records:
        digest = hashlib.sha256(archives[row.package].read_bytes()).hexdigest()
        links = {one.link: one for one in row.links}
        if digest not in told.get(row.package, ()):
            assert links.get("index entry") is None or links["index entry"].verdict is not Holds.YES
            continue
        assert f"sha256:{digest}" in links["index entry"].detail
        assert links["signed index"].verdict is Holds.YES, row
        assert row.evidence is Evidence.SIGNED
        assert Path(links["keyring file"].detail).is_file()


@pytest.mark.skipif(
    shutil.which("bsdtar") is None or not cached(),
    reason="nobody is here to judge, or nothing to be judged",
)
def test_modes_and_owners_against_the_archives(system: System) -> None:
    """Each path whose mode or owner is not the archive's, by another program's listing and `stat`."""
    archives, told = cached(), raw_digests()
    signed = [
        name for name, path in sorted(archives.items())
        if hashlib.sha256(path.read_bytes()).hexdigest() in told.get(name, ())
        and path.stat().st_size < 2 << 20
    ]  # fmt: skip
    names = random.Random(5).sample(signed, min(10, len(signed)))
    overrides = {
        one.split()[3] for one in Path("/var/lib/dpkg/statoverride").read_text().splitlines()
    }
    answer = verify(system, names, manner=Manner(Against(cache=True), Evidence.SIGNED))
    assert set(answer.summary.paths_by_evidence) <= {"signed", "record"} if names else True
    found = {
        row.path for row in answer.records
        if {Aspect.MODE, Aspect.OWNER, Aspect.GROUP} & {one.aspect for one in row.differences}
    }  # fmt: skip
    moved = {path for entry in diversions() for path in entry[:2]}
    expected = set()
    for name in names:
        for path, (mode, user, group) in listing(archives[name]).items():
            if mode.startswith("l") or path in overrides | moved or not os.path.lexists(path):
                continue
            seen = os.lstat(path)
            if stat.S_ISLNK(seen.st_mode):
                continue
            people = (pwd.getpwuid(seen.st_uid).pw_name, grp.getgrgid(seen.st_gid).gr_name)
            if stat.filemode(seen.st_mode) != mode or people != (user, group):
                expected.add(path)
    assert found == expected


def reachable(address: str) -> bool:
    """Whether somebody answers there at once: nobody is waited for."""
    parts = urlsplit(address)
    try:
        port = parts.port or (443 if parts.scheme == "https" else 80)
        with socket.create_connection((parts.hostname or "", port), timeout=3):
            return True
    except OSError:
        return False


def test_an_archive_that_is_fetched_for_this(system: System, tmp_path: Path) -> None:
    """A small one of what is installed and offered, from wherever this machine fetches."""
    archives, told = cached(), raw_digests()
    small = [
        p.name for p in system.packages
        if p.name in told and p.name not in archives and (p.installed_size or 1 << 30) < 300_000
    ]  # fmt: skip
    if not small:
        pytest.skip("nothing that is installed is offered, and not at hand")
    addresses = [row.address for row in repos(system).records if row.address]
    if not any(map(reachable, dict.fromkeys(addresses))):
        pytest.skip("no repository can be reached from here")
    manner = Manner(Against(fetch=True), Evidence.SIGNED)
    for name in small[:5]:
        answer = verify(
            system,
            [name],
            frozenset(Verdict),
            manner=manner,
            options=RepositoryOptions(cache=str(tmp_path)),
        )
        if any("could not be fetched" in gap.why for gap in answer.gaps):
            pytest.skip("no repository can be reached from here")
        if answer.records:
            assert answer.summary.fetched == 1
            assert {row.evidence for row in answer.records} <= {Evidence.SIGNED, Evidence.RECORD}
            return
    pytest.skip("none of those is offered in the version that is installed")


def test_every_key_that_another_program_finds(system: System, tmp_path: Path) -> None:
    """The fingerprints of the trusted files, as `gpg` lists them."""
    if shutil.which("gpg") is None:
        pytest.skip("gpg is not here to judge")
    folder = Path("/etc/apt/trusted.gpg.d")
    files = [path for path in folder.glob("*") if path.suffix in (".gpg", ".asc")]
    raw = set()
    for path in files:
        done = subprocess.run(
            ["gpg", "--homedir", str(tmp_path), "--batch", "--show-keys", "--with-colons", str(path)],
            capture_output=True, check=False,
        )  # fmt: skip
        # Of each key the fingerprint that comes first is its own; those of its parts follow.
        for block in done.stdout.decode().split("pub:")[1:]:
            own = next(line for line in block.splitlines() if line.startswith("fpr:"))
            raw.add((str(path), own.split(":")[9].lower()))
    rows = keys(system).records
    assert {(row.file, row.fingerprint) for row in rows if row.file in set(map(str, files))} == raw
    assert all(row.everything for row in rows if row.file in set(map(str, files)))
