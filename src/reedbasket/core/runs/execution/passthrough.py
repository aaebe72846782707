"""The pass-through lane: rows that need no shaping beyond SQL go from one PostgreSQL into another as the bytes they are.

What is brought is what the other lanes would bring: the source's SQL makes each value the warehouse's own type. Values that the others
would reject are looked for before anything is committed; where there are any, the rows come again in columns.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from queue import Queue
from typing import Protocol

import pyarrow as pa

from ...errors import RunCancelled
from ...records.column_records import ColumnRecords
from ...records.plain_values import as_records
from ...records.structure import ColumnShape
from ...shaping.columns import ColumnWork
from ...shaping.rules import Change
from ...shaping.shaper import Shaper
from ...warehouses.warehouse import Load

# What is handed from the reading thread to the writing one at a time, at least; and how many such parts may wait, of 2 MB at most.
_PART_BYTES = 256 * 1024
_MOST_PARTS = 4


class Passthrough(Protocol):
    """What a pass offers to the lane. empty: its columns, typed, without rows."""

    empty: pa.Table

    def rows(self, declared: Sequence[tuple[str, str]]) -> Iterator[tuple[bytes, int]]:
        """Binary COPY of (column, the type to make it): parts of it, with how many rows each holds. Raises SourceError."""


class Sink(Protocol):
    """A table being built in the warehouse. declared: of each column its type, as SQL."""

    declared: dict[str, str]

    def write(self, parts: Iterator[bytes], columns: Sequence[str]) -> int:
        """Binary COPY into these columns: how many rows. Raises WarehouseError, and what going through the parts raises."""

    def has_misfits(self) -> bool:
        """Whether there are values that no warehouse of ours may hold: a reject each."""

    def empty(self) -> None:
        """Nothing of it counts."""


@dataclass
class Passed:
    """size: in bytes. misfits: some values were none of ours, so nothing was brought."""

    size: int
    misfits: bool


def bring(
    passthrough: Passthrough | None,
    shaper: Shaper,
    columns: ColumnWork,
    load: Load,
    told: Callable[[list[Change]], None],
    went: Callable[[int], None],
    stop: threading.Event,
) -> Passed | None:
    """None where rows have to be looked at. told: what is new in the structure. went: told how many rows came, now and then. Raises
    SourceError, WarehouseError."""
    pairs = structure_of(passthrough.empty, shaper, told) if passthrough is not None and load.takes_bytes else None
    sink: Sink | None = load.sink(columns.lay_out(shaper.family)) if pairs else None
    if passthrough is None or pairs is None or sink is None:
        return None
    declared = [(source, sink.declared[target]) for source, target in pairs]
    total = count = 0

    def parts() -> Iterator[bytes]:
        nonlocal total, count
        for part, rows in _ahead(passthrough.rows(declared)):
            if stop.is_set():
                raise RunCancelled("reading", "", found="the run was cancelled; what was committed stays")
            total, count = total + len(part), count + rows
            went(count)
            yield part

    rows = sink.write(parts(), [target for _, target in pairs])
    went(rows)
    if sink.has_misfits():
        sink.empty()
        return Passed(total, misfits=True)
    load.passed_through(rows)
    return Passed(total, misfits=False)


def structure_of(empty: pa.Table, shaper: Shaper, told: Callable[[list[Change]], None]) -> list[tuple[str, str]] | None:
    """[(the source's column, the warehouse's)] as the shaper knows them; None where some are of another type there."""
    told(shaper.shape(ColumnRecords(empty, lambda: as_records(empty), 0), 0).changes)
    pairs = []
    for field in empty.schema:
        node = shaper.structure.root.fields.get(field.name)
        if not isinstance(node, ColumnShape) or node.kind != field.metadata[b"kind"].decode():
            return None
        pairs.append((field.name, shaper.rules.rename.get(node.name, node.name)))
    return pairs


def _ahead(parts: Iterator[tuple[bytes, int]]) -> Iterator[tuple[bytes, int]]:
    """Small parts joined, read by a thread of its own while the warehouse takes what came before."""
    waiting: Queue[tuple[bytes, int] | BaseException | None] = Queue(_MOST_PARTS)
    given_up = threading.Event()

    def read() -> None:
        held: list[bytes] = []
        size = rows = 0
        try:
            for part, count in parts:
                held.append(part)
                size, rows = size + len(part), rows + count
                if size >= _PART_BYTES:
                    waiting.put((b"".join(held), rows))
                    held, size, rows = [], 0, 0
                    if given_up.is_set():
                        return
            waiting.put((b"".join(held), rows))
            waiting.put(None)
        except BaseException as error:  # handed to the thread that writes, which raises it
            waiting.put(error)

    threading.Thread(target=read, name="read ahead", daemon=True).start()
    try:
        while (part := waiting.get()) is not None:
            if isinstance(part, BaseException):
                raise part
            yield part
    finally:
        given_up.set()
        while not waiting.empty():
            waiting.get_nowait()
