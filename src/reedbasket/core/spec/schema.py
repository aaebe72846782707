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
    """One schema that accepts any single definition document, made from the models."""
    warehouses = [WAREHOUSES.get(name).definition for name in WAREHOUSES.names()]
    sources = [SOURCES.get(name).definition for name in SOURCES.names()]
    any_of: Any = reduce(or_, [ConnectorSource, *sources, *warehouses], Connector | Feed)
    adapter: TypeAdapter[Any] = TypeAdapter(any_of)
    made = adapter.json_schema(by_alias=True)
    # As it is written: names and prefixes of a feed may hold parameters, and a list of sets makes a feed of each.
    feed = made["$defs"]["Feed"]["properties"]
    one = feed["parameters"]
    feed["parameters"] = {"anyOf": [one, {"type": "array", "items": one, "minItems": 1}], "description": one["description"]}
    feed["table_prefix"] = {"type": "string"}
    feed["into"] = {"anyOf": [feed["into"], {"type": "array", "items": {"type": "string"}, "minItems": 1}]}
    del feed["also"]
    made["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    made["title"] = "Reed Basket definition"
    return made
