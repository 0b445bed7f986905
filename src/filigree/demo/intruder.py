"""What somebody did on stations of several families, with an eye on sizes and times."""

from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, machine_code


def intrude(
    disk: Disk, swapped: str, opened: str, emptied: str, redirected: str, stray: str
) -> None:
    """Swap a program for one of its size, let one run with root's rights, lead a link elsewhere.

    A file of the directory `emptied` goes, and one of nobody's comes.
    """
    size = disk.real(swapped).stat().st_size
    disk.file(swapped, machine_code(f"not {swapped.rpartition('/')[2]}", size), 0o755, BUILT)
    disk.real(opened).chmod(0o4755)
    disk.touch(opened, BUILT)
    gone = next(path for path in sorted(disk.real(emptied).iterdir()) if path.suffix == ".tbl")
    gone.unlink()
    disk.link(redirected, "/var/tmp/.brine", BUILT)
    disk.file(stray, machine_code("of nobody's", 31_337), 0o755, BUILT)
