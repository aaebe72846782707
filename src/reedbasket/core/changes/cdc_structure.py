"""What a change of a table's structure did to rows that were there: a database's log does not tell it.

A column that is renamed, that is new and filled by its default, or whose type was changed with its values, shows in the log only with the
rows that change later. So what a table looked like is kept beside the position, and held against what it looks like now.
"""

from __future__ import annotations

import json

from ..sources.sql.tables import Table


def structure_of(table: Table) -> str:
    """What is kept of a table beside a position in the log."""
    columns = {
        column.name: [column.declared, column.altered, column.number] for column in table.columns if not column.generated
    }
    return json.dumps({"columns": columns, "rewritten": table.rewritten}, ensure_ascii=False)


def untold(before: str | None, table: Table) -> str:
    """What became of rows without a word in the log.

    Args:
        before: what was kept with the position from which the log is read.
        table: as it is now.

    Returns:
        In words; '' where the log tells all.
    """
    if before is None or not before.startswith("{"):
        return ""
    kept = json.loads(before)
    columns = {column.name: column for column in table.columns if not column.generated}
    rewritten = kept["rewritten"] != table.rewritten
    new = [column for name, column in columns.items() if name not in kept["columns"]]
    gone = [name for name in kept["columns"] if name not in columns]
    filled = [column.name for column in new if column.filled == "yes" or (rewritten and column.filled == "if rewritten")]
    changed = []
    for name, (declared, altered, _) in kept["columns"].items():
        column = columns.get(name)
        if column is not None and (column.declared != declared or (rewritten and column.altered != altered)):
            changed.append(name)
    if {column.number for column in new} & {kept["columns"][name][2] for name in gone}:
        return f"column {', '.join(gone)} is gone, and {', '.join(column.name for column in new)} is there"
    if filled:
        return f"rows that were there got a value in the new column {', '.join(filled)}"
    return f"the type of column {', '.join(changed)} was changed" if changed else ""
