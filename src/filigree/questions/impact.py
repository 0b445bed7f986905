"""How many packages stand on each: what would be affected if it were not there."""

from collections.abc import Iterable

from filigree.questions.planning.standing import parts


def standing_on(count: int, links: Iterable[tuple[int, int]]) -> list[int]:
    """For each of the numbers below `count`, how many others lead to it, over any number of links.

    Numbers that lead to each other are one part, and are counted once for all that it leads to. What
    leads to a part is a set of bits, let go of once every part that it leads to has taken it over.
    """
    pairs = list(dict.fromkeys(links))
    found = parts(count, pairs)
    part_of = [0] * count
    for at, part in enumerate(found):
        for number in part:
            part_of[number] = at
    ahead: list[set[int]] = [set() for _ in found]
    for one, other in pairs:
        if part_of[one] != part_of[other]:
            ahead[part_of[one]].add(part_of[other])
    counts = [0] * count
    below: dict[int, int] = {}
    bit = 0
    # Each part comes after those that it leads to: backwards, those that lead to it come first.
    for at in range(len(found) - 1, -1, -1):
        mine = below.pop(at, 0)
        standing = mine.bit_count() + len(found[at]) - 1
        for number in found[at]:
            counts[number] = standing
        if ahead[at]:
            mine |= ((1 << len(found[at])) - 1) << bit
            bit += len(found[at])
            for other in ahead[at]:
                below[other] = below.get(other, 0) | mine
    return counts
