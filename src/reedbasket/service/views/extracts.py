"""Extracts: requested as a run, and downloaded from here."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from flask import Response

from ... import wire
from ...store import extracts
from .shared import operations, parts

_AT_ONCE = 1 << 18


@operations.add("GET", "/api/v1/extracts", "list stored extracts, newest first")
def list_extracts() -> list[wire.Extract]:
    return extracts.listed(parts().store)


@operations.add(
    "GET",
    "/api/v1/extracts/{extract}/{file}",
    "one file of an extract: its manifest, or a table as Parquet",
    answer=str,
    problems=(404,),
    stream="application/octet-stream",
)
def extract_file(extract: str, file: str) -> Response:
    path = extracts.file_of(parts().store, extract, file)
    headers = {"Content-Length": str(path.stat().st_size), "Content-Disposition": f'attachment; filename="{path.name}"'}
    return Response(_parts(path), content_type="application/octet-stream", headers=headers)


@operations.add("DELETE", "/api/v1/extracts/{extract}", "remove an extract", status=204, problems=(404,))
def remove_extract(extract: str) -> None:
    extracts.remove(parts().store, extract)


def _parts(path: Path) -> Iterator[bytes]:
    with open(path, "rb") as content:
        while part := content.read(_AT_ONCE):
            yield part
