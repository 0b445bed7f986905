"""Versions taken apart."""

import pytest

from filigree.formats.version_parts import split_version
from filigree.model.package import VersionParts


@pytest.mark.parametrize(
    ("version", "parts"),
    [
        ("2:1.4-3", ("2", "1.4", "3")),
        ("1.4", (None, "1.4", None)),
        ("1.4-2-1", (None, "1.4-2", "1")),
        ("1:2:3-1", ("1", "2:3", "1")),
        ("2:1.4~rc1-3.sc12", ("2", "1.4~rc1", "3.sc12")),
        ("", (None, "", None)),
    ],
)
def test_a_version_taken_apart(version: str, parts: tuple[str | None, str, str | None]) -> None:
    assert split_version(version) == VersionParts(*parts)
