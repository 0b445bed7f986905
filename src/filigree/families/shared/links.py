"""Links that a system made at run time, out of its link groups."""

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Report
from filigree.families.shared.looking import names_in, read_or_report
from filigree.formats.link_groups import read_link_group
from filigree.model.files import ManagedLink


def read_managed_links(
    tree: Tree, groups: str, chosen: str, report: Report
) -> dict[str, ManagedLink]:
    """Every link of every group below `groups`, those below the directory of `chosen` links included."""
    links: dict[str, ManagedLink] = {}
    for name in names_in(tree, groups, report):
        group = read_link_group(name, read_or_report(tree, f"{groups}/{name}", report))
        for inner, path in group.links.items():
            links[path] = ManagedLink(path, name)
            links[f"{chosen}/{inner}"] = ManagedLink(f"{chosen}/{inner}", name)
    return links
