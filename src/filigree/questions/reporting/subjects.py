"""What a statement about a system is about, by a digest that others can make, too."""

import hashlib

from filigree.model.errors import BadQuestion
from filigree.system import System

_SHA256 = "sha256:"


def subject_of(system: System) -> tuple[str, str] | None:
    """The name and the SHA-256 of an image (of its manifest), or of the file of a snapshot; None of a
    directory, of which there is no such thing. Raises BadQuestion for an image that is not what it says:
    nothing is stated of a digest that others would find to be of something else."""
    layered = system.tree.layered
    if layered is not None:
        if system.tree.troubles:
            what, why = system.tree.troubles[0]
            raise BadQuestion(
                f"nothing can be stated of it: {what}: {why}",
                system.root,
                "hand it over without a statement",
            )
        digest = layered.facts.digest
        if digest is not None and digest.startswith(_SHA256):
            names = layered.facts.names
            return (names[0] if names else system.root), digest.removeprefix(_SHA256)
        return None
    if system.tree.taken is None:
        return None
    try:
        with open(system.root, "rb") as file:
            return system.label or system.root, hashlib.file_digest(file, "sha256").hexdigest()
    except OSError as error:
        raise BadQuestion(f"it cannot be read: {error.strerror}", system.root) from error
