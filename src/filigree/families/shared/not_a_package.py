"""What is told of no package, though it should be of one."""


class NotAPackage(ValueError):
    """What describes no package. The message says what it lacks."""
