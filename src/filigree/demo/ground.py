"""What every station stands on: its directories, its people, its name."""

import os

from filigree.demo.disk import Disk


def lay_ground(disk: Disk, station: str) -> None:
    """The merged directories, the accounts and the label of a station."""
    for name in ("bin", "sbin", "lib"):
        disk.directory(f"/usr/{name}")
        disk.link(f"/{name}", f"usr/{name}")
    disk.directory("/tmp", 0o1777)
    disk.directory("/proc")
    # The builder's own numbers play the station's root: a folder can belong to nobody else.
    uid, gid = os.getuid(), os.getgid()
    disk.file(
        "/etc/passwd", f"root:x:{uid}:{gid}:root:/root:/bin/dsh\ntide:x:950:950::/:/bin/dsh\n"
    )
    disk.file("/etc/group", f"root:x:{gid}:\ntide:x:950:\n")
    disk.file("/etc/hostname", f"{station}\n")
    disk.file(
        "/usr/lib/os-release",
        f'PRETTY_NAME="Sallow Coast Tide Office, station {station}"\nNAME="Sallow Coast"\n'
        'ID=sallowcoast\nVERSION_ID="12"\n',
    )
    disk.link("/etc/os-release", "../usr/lib/os-release")
