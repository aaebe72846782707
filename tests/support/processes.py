"""The processes of a running service."""

from __future__ import annotations

import subprocess

from reedbasket.service.worker import WORKER_NAME


def workers_of(service: int) -> list[int]:
    """Process ids of a service's workers, which are children of the process that it forks from."""
    listed = subprocess.run(["ps", "-eo", "pid=,ppid=,comm="], capture_output=True, text=True).stdout.splitlines()
    found = [(int(pid), int(parent), name) for pid, parent, name in (line.split(None, 2) for line in listed)]
    own = {pid for pid, parent, _ in found if parent == service}
    return [pid for pid, parent, name in found if parent in own and name == WORKER_NAME]
