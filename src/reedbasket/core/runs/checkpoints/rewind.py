"""Moving a table's cursor back, so that a part of its source is read again. Pure, except for what the warehouse has saved."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal, InvalidOperation

from ...errors import Conflict, DefinitionError
from ...records.position import SavedCursor
from ...spec.times import parse_time, write_like
from ...warehouses.warehouse import TableState


def rewound(
    feed: str, table: str, state: TableState | None, write: str, to: str | None
) -> tuple[SavedCursor, SavedCursor | None]:
    """(the saved cursor, the new one; None for the beginning).

    Args:
        to: a value as people write it.

    Raises:
        Conflict: there is nothing to move, or rows would be duplicated.
        DefinitionError: `to` is not a value of the cursor, or not earlier than the present one.
    """
    on = f"{feed}.{table}"
    saved = state.cursor if state is not None else None
    if saved is None or saved.kind == "files":
        raise Conflict(
            "rewinding",
            on,
            found="no cursor is saved for it",
            fix="the next run reads it from the beginning anyway; for a table of files, name the files with `--file`",
            code="cursor.none_saved",
        )
    if write == "append":
        raise Conflict(
            "rewinding", on, found="its records are appended, so whatever is read again would be duplicated",
            fix="use `write: upsert` with a key, or load the range as a backfill of a separate feed", code="cursor.would_duplicate",
        )  # fmt: skip
    if to is None:
        return saved, None
    if saved.kind not in ("time", "number", "text", "window"):
        raise Conflict(
            "rewinding", on, found=f"a position of the kind {saved.kind} cannot be chosen",
            fix="rewind it to the beginning", code="cursor.no_value",
        )  # fmt: skip
    value, earlier = _earlier(saved, to, on)
    if not earlier:
        raise DefinitionError(
            "rewinding", on, found=f"{value} is not earlier than the present value, {saved.shown}",
            fix="give an earlier value", code="cursor.not_earlier",
        )  # fmt: skip
    return saved, replace(saved, value=value, seen=None)


def _earlier(saved: SavedCursor, to: str, on: str) -> tuple[str, bool]:
    try:
        if saved.kind in ("time", "window"):
            # As the source writes its times, for it may compare them as text.
            value = write_like(parse_time(to), saved.value)
            return value, parse_time(value) < parse_time(saved.value)
        if saved.kind == "number":
            return str(Decimal(to)), Decimal(to) < Decimal(saved.value)
    except (ValueError, InvalidOperation):
        what = "number" if saved.kind == "number" else "time, 2026-03-01T06:00:00Z for instance"
        raise DefinitionError(
            "rewinding", on, found=f"{to!r} is not a {what}", fix="write it in that form", code="cursor.bad_value"
        ) from None
    return to, to < saved.value
