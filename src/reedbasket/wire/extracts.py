"""Extracts in API answers."""

from __future__ import annotations

from typing import Any

from typing_extensions import TypedDict


class ExtractedCursor(TypedDict):
    """How far a table was read."""

    kind: str
    value: str


class ExtractedTable(TypedDict):
    """A table of an extract. `file`: a Parquet file. `sha256`: of the file, hex. `schema`: JSON Schema of a row. `cursor`: how far the
    source was read.
    """

    name: str
    source_table: str | None
    file: str
    rows: int
    bytes: int
    sha256: str
    key: list[str]
    cursor: ExtractedCursor | None
    schema: dict[str, Any]


class Extract(TypedDict):
    """A feed's records as files. `extract`: the version of the manifest's format. `name`: of its folder."""

    name: str
    extract: int
    feed: str
    feed_version: int
    source: str
    run: int
    began: str
    ended: str
    tables: list[ExtractedTable]
