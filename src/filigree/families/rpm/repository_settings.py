"""How words of a configuration of repositories are read: times, switches, addresses."""

import hashlib
import re
from datetime import datetime, timedelta

TIMES = {"": 1, "s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}
DURATION = re.compile(r"(\d{1,9})([smhdw]?)", re.IGNORECASE)
NO = frozenset({"0", "no", "false", "off"})
YES = frozenset({"1", "yes", "true", "on"})
ANSWERS = {**dict.fromkeys(YES, True), **dict.fromkeys(NO, False)}
MACHINE_FAMILIES = {
    "i386": "i386",
    "i486": "i386",
    "i586": "i386",
    "i686": "i386",
    "athlon": "i386",
}
EXPIRE = 48 * 3600


def copy_name(identity: str, values: dict[str, str]) -> str:
    """What the folder of the copies that we fetched is called: as the system itself would call it."""
    address = next((values[n] for n in ("baseurl", "metalink", "mirrorlist") if values.get(n)), "")
    return (
        f"{identity}-{hashlib.sha256(address.encode('utf-8', 'surrogateescape')).hexdigest()[:16]}"
    )


def beside(folder: str, place: str) -> str:
    """Where the copy of an index lies, whatever place in the repository it is from."""
    return f"{folder}/{place.rpartition('/')[2]}"


def local_path(address: str) -> str | None:
    """The path of a key that lies on the system itself."""
    if address.startswith("file://"):
        return address.removeprefix("file://")
    return address if address.startswith("/") else None


def expires_at(fetched: datetime | None, text: str) -> datetime | None:
    """When a copy expires, by the setting for that; None where it never does."""
    if fetched is None or text.strip().lower() in ("-1", "never"):
        return None
    match = DURATION.fullmatch(text.strip())
    seconds = int(match[1]) * TIMES[match[2].lower()] if match else EXPIRE
    try:
        return fetched + timedelta(seconds=seconds)
    except OverflowError:
        return None
