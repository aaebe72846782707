"""Extracts as folders: reading and checking the manifest, and the definitions by which an extract is loaded."""

from __future__ import annotations

import hashlib
import json
import re
from pathlib import Path
from typing import Any

from .errors import ReedError

MANIFEST = "manifest.json"


class ExtractError(ReedError):
    """An extract that differs from its manifest, or cannot be loaded."""

    code = "extract.unreadable"


def read_manifest(folder: Path) -> dict[str, Any]:
    """The manifest, after checking that every file is there and as it says.

    Raises:
        ExtractError: something differs.
    """
    path = folder / MANIFEST
    try:
        manifest: dict[str, Any] = json.loads(path.read_text("utf-8"))
        tables = [(str(table["name"]), str(table["file"]), str(table["sha256"])) for table in manifest["tables"]]
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise ExtractError(
            "reading the extract",
            str(path),
            found=f"{type(error).__name__}: {error}",
            fix="name a folder that `reed extract write` made",
        ) from None
    for name, file, expected in tables:
        target = folder / file
        if Path(file).name != file or not target.is_file():
            raise ExtractError(
                "reading the extract",
                str(target),
                found=f"the file of the table {name} does not exist",
                fix="copy the extract whole",
            )
        if digest(target) != expected:
            raise ExtractError(
                "reading the extract",
                str(target),
                found="its content changed after it was written",
                fix="copy it again",
                code="extract.changed",
            )
    return manifest


def digest(file: Path) -> str:
    """SHA-256, hex."""
    found = hashlib.sha256()
    with open(file, "rb") as content:
        while part := content.read(1 << 20):
            found.update(part)
    return found.hexdigest()


def feed_of(manifest: dict[str, Any]) -> str:
    """The name of the feed that loads an extract."""
    return re.sub(r"[^a-z0-9]+", "-", f"extract-{manifest['feed']}".lower()).strip("-")


def as_basket(manifest: dict[str, Any], folder: Path, *, into: str, prefix: str = "") -> tuple[str, str]:
    """(the feed's name, YAML): a source on the folder, and a feed that loads each of its files once. Loading the same extract again
    changes nothing; a newer one of the same feed is merged by its keys.
    """
    name = feed_of(manifest)
    tables = [
        {
            "table": table["name"],
            "files": table["file"],
            **({"primary_key": table["key"], "write": "upsert"} if table["key"] else {"write": "append"}),
        }
        for table in manifest["tables"]
    ]
    source = {
        "source": name,
        "description": f"an extract of the feed {manifest['feed']}",
        "type": "files",
        "path": str(folder.resolve()),
    }
    # What the manifest says of each file has been proven: none is still being written.
    changes = {"by": "files", "stable_for": "0s"}
    feed = {
        "feed": name,
        "from": name,
        "into": into,
        "table_prefix": prefix,
        "changes": changes,
        "tables": tables,
    }
    # JSON is YAML, and quotes by itself.
    return name, "---\n".join(json.dumps(one, indent=1, ensure_ascii=False) + "\n" for one in (source, feed))
