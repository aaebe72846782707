"""The files and lines that rejected records came from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import chain
from typing import Any

from ...shaping.batch import Reject, TableBatch
from ...sources.chunk import Origin, UnreadableLine

# Of a line that is none, so much is kept: no line of a record is longer.
_SHOWN = 256 * 1024


def misread(found: Any) -> Reject:
    """Something that is not a record, as a reject."""
    if isinstance(found, UnreadableLine):
        message = f"{found.path}, line {found.line}: {found.message}"
        shown = {"file": found.path, "line": found.line, "text": found.text[:_SHOWN]}
        return Reject(-1, found.code, message, "", shown, found.number)
    return Reject(
        -1, "record.not_an_object", f"found {type(found).__name__} instead of an object in the list of records", "", found
    )


def placed(rejects: Sequence[Reject], origins: Sequence[Origin], without: Sequence[int]) -> list[Reject]:
    """The rejects, with their file and line in the message.

    Args:
        without: positions of records that the rejects' own positions skip.
    """
    return [_placed(reject, origins, without) for reject in rejects]


def _placed(reject: Reject, origins: Sequence[Origin], without: Sequence[int]) -> Reject:
    place = reject.index
    for gone in sorted(without):
        place += gone <= place
    for origin in origins:
        if 0 <= place < origin.records:
            # A replay knows the file by its number alone.
            message = f"{origin.path}, line {origin.lines()[place]}: {reject.message}" if origin.path else reject.message
            return replace(reject, message=message, file=origin.number)
        place -= origin.records
    return reject


def number_files(batch: TableBatch, origins: Sequence[Origin], first_owner: int, rejected: Sequence[int]) -> None:
    """Give each row of a batch the number of its file.

    Args:
        rejected: positions of records that did not become rows and have no owner's number.
    """
    numbers = list(chain.from_iterable([origin.number] * origin.records for origin in origins))
    if rejected:
        gone = set(rejected)
        numbers = [number for place, number in enumerate(numbers) if place not in gone]
    if len(batch.owners) == len(numbers):
        batch.files = numbers
    else:
        batch.files = [numbers[owner - first_owner] for owner in batch.owners]
