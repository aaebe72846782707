"""A connector's process sees the files of Python and of the system, and its own scratch folder; nothing of the data folder.

By Landlock (https://docs.kernel.org/userspace-api/landlock.html), which Linux has since 5.13 and needs no rights. Where the kernel has
none, the process still is told nothing but its own settings.
"""

from __future__ import annotations

import ctypes
import os
import resource
import struct
import sys
from collections.abc import Iterable
from pathlib import Path

_CREATE, _ADD, _RESTRICT = 444, 445, 446
_PATH_BENEATH, _NO_NEW_PRIVILEGES = 1, 38
_EXECUTE, _WRITE_FILE, _READ_FILE, _READ_DIR = 1, 2, 4, 8
# Version 1 knows thirteen rights: these, and making and removing of every sort.
_ALL = (1 << 13) - 1
_READING = _EXECUTE | _READ_FILE | _READ_DIR
_OF_FILES = _EXECUTE | _WRITE_FILE | _READ_FILE
_SYSTEM = (
    "/usr",
    "/lib",
    "/lib64",
    "/bin",
    "/etc",
    "/dev/urandom",
    "/dev/null",
    "/dev/zero",
    "/sys/devices/system/cpu",
    "/proc/self",
    "/proc/cpuinfo",
    "/proc/meminfo",
)


def limit_memory(megabytes: int) -> None:
    """What it may allocate. Raises MemoryError there from then on, and not here."""
    size = megabytes * 1024 * 1024
    resource.setrlimit(resource.RLIMIT_DATA, (size, size))


def confine(scratch: Path) -> bool:
    """From now on and for good. False where the kernel knows no Landlock."""
    calls = ctypes.CDLL(None, use_errno=True)
    rights = struct.pack("Q", _ALL)
    ruleset = calls.syscall(_CREATE, rights, ctypes.c_size_t(len(rights)), 0)
    if ruleset < 0:
        return False
    try:
        for path in _readable():
            _allow(calls, ruleset, path, _READING)
        _allow(calls, ruleset, scratch, _ALL)
        calls.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0)
        return bool(calls.syscall(_RESTRICT, ruleset, 0) == 0)
    finally:
        os.close(ruleset)


def _readable() -> Iterable[Path]:
    ours = Path(__file__).resolve().parents[2]
    places = {Path(sys.prefix), Path(sys.base_prefix), ours, *map(Path, _SYSTEM), *(Path(p) for p in sys.path if p)}
    return [place for place in places if place.exists()]


def _allow(calls: ctypes.CDLL, ruleset: int, path: Path, rights: int) -> None:
    place = os.open(path, os.O_PATH | os.O_CLOEXEC)
    try:
        allowed = rights if path.is_dir() else rights & _OF_FILES
        calls.syscall(_ADD, ruleset, _PATH_BENEATH, struct.pack("=Qi", allowed, place), 0)
    finally:
        os.close(place)
