"""Definitions: connectors, sources, warehouses and feeds in YAML, checked before anything is tried.

May import: core.errors, and core.records and core.shaping for names and expressions. Reads files; opens no connection.
"""

from .basket import Basket, load_folder, load_texts
from .http import Connector
from .mistakes import Mistake
from .model import Feed
from .schema import json_schema
from .source import Source
from .warehouse import Warehouse

__all__ = ["Basket", "Connector", "Feed", "Mistake", "Source", "Warehouse", "json_schema", "load_folder", "load_texts"]
