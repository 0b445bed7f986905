"""What packages come to: their sizes, states and reasons."""

from collections import Counter
from collections.abc import Iterable

from filigree.model.package import Package


def total_size(packages: Iterable[Package]) -> int:
    """The sum of the installed sizes on record, in bytes."""
    return sum(p.installed_size or 0 for p in packages)


def by_state(packages: Iterable[Package]) -> dict[str, int]:
    """How many packages are in each state, the most frequent first."""
    return {state.value: count for state, count in Counter(p.state for p in packages).most_common()}


def by_reason(packages: Iterable[Package]) -> dict[str, int]:
    """How many packages were chosen, and how many came as dependencies."""
    counts = Counter(p.reason.value if p.reason else "unknown" for p in packages)
    return dict(counts.most_common())
