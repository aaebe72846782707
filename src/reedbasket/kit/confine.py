"""Confines a connector's process: it sees the files of Python and of the system, and its own scratch folder; it has no network, cannot
touch other processes, and cannot leave its process group.

Files are confined by Landlock (https://docs.kernel.org/userspace-api/landlock.html), Linux 5.13 and later; the rest by a filter of
system calls (https://docs.kernel.org/userspace-api/seccomp_filter.html), on x86-64 and 64-bit ARM. Neither needs privileges. Whatever a
kernel lacks is reported.
"""

from __future__ import annotations

import ctypes
import os
import platform
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
# More than the largest load takes; a loop that never ends ends here, if it is not silent before.
_MOST_CPU_SECONDS = 4 * 3600
_NICENESS = 5

# linux/seccomp.h, linux/filter.h, linux/audit.h
_SET_SECCOMP, _FILTER = 22, 2
_LOAD, _EQUAL, _AT_LEAST, _RETURN = 0x20, 0x15, 0x35, 0x06
_ALLOWED, _REFUSED = 0x7FFF0000, 0x00050000 | 13  # EACCES
_NUMBER, _ARCHITECTURE, _FIRST_ARGUMENT = 0, 4, 16
_X32 = 0x40000000
# Of each machine: what the kernel calls it, and {call: its number}. arch/x86/entry/syscalls/syscall_64.tbl, asm-generic/unistd.h
_MACHINES = {
    "x86_64": (0xC000003E, {
        "socket": 41, "ptrace": 101, "process_vm_readv": 310, "process_vm_writev": 311, "setsid": 112, "setpgid": 109,
        "io_uring_setup": 425, "unshare": 272,
        "setns": 308, "mount": 165, "bpf": 321, "perf_event_open": 298, "pidfd_getfd": 438, "pidfd_send_signal": 424,
        "rt_sigqueueinfo": 129, "rt_tgsigqueueinfo": 297, "kill": 62, "tkill": 200, "tgkill": 234, "prlimit64": 302,
    }),
    "aarch64": (0xC00000B7, {
        "socket": 198, "ptrace": 117, "process_vm_readv": 270, "process_vm_writev": 271, "setsid": 157, "setpgid": 154,
        "io_uring_setup": 425, "unshare": 97,
        "setns": 268, "mount": 40, "bpf": 280, "perf_event_open": 241, "pidfd_getfd": 438, "pidfd_send_signal": 424,
        "rt_sigqueueinfo": 138, "rt_tgsigqueueinfo": 240, "kill": 129, "tkill": 130, "tgkill": 131, "prlimit64": 261,
    }),
}  # fmt: skip


def limit(megabytes: int) -> None:
    """Limit the memory of this process, which gets a MemoryError beyond it.

    Args:
        megabytes: that it may allocate.
    """
    size = megabytes * 1024 * 1024
    resource.setrlimit(resource.RLIMIT_DATA, (size, size))
    resource.setrlimit(resource.RLIMIT_CPU, (_MOST_CPU_SECONDS, _MOST_CPU_SECONDS))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.nice(_NICENESS)


def confine(scratch: Path) -> list[str]:
    """Confine this process, from now on and for good.

    Args:
        scratch: the only folder that it may write to.

    Returns:
        What this system cannot keep it from, in words; empty if everything is confined.
    """
    calls = ctypes.CDLL(None, use_errno=True)
    calls.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0)
    lacking = [] if _shut_files(calls, scratch) else ["reading files (no Landlock)"]
    return lacking if _shut_calls(calls) else [*lacking, "the network and other processes (no seccomp)"]


def _shut_files(calls: ctypes.CDLL, scratch: Path) -> bool:
    rights = struct.pack("Q", _ALL)
    ruleset = calls.syscall(_CREATE, rights, ctypes.c_size_t(len(rights)), 0)
    if ruleset < 0:
        return False
    try:
        for path in _readable():
            _allow(calls, ruleset, path, _READING)
        _allow(calls, ruleset, scratch, _ALL)
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


def _shut_calls(calls: ctypes.CDLL) -> bool:
    """Sockets, other processes' memory and signals, and ways out of the process's group and namespaces."""
    if platform.machine() not in _MACHINES:
        return False
    architecture, numbers = _MACHINES[platform.machine()]
    # To itself it may send signals (abort does), and set its own limits (prlimit64 of process 0).
    to_itself = {name: {0, os.getpid()} for name in ("prlimit64",)} | {
        name: {os.getpid()} for name in ("kill", "tkill", "tgkill")
    }
    lines = [
        (_LOAD, 0, 0, _ARCHITECTURE),
        (_EQUAL, 1, 0, architecture),
        (_RETURN, 0, 0, _REFUSED),
        (_LOAD, 0, 0, _NUMBER),
        (_AT_LEAST, 0, 1, _X32),
        (_RETURN, 0, 0, _REFUSED),
    ]
    for name, number in numbers.items():
        good = sorted(to_itself.get(name, ()))
        # Where it is another call: past what follows.
        lines.append((_EQUAL, 0, len(good) * 2 + (2 if good else 1), number))
        if good:
            lines.append((_LOAD, 0, 0, _FIRST_ARGUMENT))
            for process in good:
                lines += [(_EQUAL, 0, 1, process), (_RETURN, 0, 0, _ALLOWED)]
        lines.append((_RETURN, 0, 0, _REFUSED))
    lines.append((_RETURN, 0, 0, _ALLOWED))
    program = ctypes.create_string_buffer(b"".join(struct.pack("HBBI", *line) for line in lines))
    described = struct.pack("HxxxxxxQ", len(lines), ctypes.addressof(program))
    return bool(calls.prctl(_SET_SECCOMP, _FILTER, ctypes.c_char_p(described), 0, 0) == 0)
