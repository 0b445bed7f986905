"""What would help where an answer cannot be given: values, which the rim says in the words of its
options.
"""

from enum import StrEnum


class Hint(StrEnum):
    """What to do about an error."""

    NAME_A_ROOT = "name a directory as the root"
    NAME_THE_TOP = "name the top directory of a system as the root"
    CHOOSE_AN_IMAGE = "say which image is meant, and for which machine"
    KEEP = "let something be kept"
    EARLIER_RESULT = "give a whole result of an earlier verification"
    NO_EXPRESSION = "check it, or let it be no expression"
