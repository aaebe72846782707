"""Bundles: extracts as files, asked for by a run, taken along from here."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from flask import Response

from ... import wire
from ...store import bundles
from .shared import operations, parts

_AT_ONCE = 1 << 18


@operations.add("GET", "/api/v1/bundles", "bundles that runs have written, the latest first", answer=list[wire.Bundle])
def list_bundles() -> Any:
    return bundles.listed(parts().store)


@operations.add(
    "GET",
    "/api/v1/bundles/{bundle}/{file}",
    "one file of a bundle: its manifest, or a table as Parquet",
    answer=str,
    problems=(404,),
    stream="application/octet-stream",
)
def bundle_file(bundle: str, file: str) -> Response:
    path = bundles.file_of(parts().store, bundle, file)
    headers = {"Content-Length": str(path.stat().st_size), "Content-Disposition": f'attachment; filename="{path.name}"'}
    return Response(_parts(path), content_type="application/octet-stream", headers=headers)


@operations.add("DELETE", "/api/v1/bundles/{bundle}", "let a bundle go", answer=None, status=204, problems=(404,))
def remove_bundle(bundle: str) -> Any:
    bundles.remove(parts().store, bundle)


def _parts(path: Path) -> Iterator[bytes]:
    with open(path, "rb") as content:
        while part := content.read(_AT_ONCE):
            yield part
