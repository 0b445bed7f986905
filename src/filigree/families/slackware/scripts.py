"""Build scripts of a community repository, as they lie below a root: a list of all, or a folder for each.

What they make is offered, and has to be built first. They are read as text, and never run.
"""

import hashlib
from collections.abc import Iterable, Iterator, Mapping

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Report
from filigree.families.shared.indexes import unpacked_pieces
from filigree.families.shared.looking import names_in, read_or_report
from filigree.families.slackware import places
from filigree.families.slackware.described import called
from filigree.formats.slackware.build_scripts import INFO_LIMIT, read_info, read_script_list
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, words_of
from filigree.model.needs import Relation
from filigree.model.package import Package

MORE = "%README%"
"""What stands among needs where more of them is told to people."""
_FIELDS = (
    ("PRGNAM", "NAME"), ("LOCATION", "LOCATION"), ("VERSION", "VERSION"), ("DOWNLOAD", "DOWNLOAD"),
    ("MD5SUM", "MD5SUM"), ("REQUIRES", "REQUIRES"), ("DESCRIPTION", "SHORT DESCRIPTION"),
    ("HOMEPAGE", "HOMEPAGE"), ("MAINTAINER", "MAINTAINER"),
)  # fmt: skip


def needs_of_script(fields: Mapping[str, str]) -> list[tuple[Relation, str]]:
    """What is needed by what a script makes."""
    words = fields.get("REQUIRES", "").split()
    return [(Relation.REQUIRES, word) for word in words if word != MORE]


def text_of_script(fields: Mapping[str, str]) -> str:
    """The fields of a script as a list of scripts writes them."""
    lines = (f"SLACKBUILD {name}: {fields[own]}" for own, name in _FIELDS if own in fields)
    return "\n".join(lines)


def info_files(tree: Tree, top: str, report: Report) -> Iterator[tuple[str, str]]:
    """The file of each script in a tree of folders, `group/name/name.info`, with its folder."""
    for group in names_in(tree, top, report):
        above = f"{top}/{group}"
        if group.startswith(".") or not tree.is_directory(above):
            continue
        for name in names_in(tree, above, report):
            path = f"{above}/{name}/{name}.info"
            if tree.exists(path):
                yield path, f"./{group}/{name}"


def scripts_in(tree: Tree, top: str, report: Report) -> Iterator[dict[str, str]]:
    """The fields of every script in a tree of folders."""
    for path, place in info_files(tree, top, report):
        fields = read_info(read_or_report(tree, path, report, INFO_LIMIT))
        if not fields.get("PRGNAM") or not fields.get("VERSION"):
            report(Gap(path, "it does not say what it makes, or of which version"))
            continue
        yield {**fields, "LOCATION": place}


def digest_of_tree(tree: Tree, top: str, report: Report) -> str:
    """One digest of all files of a tree of scripts."""
    digest = hashlib.sha256()
    for path, _ in info_files(tree, top, report):
        data = read_or_report(tree, path, report, INFO_LIMIT)
        digest.update(f"{path} {len(data)}\n".encode("utf-8", "surrogateescape") + data)
    return f"sha256:{digest.hexdigest()}"


def script_needs(
    tree: Tree, report: Report, packages: Iterable[Package]
) -> dict[str, list[tuple[Relation, str]]]:
    """What the scripts below a root tell of the needs of what is installed at their version, by label."""
    if not tree.is_directory(places.BUILD_SCRIPTS):
        return {}
    here = {(p.name, p.version.rpartition("-")[0]): called(p) for p in packages if p.vendor}
    found = {}
    for fields in scripts_below(tree, report):
        label = here.get((fields.get("PRGNAM", ""), fields.get("VERSION", "")))
        if label is not None:
            found[label] = needs_of_script(fields)
    return found


def scripts_below(tree: Tree, report: Report) -> Iterator[dict[str, str]]:
    """The fields of every script below a root: out of the list of all, where there is one."""
    path = f"{places.BUILD_SCRIPTS}/{places.SCRIPT_LIST}"
    if not tree.exists(path):
        yield from scripts_in(tree, places.BUILD_SCRIPTS, report)
        return
    try:
        yield from read_script_list(unpacked_pieces(tree, path))
    except (AccessError, UnpackError) as error:
        report(Gap(path, words_of(error)))
