"""What would help, in the words of the options of the command line."""

from filigree.model.hints import Hint

_WORDS = {
    Hint.NAME_A_ROOT: "name a directory with --root",
    Hint.NAME_THE_TOP: "name the top directory of a system with --root",
    Hint.CHOOSE_AN_IMAGE: "name one with --image, and a machine with --platform",
    Hint.KEEP: "leave --no-cache out",
    Hint.EARLIER_RESULT: "give what verify --all --format json wrote",
    Hint.NO_EXPRESSION: "check it, or leave --regex out",
}


def worded(advice: str | Hint) -> str:
    """What to do, as it is said on a command line."""
    return _WORDS[advice] if isinstance(advice, Hint) else advice
