"""Names: whether an archive is called what it is, and who a number is."""

from filigree.model.archives import ArchiveFacts
from filigree.model.package import Package
from filigree.system import System


def misnamed(system: System, package: Package, facts: ArchiveFacts) -> list[str]:
    """In what the name of an archive's file disagrees with what is in it, as phrases."""
    called = facts.path.rpartition("/")[2]
    archives = system.family_of(package).archives
    parts = archives.parts_of_name(called) if archives is not None else None
    if archives is None or parts is None:
        form = facts.form.partition(" ")[0]
        return [f"{called} is not called as an archive of the {form} format is"]
    if not any(parts):
        right = archives.name_of(package)
        return [f"{called} does not say what it is: it would be called {right}"]
    version = package.version
    if ":" not in parts.version:
        version = version.partition(":")[2] or version
    pairs = (
        ("name", parts.name, package.name),
        ("version", parts.version, version),
        ("architecture", parts.architecture, package.architecture),
    )
    return [
        f"the file is called after the {what} {said}, but holds {is_}"
        for what, said, is_ in pairs
        if said not in ("", is_)  # what a name does not tell is no disagreement
    ]


def user_called(system: System, user: str | None) -> str | None:
    """Who asked for something, by name where a history tells a number that the root knows."""
    if user is not None and user.isdecimal() and len(user) < 12:
        return system.users.name(int(user))
    return user
