"""Fields that a table's records must have: its key and its cursor. With a misspelt key every record would be rejected; with a misspelt
cursor every run would read the whole source.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..errors import FieldNotFound
from ..records.column_records import ColumnRecords


class RequiredFields:
    """The check of one pass. Single records may lack a field; if no record of the first part has it, that is an error."""

    def __init__(self, fields: Sequence[str], key: Sequence[str], doing: str) -> None:
        """Prepare.

        Args:
            fields: fields of the source; inside objects by a path with dots.
            key: those of them that are the key.
            doing: for the error.
        """
        self._fields, self._key, self._doing = fields, key, doing
        self._met = not fields

    def check(self, records: Sequence[Any], on: str) -> None:
        """Check the first records that arrive.

        Raises:
            FieldNotFound: none of them has one of the fields.
        """
        if self._met or not records:
            return
        for field in self._fields:
            if not _any_has(records, field):
                what = "the key" if field in self._key else "the cursor's field"
                names = records.columns.column_names if isinstance(records, ColumnRecords) else list(records[0])
                raise FieldNotFound(
                    self._doing,
                    on,
                    found=f"none of the first {len(records)} records has `{field}`, {what}; the first has {', '.join(names)[:300]}",
                    fix="in the connector, or in the feed's table, use the field's name as it appears in the records",
                )
        self._met = True


def _any_has(records: Any, field: str) -> bool:
    if isinstance(records, ColumnRecords) and records.column(field) is not None:
        return True
    return any(field in record or ("." in field and _inside(record, field)) for record in records)


def _inside(record: Any, field: str) -> bool:
    for step in field.split("."):
        if not isinstance(record, dict) or step not in record:
            return False
        record = record[step]
    return True
