"""A relation between packages that cannot be read: the same in every notation."""


class RelationError(ValueError):
    """A relation that does not parse. The message shows the part in question."""
