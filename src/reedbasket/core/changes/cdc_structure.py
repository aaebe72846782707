"""What a change of a table's structure did to existing rows, which a database's change log does not contain.

If a column is renamed, is new and filled by its default, or has changed its type together with its values, the log shows it only with rows
that change later. So the table's structure is kept with the position, and compared with the present one.
"""

from __future__ import annotations

import json

from ..sources.sql.tables import Table


def structure_of(table: Table) -> str:
    """What is kept of a table's structure with a position in the log."""
    columns = {
        column.name: [column.declared, column.altered, column.number] for column in table.columns if not column.generated
    }
    return json.dumps({"columns": columns, "rewritten": table.rewritten}, ensure_ascii=False)


def unlogged_change(before: str | None, table: Table) -> str:
    """A change of existing rows that the log does not contain.

    Args:
        before: what was kept with the position from which the log is read.
        table: as it is now.

    Returns:
        In words; '' if the log contains everything.
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
        return f"column {', '.join(gone)} is gone, and {', '.join(column.name for column in new)} is new"
    if filled:
        return f"existing rows were given a value in the new column {', '.join(filled)}"
    return f"the type of column {', '.join(changed)} has changed" if changed else ""
