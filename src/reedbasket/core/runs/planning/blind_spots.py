"""What a run cannot see, said before it runs. Pure.

Every way of finding changes misses something. The plan and docs/guarantees.md list what is found here.
"""

from __future__ import annotations

from collections.abc import Iterator

from ...spec.times import format_duration
from .order import ResolvedSource, ResolvedTable

# (code, words)
Spot = tuple[str, str]


def blind_spots(order: ResolvedSource, table: ResolvedTable) -> Iterator[Spot]:
    """The blind spots of one table, as the feed reads it."""
    yield from _of_changes(table)
    if table.rule is not None and order.code is None:
        yield from _of_pages(table)
        yield from _of_parents(order, table)


def _of_changes(table: ResolvedTable) -> Iterator[Spot]:
    tombstones = table.rule is not None and table.rule.deleted_when is not None
    gone = "rows that are deleted at the source stay in the warehouse"
    if table.by in ("cursor", "window", "row_version", "saved") and not tombstones:
        yield "not_detected.deletes", f"{gone}: `changes: {table.by}` does not show deleted rows"
    elif table.by == "full" and table.write in ("upsert", "append"):
        yield "not_detected.deletes", f"{gone}: `write: {table.write}` removes nothing, but `write: mirror` does"
    elif table.by == "files" and not table.checksum:
        words = "a file that changes but keeps its size and time is not read again; `checksum: true` detects it"
        yield "not_detected.changed_files", words
    cursor = table.rule.cursor if table.rule is not None else table.cursor
    if table.by == "cursor" and cursor is not None:
        late = (
            f"more than {format_duration(cursor.overlap)} older than the newest" if cursor.overlap else "older than the newest"
        )
        yield (
            "not_detected.late_records",
            f"records that arrive late, with a value {late}, are not read; a longer `overlap` reads them",
        )


def _of_pages(table: ResolvedTable) -> Iterator[Spot]:
    rule = table.rule
    assert rule is not None
    following = rule.pagination
    if following is not None and following.counted:
        words = "pages are identified by positions: a record that disappears during the read moves others to pages that were already read"
        if rule.total is None and not following.tells_pages:
            yield "not_detected.moved_pages", f"{words}, and without a `total` that is not noticed"
        else:
            yield "not_detected.moved_pages", f"{words}; that is noticed if the total changes"
    removes = table.by == "compare" or table.write in ("mirror", "replace", "versions")
    if removes and following is not None and not following.last_is_known and rule.total is None:
        words = (
            "a full page that does not say which page comes next is taken for the last one, and the rows after it for deleted"
        )
        yield "pages.end_unknown", f"{words}; a `total` would show it"
    if rule.format.type in ("csv", "ndjson") and rule.total is None:
        yield (
            "not_detected.cut_body",
            "an answer that is cut off between two lines looks complete; a `total` in a header would show it",
        )


def _of_parents(order: ResolvedSource, table: ResolvedTable) -> Iterator[Spot]:
    rule = table.rule
    assert rule is not None
    if rule.by_changed_parents and table.by == "cursor":
        yield (
            "not_detected.unchanged_parents",
            f"records that are added to an unchanged {rule.parent_table} record are not read; `rows: all` reads "
            "them, and a cursor of the table's own reads only what is new",
        )
    elif rule.parent_table is not None and rule.cursor is not None and table.by == "cursor":
        yield (
            "not_detected.late_parents",
            f"if a {rule.parent_table} record arrives late, its records from before the cursor are not read; a longer "
            "`overlap` reads them",
        )
