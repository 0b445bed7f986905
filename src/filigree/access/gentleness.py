"""To be in nobody's way on a machine that is at work: one processor, the lowest priority, and the disk
only when nobody else wants it. It is of this process and of those that it starts, and for good."""

import os
import platform

from filigree.access.workers import stay_alone

_IOPRIO_SET = {
    "x86_64": 251, "aarch64": 30, "riscv64": 30, "i386": 289, "i686": 289, "armv7l": 314, "ppc64le": 273,
    "s390x": 282,
}  # fmt: skip
"""The number of the call by machine (the kernel's own tables of system calls)."""
_PROCESS = 1
_IDLE = 3 << 13
"""The class of who waits until the disk is idle (ioprio_set(2))."""
_LOWEST = 19


def be_gentle() -> list[str]:
    """Take one processor, the lowest priority, an idle disk, no worker beside; what of it could not be
    had, in words."""
    stay_alone()
    lacking = []
    try:
        os.sched_setaffinity(0, {max(os.sched_getaffinity(0))})
    except OSError as error:
        lacking.append(f"one processor alone: {error.strerror}")
    try:
        os.nice(_LOWEST)
    except OSError as error:
        lacking.append(f"the lowest priority: {error.strerror}")
    why = _idle_disk()
    if why is not None:
        lacking.append(f"the disk only when it is idle: {why}")
    return lacking


def _idle_disk() -> str | None:
    number = _IOPRIO_SET.get(platform.machine())
    if number is None:
        return "not known how on this kind of machine"
    import ctypes

    call = ctypes.CDLL(None, use_errno=True).syscall
    if call(number, _PROCESS, 0, _IDLE) == 0:
        return None
    return os.strerror(ctypes.get_errno())
