"""Which files of a table a run has to load: what the store lists, compared with what was loaded before. Pure."""

from __future__ import annotations

import posixpath
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Literal

from ..sources.files.store import FileInfo
from ..spec.times import format_time
from ..warehouses.loader.file_list import FileLine

Changed = Literal["replace", "upsert", "append", "ignore"]


@dataclass(frozen=True)
class DueFile:
    """A file to load; line: as it will be once the file is loaded."""

    info: FileInfo
    line: FileLine


@dataclass
class Decision:
    """What to do.

    Attributes:
        lines: of files that are not read, but whose state changes.
        unsettled: files that have not been unchanged for long enough, or whose ready file is missing.
        moving: those of them that have not been unchanged for long enough.
        still_bad: files that could not be read before, and have not changed.
    """

    due: list[DueFile] = field(default_factory=list)
    lines: list[FileLine] = field(default_factory=list)
    unsettled: list[str] = field(default_factory=list)
    moving: list[str] = field(default_factory=list)
    still_bad: list[FileLine] = field(default_factory=list)
    changed: int = 0
    known: int = 0


def decide(  # noqa: PLR0913 - each by its name
    listed: Sequence[FileInfo],
    held: Sequence[FileLine],
    *,
    changed: Changed,
    settle: timedelta,
    now: datetime,
    marker: str | None = None,
    there: Collection[str] = (),
    sort: Literal["name", "time"] = "name",
    definition_changed: bool = False,
) -> Decision:
    """Which files a run reads, and what it says about the others.

    Args:
        listed: those that match the table's patterns.
        held: the lines of the warehouse's list of files.
        there: all paths of the store, for ready files.
        definition_changed: the table's definition has changed, so files that could not be read may be readable now.
    """
    found = Decision()
    lines = {line.path: line for line in held}
    number = max((line.number for line in held), default=0)
    for info in listed:
        line = lines.pop(info.path, None)
        tried = line is not None and line.state == "failed" and definition_changed
        if line is not None and line.state != "requeued" and not tried and _same(info, line):
            found.known += 1
            if line.state == "failed":
                found.still_bad.append(line)
            if line.state == "missing":  # it came back as it was
                found.lines.append(line._replace(state="failed" if line.problem else "loaded"))
            continue
        if not _whole(info, settle, now, marker, there):
            found.unsettled.append(info.path)
            if marker is None:
                found.moving.append(info.path)
            continue
        asked = line is not None and (line.state == "requeued" or tried)
        loaded = line is not None and line.rows > 0
        if line is not None and not asked and changed == "ignore":
            if line.state != "ignored":
                found.changed += 1
            found.lines.append(as_listed(line, info)._replace(state="ignored"))
            continue
        if line is None:
            number += 1
            line = FileLine(number, info.path, info.size, "", "", "loaded")
        else:
            found.changed += 1
        taken = as_listed(line, info)._replace(
            state="loaded", load=None, problem="", replaces=loaded and changed in ("replace", "ignore")
        )
        found.due.append(DueFile(info, taken))
    gone = sorted(line.path for line in lines.values() if line.state != "missing")
    found.lines += [lines[path]._replace(state="missing") for path in gone]
    found.due.sort(key=lambda due: ((due.info.modified or now) if sort == "time" else now, due.info.path))
    return found


def as_listed(line: FileLine, info: FileInfo) -> FileLine:
    """A file's line, with size, time and tag as the store shows them now."""
    modified = format_time(info.modified) if info.modified else ""
    return line._replace(size=info.size, modified=modified, tag=info.tag)


def _same(info: FileInfo, line: FileLine) -> bool:
    if info.size != line.size:
        return False
    if info.tag and line.tag:
        return info.tag == line.tag
    if info.modified is None or not line.modified:
        return info.modified is None and not line.modified
    # A tenth of what writing the listed time as text takes.
    return info.modified == datetime.fromisoformat(line.modified)


def _whole(info: FileInfo, settle: timedelta, now: datetime, marker: str | None, there: Collection[str]) -> bool:
    if marker is not None:
        return ready_file_of(marker, info.path) in there
    return not settle or info.modified is None or now - info.modified >= settle


def ready_file_of(marker: str, path: str) -> str:
    """The path of the file that says that another is complete.

    Args:
        marker: a pattern with `{path}`, `{folder}` and `{name}`.
    """
    folder, name = posixpath.split(path)
    return marker.replace("{path}", path).replace("{folder}", folder).replace("{name}", name).removeprefix("/")
