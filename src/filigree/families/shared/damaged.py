"""What a record tells that makes no sense is reported, and costs itself: in every family alike."""

from collections.abc import Iterable, Iterator

from filigree.families.protocol import Report
from filigree.formats.damage import Damage
from filigree.model.answer import Gap
from filigree.model.needs import Need
from filigree.model.package import Package


def sound_needs(
    told: Iterable[Need | ValueError], package: Package, report: Report
) -> Iterator[Need]:
    """The needs of a package, as they come; an error stands where one does not parse."""
    for need in told:
        if isinstance(need, Need):
            yield need
        else:
            report(Gap(f"a need of {package.label}", str(need)))


def report_damages(report: Report, path: str, damages: Iterable[Damage]) -> None:
    """Report what makes no sense in a file, each with its line."""
    for damage in damages:
        report(Gap(f"{path}, line {damage.line}", damage.why))
