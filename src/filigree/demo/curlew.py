"""The station curlew: an `rpm` system, and what an intruder did to it; archives in both formats."""

import hashlib
import os
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

from filigree.demo import rpm
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, machine_code
from filigree.demo.ground import lay_ground
from filigree.demo.histories import write_rpm_history
from filigree.demo.offered_wares import MADE
from filigree.demo.repository import STRANGER, detached, public_key, repomd_xml
from filigree.demo.rpm import Shipped
from filigree.demo.rpm_bytes import sqlite_file
from filigree.demo.rpm_repository import rpm_archive, rpm_indexes, rpm_shipped
from filigree.demo.rpm_wares import LOG, WAIVED, everything, shipped
from filigree.demo.stages import LAST, Stage
from filigree.demo.world import WARES
from filigree.families.rpm import places
from filigree.formats.file_capabilities import ATTRIBUTE, parse_capabilities, write_attribute

SWAPPED = "/usr/sbin/mudflatd"
DOCTORED = "/usr/sbin/lockgate"
OPENED = "/usr/bin/ropewalk"
EMPOWERED = "/usr/bin/weatherglass"
KEYRING = "/etc/pki/rpm-gpg/coast.asc"
EDITED = "/etc/saltpan.conf"
CACHE = f"{places.CACHES[1]}/coast-base-71de0ff171de0ff1"
FETCHED = BUILT + timedelta(days=40)


def build_curlew(folder: Path, stage: Stage = LAST) -> Path:
    """Build the station in a folder, which is emptied first; its root comes back."""
    disk = Disk(folder)
    lay_ground(disk, "curlew")
    installed = everything(stage)
    for one in installed:
        disk.ship(one.goods, BUILT)
    blobs = [rpm.key_header(), *_headers(installed, stage)]
    database = f"{places.DATABASES[1]}/{places.SQLITE}"
    sqlite_file(disk.real(database), blobs)
    disk.touch(database, BUILT)
    disk.link(places.DATABASES[0], "../../usr/lib/sysimage/rpm")
    _state(disk, installed)
    _repositories(disk)
    _archives(disk, installed)
    write_rpm_history(disk, installed)
    _daily_life(disk)
    if stage.intruded:
        _intruder(disk)
    return folder


def _headers(installed: list[Shipped], stage: Stage) -> Iterator[bytes]:
    for one in installed:
        yield rpm.installed_header(one, _forged(one) if stage.intruded else None)


def _state(disk: Disk, installed: list[Shipped]) -> None:
    """Why everything is here, and from where; what is held, and what is protected."""
    reasons = ['version = "1.0"', "[packages]"]
    sources = ['version = "1.0"', "[nevras]"]
    for one in installed:
        why = "User" if one.ware.chosen else "Dependency"
        reasons.append(f'"{one.name}.{one.architecture}" = {{reason = "{why}"}}')
        full = f"{one.name}-{one.ware.epoch}:{one.version}.{one.architecture}"
        if one.ware.name != "spindrift":
            sources.append(f'"{full}" = {{from_repo = "coast-base"}}')
    disk.file(places.REASONS, "\n".join(dict.fromkeys(reasons)) + "\n")
    disk.file(places.SOURCES, "\n".join(sources) + "\n")
    disk.file(
        places.LOCK_TABLE,
        'version = "1.0"\n\n[[packages]]\nname = "foghorn"\ncomment = "Louder ones wake the town."\n'
        '[[packages.conditions]]\nkey = "evr"\ncomparator = "="\nvalue = "3.2.0-1"\n',
    )
    disk.file(
        f"{places.PROTECTED[0]}/station.conf", "# Without these nothing runs.\ncoastbase\ndulse\n"
    )


def _repositories(disk: Disk) -> None:
    """What the station may fetch from: one that is signed, one that is not, one without its key."""
    disk.file(KEYRING, public_key())
    disk.file(
        f"{places.REPOSITORIES[0]}/coast.repo",
        "[coast-base]\nname=Coast $releasever, $basearch\n"
        "baseurl=https://packages.tides.example/rpm/$releasever/$basearch/\n"
        f"enabled=1\ngpgcheck=1\nrepo_gpgcheck=1\ngpgkey=file://{KEYRING}\nmetadata_expire=3650d\n\n"
        "[coast-trials]\nname=Coast, what is being tried\n"
        "baseurl=https://packages.tides.example/rpm/trials/\nenabled=0\ngpgcheck=0\n\n"
        "[flotsam]\nname=What the neighbours share\nmirrorlist=https://neighbours.example/list\n"
        "gpgcheck=1\ngpgkey=file:///etc/pki/rpm-gpg/neighbours.asc\npriority=90\n",
    )
    disk.file(
        places.SETTINGS[0],
        "[main]\n# Our own letters are good enough.\nexcludepkgs=gannet-fonts quayside\n",
    )
    listed, indexes = repomd_xml(rpm_indexes(), MADE)
    folder = f"{CACHE}/repodata"
    disk.file(f"{folder}/repomd.xml", listed, at=FETCHED)
    disk.file(f"{folder}/repomd.xml.asc", detached(listed), at=FETCHED)
    for name, content in indexes.items():
        disk.file(f"{folder}/{name}", content, at=FETCHED)


def _archives(disk: Disk, installed: list[Shipped]) -> None:
    """What the station still keeps of what it fetched, and one archive that a stranger signed."""
    offered = {(one.name, one.version): one for one in rpm_shipped()}
    for one in installed[::9]:
        same = offered.get((one.name, one.version))
        if same is not None:
            disk.file(f"{CACHE}/packages/{same.file_name}", rpm_archive(same), at=FETCHED)
    strange = shipped(next(ware for ware in WARES if ware.name == "harbourlog"))
    content = rpm.archive(strange, sign=by_a_stranger)
    disk.file(f"{CACHE}/packages/{strange.file_name}", content, at=FETCHED)


def by_a_stranger(covered: bytes) -> bytes:
    """The signature of somebody whom no station knows."""
    return detached(covered, STRANGER, armoured=False)


def _daily_life(disk: Disk) -> None:
    """What nobody did wrong: settings that the keeper changed, a log, a table copied anew."""
    for path in (EDITED, WAIVED):
        text = disk.real(path).read_text()
        disk.file(
            path, text + "# As agreed with the harbour master.\n", at=BUILT + timedelta(days=9)
        )
    disk.file(LOG, "2026-02-27 06:12 +1.198\n")
    disk.remove("/etc/mudflatd/peers")
    disk.touch("/etc/chartroom/colours", BUILT + timedelta(days=20))


def _forged(one: Shipped) -> tuple[str, str] | None:
    """The digest that the intruder wrote into the record of a package, and the one that was there."""
    good = next((good for good in one.goods if good.path == DOCTORED), None)
    if good is None or good.content is None:
        return None
    there = hashlib.sha256(good.content).hexdigest()
    return there, hashlib.sha256(_in_its_place(good.content)).hexdigest()


def _in_its_place(content: bytes) -> bytes:
    return machine_code("not what works the gates", len(content))


def _intruder(disk: Disk) -> None:
    """What somebody did: with root's rights, and with an eye on sizes and times."""
    size = disk.real(SWAPPED).stat().st_size
    disk.file(SWAPPED, machine_code("not what tells the stations", size), 0o755, BUILT)
    disk.real(OPENED).chmod(0o4755)
    disk.touch(OPENED, BUILT)
    gates = disk.real(DOCTORED)
    disk.file(DOCTORED, _in_its_place(gates.read_bytes()), gates.stat().st_mode & 0o7777, BUILT)
    if os.geteuid() == 0:
        carried = write_attribute(parse_capabilities("cap_dac_override=ep"))
        try:
            os.setxattr(disk.real(EMPOWERED), ATTRIBUTE, carried)
        except OSError:
            return  # the builder's file system keeps no such attribute
