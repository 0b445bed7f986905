"""What is longer than any path is left out of a list, and told; found without looking at every line."""

import pytest

from filigree.formats.long_lines import LINE_LIMIT, without_long_lines

SHORT, JUST, LONG = b"/usr/bin/tidegauge", b"a" * (LINE_LIMIT - 1), b"b" * LINE_LIMIT


@pytest.mark.parametrize(
    ("lines", "count"),
    [
        ([], 0), ([SHORT], 0), ([JUST], 0), ([LONG], 1), ([SHORT, LONG, SHORT], 1),
        ([JUST, LONG, JUST], 1), ([LONG, b"", LONG + LONG], 2), ([JUST] * 5, 0),
        ([SHORT] * 9000 + [LONG] + [SHORT] * 9000, 1),
    ],
)  # fmt: skip
@pytest.mark.parametrize("end", [b"", b"\n"])
def test_lines_of_the_limit_and_more_go_and_are_counted(
    lines: list[bytes], count: int, end: bytes
) -> None:
    data = b"\n".join(lines) + (end if lines else b"")
    left, words = without_long_lines(data)
    kept = [line for line in lines if len(line) < LINE_LIMIT]
    assert [line for line in left.split(b"\n") if line] == [line for line in kept if line]
    assert words == (f"{count:,} lines that are longer than paths are" if count else None)
