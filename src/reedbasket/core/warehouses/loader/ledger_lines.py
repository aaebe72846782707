"""The ledger lines of one load, from its counts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

from ...records.layout import Family
from ...records.ledger import LedgerLine
from ..engine import rfc3339
from ..loading import LoadTarget, Position
from ..merge import Counts, Stamp


def ledger_lines(  # noqa: PLR0913 - what a line is worked out of
    target: LoadTarget,
    family: Family,
    read: Mapping[str, int],
    stamps: Sequence[Stamp],
    counts: Sequence[Counts],
    position: Position,
    now: datetime,
    committing: float,
) -> list[LedgerLine]:
    """The lines of a load. A child table without any change has none.

    Args:
        read: rows staged, by table.
        committing: seconds.
    """
    lines = []
    for layout, stamp, count in zip(family.tables, stamps, counts):
        is_root, staged = layout.parent is None, read.get(layout.name, 0)
        if not (is_root or staged or count.removed):
            continue
        rejected, known = (position.rejected, position.unchanged) if is_root else (0, 0)
        lines.append(
            LedgerLine(
                load=stamp.load,
                run=target.run,
                feed=target.feed,
                source=target.source,
                source_table=target.source_table,
                table=layout.name,
                write=target.write,
                read=staged + rejected + known,
                staged=staged,
                inserted=count.inserted,
                updated=count.updated,
                deleted=count.deleted,
                unchanged=count.unchanged + known,
                superseded=count.superseded,
                rejected=rejected,
                removed=count.removed,
                repeated=position.repeated if is_root else 0,
                cursor_from=position.cursor_from,
                cursor_to=position.cursor.shown if position.cursor and position.cursor.kind != "tag" else None,
                source_bytes=position.source_bytes if is_root else 0,
                started=rfc3339(position.started),
                ended=rfc3339(now),
                filtered=position.filtered if is_root else 0,
                reading_seconds=round(position.seconds.reading, 4) if is_root else 0.0,
                shaping_seconds=round(position.seconds.shaping, 4) if is_root else 0.0,
                staging_seconds=round(position.seconds.staging, 4) if is_root else 0.0,
                committing_seconds=round(committing, 4) if is_root else 0.0,
            )
        )
    return lines
