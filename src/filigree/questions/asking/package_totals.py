"""What packages come to: their sizes, states and reasons."""

from collections import Counter
from collections.abc import Iterable

from filigree.model.package import Package, Reason, State


def total_size(packages: Iterable[Package]) -> int:
    """The sum of the installed sizes on record, in bytes."""
    return sum(p.installed_size or 0 for p in packages)


def by_state(packages: Iterable[Package]) -> dict[str, int]:
    """How many packages are in each state, the most frequent first."""
    return states_told(Counter(p.state for p in packages))


def states_told(counts: Counter[State]) -> dict[str, int]:
    """States by the words for them, the most frequent first."""
    return {state.value: count for state, count in counts.most_common()}


def by_reason(packages: Iterable[Package]) -> dict[str, int]:
    """How many packages were chosen, and how many came as dependencies."""
    return reasons_told(Counter(p.reason for p in packages))


def reasons_told(counts: Counter[Reason | None]) -> dict[str, int]:
    """Reasons by the words for them, the most frequent first."""
    return {reason.value if reason else "unknown": count for reason, count in counts.most_common()}
