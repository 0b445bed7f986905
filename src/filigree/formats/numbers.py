"""Whole numbers as text: a claim like any other."""


def whole_number(text: str | None) -> int | None:
    """A number of at most fifteen digits; None for anything else."""
    return int(text) if text and text.isascii() and text.isdigit() and len(text) < 16 else None
