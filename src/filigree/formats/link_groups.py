"""The files of link groups, which choose among interchangeable programs on several families.

A file a group: how it is chosen, the main link, pairs of further name and link up to a blank line, then
what there is to choose from. As the manual pages of the programs that write them describe them.
"""

from typing import NamedTuple

from filigree.formats.damage import text_of


class LinkGroup(NamedTuple):
    """The links of one group of interchangeable programs: its name, and every link it makes."""

    name: str
    links: dict[str, str]


def read_link_group(name: str, data: bytes) -> LinkGroup:
    """One group's file: mode, main link, then pairs of further name and link up to a blank line.

    `links` maps each name below the directory of chosen links to the link that points there.
    """
    lines = text_of(data).split("\n")
    links: dict[str, str] = {}
    if len(lines) > 1 and lines[1].startswith("/"):
        links[name] = lines[1]
    rest = iter(lines[2:])
    for slave in rest:
        link = next(rest, "")
        if not slave or not link.startswith("/"):
            break
        links[slave] = link
    return LinkGroup(name, links)
