"""The steps to reading a SQLite file, checked one by one."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping, Sequence

from ...allowed_paths import Places
from ...check_steps import CheckStep
from ...errors import ReedError
from ..sql.changelog import LogName
from ..sql.tables import Table
from .database import open_from
from .definition import SqliteSourceDefinition

STEPS = ("file", "catalog", "read")


def check(
    source: SqliteSourceDefinition, reveal: Callable[[str], str], places: Places, inside: Callable[[], Iterator[CheckStep]]
) -> Iterator[CheckStep]:
    """The steps.

    Args:
        inside: those after the file is open.
    """
    try:
        open_from(source, None, places, threading.Event()).close()
    except ReedError as error:
        yield CheckStep("file", False, error.found, error.fix)
        return
    yield CheckStep("file", True, f"{source.path} exists")
    yield from inside()


def setup_statements(
    source: SqliteSourceDefinition, tables: Sequence[Table], logs: Mapping[LogName, Sequence[Table]]
) -> list[tuple[str, str]]:
    """[(purpose, SQL)] for an administrator; there is none to run."""
    return [("SQLite has no users: the service must be able to read the file", "")]
