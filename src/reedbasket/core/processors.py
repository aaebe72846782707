"""What this machine's processors do."""

from __future__ import annotations

import os


def idle_seconds() -> float | None:
    """For how long they had nothing to do, all together, since the machine began; None where the system does not tell. Source: proc(5),
    /proc/stat."""
    try:
        with open("/proc/stat", encoding="ascii") as found:
            _, _user, _nice, _system, idle, waits_for_disk, *_ = found.readline().split()
    except (OSError, ValueError):
        return None
    return (int(idle) + int(waits_for_disk)) / os.sysconf("SC_CLK_TCK")
