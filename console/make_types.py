"""Writes src/lib/api-types.ts from the service's OpenAPI document. `make console` runs it; a test finds drift."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from reedbasket.service import openapi
from reedbasket.service.views import operations

TARGET = Path(__file__).parent / "src" / "lib" / "api-types.ts"


def render() -> str:
    schemas = openapi.document(operations)["components"]["schemas"]
    parts = ["// Made from the service's OpenAPI document by console/make_types.py; do not change, change reedbasket/wire.\n"]
    for name, schema in schemas.items():
        if schema.get("type") == "object":
            about = schema.get("description")
            parts.append(
                (f"/** {' '.join(about.split())} */\n" if about else "") + f"export interface {name} {_object(schema)}\n"
            )
    return "\n".join(parts)


def _object(schema: dict[str, Any]) -> str:
    required = set(schema.get("required", []))
    lines = [
        f"  {name}{'' if name in required else '?'}: {_type(item)};" for name, item in schema.get("properties", {}).items()
    ]
    return "{\n" + "\n".join(lines) + "\n}"


def _type(schema: dict[str, Any]) -> str:
    if "$ref" in schema:
        return str(schema["$ref"]).rsplit("/", 1)[1]
    if "const" in schema:
        return json.dumps(schema["const"])
    if "enum" in schema:
        return " | ".join(json.dumps(v) for v in schema["enum"])
    if "anyOf" in schema:
        return " | ".join(_type(s) for s in schema["anyOf"])
    match schema.get("type"):
        case "string":
            return "string"
        case "integer" | "number":
            return "number"
        case "boolean":
            return "boolean"
        case "null":
            return "null"
        case "array":
            inner = _type(schema.get("items", {}))
            return f"({inner})[]" if " " in inner else f"{inner}[]"
        case "object":
            more = schema.get("additionalProperties")
            return f"Record<string, {_type(more) if isinstance(more, dict) else 'unknown'}>"
    return "unknown"


if __name__ == "__main__":
    TARGET.write_text(render())
