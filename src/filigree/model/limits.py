"""The greatest lengths that names, versions and paths may have, in signs: what is longer is no such
thing.

A name or a version is compared, looked up and shown everywhere; one of megabytes would keep each of these
busy. Paths are longer than any kernel takes by far. What is longer costs itself, and is told.
"""

NAME_LIMIT = 1024
VERSION_LIMIT = 1024
PATH_LIMIT = 16 << 10


def why_too_long(
    name: str, version: str | None = None, architecture: str | None = None
) -> str | None:
    """Why these cannot be what they are said to be; None where nothing is too long."""
    long = max(len(name), len(architecture or ""))
    if long <= NAME_LIMIT and len(version or "") <= VERSION_LIMIT:
        return None
    for what, text, limit in (
        ("a name", name, NAME_LIMIT), ("a version", version, VERSION_LIMIT),
        ("an architecture", architecture, NAME_LIMIT),
    ):  # fmt: skip
        if text is not None and len(text) > limit:
            return f"{what} of {len(text):,} signs, and {limit:,} are the most that makes sense"
    return None
