"""How an answer is shown, as far as a person may choose: what each view takes."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ViewOptions:
    """What every view takes: nothing to choose."""

    @property
    def tells_gaps(self) -> bool:
        """Whether a table ends with what was not looked at."""
        return True


@dataclass(frozen=True, slots=True)
class CensusOptions(ViewOptions):
    """Packages: `count` shows how many alone; `columns` are the fields that are shown."""

    count: bool = False
    columns: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class GroupsOptions(ViewOptions):
    """Groups: with `detail` the members of each."""

    detail: bool = False


@dataclass(frozen=True, slots=True)
class ContentsOptions(ViewOptions):
    """Files: as a `tree`, or `totals` by role alone."""

    tree: bool = False
    totals: bool = False


@dataclass(frozen=True, slots=True)
class OwnerOptions(ViewOptions):
    """Owners: of paths `inside` archives, or among what is `offered` too."""

    inside: bool = False
    offered: bool = False


@dataclass(frozen=True, slots=True)
class NeedsOptions(ViewOptions):
    """Needs: `count` shows how many packages alone."""

    count: bool = False


@dataclass(frozen=True, slots=True)
class DrawOptions(ViewOptions):
    """A picture of a graph: the file that it was drawn `into`, if any."""

    into: str | None = None


@dataclass(frozen=True, slots=True)
class VerifyOptions(ViewOptions):
    """Verdicts: a `quiet` answer is its exit status alone; with `unfold` each is told by itself."""

    quiet: bool = False
    unfold: bool = False


@dataclass(frozen=True, slots=True)
class CompareOptions(ViewOptions):
    """Differences: with `unfold` each is told by itself."""

    unfold: bool = False


@dataclass(frozen=True, slots=True)
class StraysOptions(ViewOptions):
    """Files of nobody: `every` one, also what is harmless and has a cause; with `unfold` each by itself.
    What can be run always is."""

    every: bool = False
    unfold: bool = False


@dataclass(frozen=True, slots=True)
class FindingsOptions(ViewOptions):
    """Findings: with `propose` as waivers, to be read by a person."""

    propose: bool = False

    @property
    def tells_gaps(self) -> bool:
        """A file of waivers has no place for them."""
        return not self.propose


@dataclass(frozen=True, slots=True)
class LayersOptions(ViewOptions):
    """Layers: `every` package and program by name."""

    every: bool = False


@dataclass(frozen=True, slots=True)
class ReposOptions(ViewOptions):
    """Repositories: with `detail` everything of each."""

    detail: bool = False


@dataclass(frozen=True, slots=True)
class FleetOptions(ViewOptions):
    """Answers of a fleet: `fields` are the names of what a record has, in their order."""

    fields: tuple[str, ...] = ()


NO_OPTIONS = ViewOptions()
