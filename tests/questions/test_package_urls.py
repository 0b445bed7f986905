"""Package URLs as subjects of commands."""

from pathlib import Path

import pytest

from filigree.model.errors import BadQuestion
from filigree.questions.asking.package_urls import pointed_by
from filigree.questions.asking.scopes import Scope
from filigree.questions.asking.subjects import match_subjects
from filigree.questions.commands.dossier import dossier
from filigree.questions.commands.needs import needs
from filigree.questions.commands.verify import verify
from filigree.system import System, open_system

HERE: list[tuple[str, str, str | None]] = [
    ("heron", "pkg:deb/tidegauge", "1:2.1-3"), ("heron", "pkg:deb/sallow/tidegauge@2.1-3", "1:2.1-3"),
    ("heron", "pkg:deb/sallow/tidegauge@1%3A2.1-3", "1:2.1-3"),
    ("heron", "pkg:deb/sallow/tidegauge@2.1-3?epoch=1", "1:2.1-3"),
    ("heron", "pkg:deb/sallow/tidegauge@2.1-3?epoch=2", None),
    ("heron", "pkg:deb/sallow/tidegauge@2.1-3?epoch=0", None),
    ("heron", "pkg:deb/sallow/tidegauge@2.1-4", None),
    ("heron", "pkg:deb/sallow/tidegauge@2.1-3?arch=amd64", "1:2.1-3"),
    ("heron", "pkg:deb/sallow/tidegauge@2.1-3?arch=arm64", None),
    ("heron", "pkg:deb/sallow/tidegauge?distro=sallowcoast-12", "1:2.1-3"),
    ("heron", "pkg:deb/sallow/tidegauge?distro=sallowcoast", "1:2.1-3"),
    ("heron", "pkg:deb/sallow/tidegauge?distro=elsewhere-9", None),
    ("heron", "pkg:rpm/sallow/tidegauge", None),
    ("curlew", "pkg:rpm/sallow/tidegauge@2.1-3?arch=x86_64&epoch=1", "1:2.1-3"),
    ("curlew", "pkg:rpm/sallow/tidegauge@2.1-3", "1:2.1-3"),
    ("curlew", "pkg:rpm/sallow/nosuch", None),
    ("plover", "pkg:alpm/sallow/tidegauge@1:2.1-3?arch=x86_64", "1:2.1-3"),
    ("plover", "pkg:alpm/sallow/tidegauge@2.1-3", "1:2.1-3"),
    ("dunlin", "pkg:slackware/sallow/tidegauge@2.1-3", "2.1-3"),
    ("dunlin", "pkg:deb/sallow/tidegauge", None),
    ("sanderling", "pkg:apk/sallow/tidegauge@2.1-r3?arch=x86_64", "2.1-r3"),
    ("sanderling", "pkg:apk/sallow/tidegauge@2.1-r4", None),
    ("sanderling", "pkg:apk/sallow/tidegauge?arch=aarch64", None),
]  # fmt: skip


@pytest.mark.parametrize(("url", "narrow"), [("pkg:deb/a/b", False), ("pkg:deb/a/b@1", True)])
def test_a_version_makes_it_narrow(heron: Path, url: str, narrow: bool) -> None:
    with open_system(str(heron)) as system:
        assert pointed_by(system, url).narrow is narrow


@pytest.mark.parametrize(("station", "url", "version"), HERE)
def test_what_a_package_url_points_at(
    station: str, url: str, version: str | None, request: pytest.FixtureRequest
) -> None:
    root: Path = request.getfixturevalue(station)
    with open_system(str(root)) as system:
        matched = match_subjects(system, [url])
    assert [one.version for one in matched.packages] == ([version] if version else [])
    assert len(matched.unmatched) == (0 if version else 1)
    if version is None:
        assert url.partition("@")[0].partition("?")[0] in str(matched.unmatched[0])


@pytest.mark.parametrize("url", ["pkg:", "pkg:deb", "pkg:deb/", "pkg:/tidegauge", "pkg:deb/a@1?x"])
def test_what_is_no_package_url_is_no_question(heron: Path, url: str) -> None:
    with open_system(str(heron)) as system, pytest.raises(BadQuestion, match="no package URL"):
        match_subjects(system, [url])


def test_commands_take_package_urls_wherever_they_take_packages(heron: Path) -> None:
    def asked(system: System) -> list[int]:
        url = "pkg:deb/sallow/quayside"
        return [
            len(dossier(system, [url], scope=Scope.AVAILABLE).records),
            len(needs(system, ["pkg:deb/sallow/tidegauge"]).records),
            len(verify(system, ["pkg:deb/sallow/tidegauge"], workers=1).records),
        ]

    with open_system(str(heron)) as system:
        assert all(asked(system))
