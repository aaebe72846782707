"""Programs of the machine that tests want: Debian's servers and browser."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

# Set by `.ci/run`: there everything is installed, and nothing is skipped.
ALL = "REED_ALL_TESTS"
_PLACES = (*map(str, sorted(Path("/usr/lib/postgresql").glob("*/bin"))), "/usr/sbin", "/usr/bin")


def program(name: str, package: str) -> str:
    """Its path; the test is skipped where it is not installed, or fails where all tests are to run.

    Args:
        name: as it is called.
        package: Debian's, that has it.
    """
    found = shutil.which(name, path=os.pathsep.join([*reversed(_PLACES), os.environ.get("PATH", "")]))
    if found is not None:
        return found
    missing = f"{name} is not installed: apt-get install {package}"
    if os.environ.get(ALL):
        pytest.fail(missing)
    pytest.skip(missing)
