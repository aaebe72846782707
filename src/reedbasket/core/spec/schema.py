"""JSON Schema 2020-12 of the definitions, for editors."""

from __future__ import annotations

from functools import reduce
from operator import or_
from typing import Any

from pydantic import TypeAdapter

from ..kinds import SOURCES, WAREHOUSES
from .http import Connector
from .model import Feed
from .source import ConnectorSource


def json_schema() -> dict[str, Any]:
    """One schema that accepts any single definition, made from the models."""
    warehouses = [WAREHOUSES.get(name).definition for name in WAREHOUSES.names()]
    sources = [SOURCES.get(name).definition for name in SOURCES.names()]
    any_of: Any = reduce(or_, [ConnectorSource, *sources, *warehouses], Connector | Feed)
    adapter: TypeAdapter[Any] = TypeAdapter(any_of)
    made = adapter.json_schema(by_alias=True)
    # As it is written: names and prefixes of a feed may hold values of its variants.
    feed = made["$defs"]["Feed"]["properties"]
    feed["table_prefix"] = {"type": "string"}
    feed["into"] = {"anyOf": [feed["into"], {"type": "array", "items": {"type": "string"}, "minItems": 1}]}
    del feed["also"]
    _list_tables(made["$defs"])
    made["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    made["title"] = "Reed Basket definition"
    return made


def _list_tables(defs: dict[str, Any]) -> None:
    """`tables` are written as a list; see table_list."""
    name = {"type": ["string", "number"], "maxLength": 200}
    for kind, table in (("Connector", "HttpTable"), ("Feed", "FeedTable")):
        own = defs[table]
        own["properties"] = {"table": name, **{key: value for key, value in own["properties"].items() if key != "table"}}
        own["required"] = ["table"]
        item: dict[str, Any] = {"$ref": f"#/$defs/{table}"}
        if kind == "Feed":
            own["properties"]["as"] = {"type": "string", "description": "another name for it here, and in the warehouse"}
            item = {"anyOf": [name, item]}
        defs[kind]["properties"]["tables"] = {"type": "array", "items": item}
