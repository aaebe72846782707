"""What a run cannot see, said before it runs. Pure: an order in, sentences out.

Every way of finding changes misses something. What is listed here stands in the plan, and in docs/guarantees.md.
"""

from __future__ import annotations

from collections.abc import Iterator

from ...spec.times import format_duration
from .order import ResolvedSource, ResolvedTable

# (code, words)
Spot = tuple[str, str]


def blind_spots(order: ResolvedSource, table: ResolvedTable) -> Iterator[Spot]:
    """Of one table, as the feed takes it."""
    yield from _of_changes(table)
    if table.rule is not None and order.code is None:
        yield from _of_pages(table)
        yield from _of_parents(order, table)


def _of_changes(table: ResolvedTable) -> Iterator[Spot]:
    tombstones = table.rule is not None and table.rule.deleted_when is not None
    gone = "rows that are deleted at the source stay"
    if table.by in ("cursor", "window", "row_version", "saved") and not tombstones:
        yield "deletes.not_seen", f"{gone}: changes by {table.by} do not show what has gone"
    elif table.by == "full" and table.write in ("upsert", "append"):
        yield "deletes.not_seen", f"{gone}: write {table.write} removes nothing; mirror does"
    elif table.by == "files" and not table.checksum:
        words = "a file that changes and keeps its size and its time of change is not read again; `checksum: true` sees it"
        yield "files.same_look_not_read", words
    cursor = table.rule.cursor if table.rule is not None else table.cursor
    if table.by == "cursor" and cursor is not None:
        late = (
            f"more than {format_duration(cursor.overlap)} older than the newest" if cursor.overlap else "older than the newest"
        )
        yield "late.not_seen", f"records that come late, with a value {late}, are not read; a longer `overlap` reads them"


def _of_pages(table: ResolvedTable) -> Iterator[Spot]:
    rule = table.rule
    assert rule is not None
    following = rule.pagination
    if following is not None and following.counted:
        words = "pages are told apart by where they lie: a record that goes while they are read moves others past the reader"
        if rule.total is None and not following.tells_pages:
            yield "pages.may_move", f"{words}, and without a `total` nothing tells"
        else:
            yield "pages.may_move", f"{words}; a total that changes is noticed, and one that stays is not"
    removes = table.by == "compare" or table.write in ("mirror", "replace", "versions")
    if removes and following is not None and not following.last_is_known and rule.total is None:
        words = (
            "a full page that does not say which page comes next is taken for the last, and what would come behind it for gone"
        )
        yield "pages.end_not_told", f"{words}; a `total` would tell"
    if rule.format.type in ("csv", "ndjson") and rule.total is None:
        yield "body.may_be_cut", "an answer that is cut between two of its lines looks whole; a `total` in a header would tell"


def _of_parents(order: ResolvedSource, table: ResolvedTable) -> Iterator[Spot]:
    rule = table.rule
    assert rule is not None
    if rule.by_changed_parents and table.by == "cursor":
        yield (
            "parents.unchanged_not_read",
            f"records that are added under a {rule.parent_table} record which does not change itself are not read; `rows: all` reads "
            "them, and a cursor of the table's own reads only what is new",
        )
    elif rule.parent_table is not None and rule.cursor is not None and table.by == "cursor":
        yield (
            "parents.late_not_read",
            f"records of a {rule.parent_table} record that comes later, and whose times lie before the cursor, are not read; a longer "
            "`overlap` reads them",
        )
