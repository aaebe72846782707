"""SQL expressions over a table's columns: checked when a basket is applied, evaluated by DuckDB in memory.

An expression is a value made from columns, constants and functions. It contains no query and can read no file.
"""

from __future__ import annotations

import json
import re
import threading
from dataclasses import dataclass
from functools import cache
from typing import Any


@dataclass(frozen=True)
class ExpressionMistake(Exception):
    """An expression that is not valid.

    Attributes:
        position: of the character where the mistake is, from 0; None if the engine does not say.
    """

    message: str
    position: int | None = None

    def __str__(self) -> str:
        return self.message if self.position is None else f"{self.message}, at character {self.position + 1}"


_own = threading.local()


def _engine() -> Any:
    """The calling thread's connection: one is used by one thread at a time, and several warehouses of a feed are loaded in parallel."""
    # Only baskets with expressions pay for loading the library.
    import duckdb

    if not hasattr(_own, "engine"):
        _own.engine = duckdb.connect(":memory:", config={"enable_external_access": "false", "threads": 1})
    return _own.engine


def open_engine() -> Any:
    """An in-memory connection for evaluation: no files, UTC, one thread, little memory."""
    import duckdb

    connection = duckdb.connect(":memory:", config={"enable_external_access": "false", "threads": 1, "memory_limit": "64MB"})
    connection.execute("set TimeZone = 'UTC'")
    connection.execute("set lock_configuration = true")
    return connection


def columns_in(expression: str) -> list[str]:
    """The columns that an expression names, each once.

    Raises:
        ExpressionMistake: it is not a single value.
    """
    before = "select ("
    row = _engine().execute("select json_serialize_sql(?)", [f"{before}{expression}\n) as made"]).fetchone()
    tree = json.loads(row[0])
    if tree.get("error"):
        position = tree.get("position")
        at = int(position) - len(before) if position is not None else None
        message = re.sub(r"\s+", " ", str(tree.get("error_message", "it is not valid SQL"))).removeprefix("syntax error ")
        raise ExpressionMistake(f"not an SQL expression: {message}", at if at is None or 0 <= at <= len(expression) else None)
    node = tree["statements"][0]["node"]
    if len(tree["statements"]) > 1 or len(node.get("select_list", [])) != 1 or node["from_table"]["type"] != "EMPTY":
        raise ExpressionMistake("it is more than a single expression")
    found: dict[str, None] = {}
    _walk(node["select_list"][0], found)
    return list(found)


def check(expression: str) -> None:
    """Check an expression for what is wrong with any table: syntax, unknown functions, wrong numbers of arguments.

    Raises:
        ExpressionMistake: something is wrong.
    """
    columns = columns_in(expression)
    given = ", ".join(f'null as "{c}"' for c in columns) or "1 as nothing"
    try:
        _engine().execute(f"explain select ({expression}\n) from (select {given})")
    except Exception as error:
        first = re.sub(r"\s+", " ", str(error).split("\n\n")[0].split("LINE 1")[0]).strip()
        kind, _, message = first.partition(" Error: ")
        # An untyped null may fit several forms of a function; a real column will not.
        if kind in ("Binder", "Catalog") and "Could not choose" not in message and not _count_fits(str(error)):
            name = re.search(r"name (\w+) does not exist", message)
            at = expression.find(name.group(1)) if name else -1
            raise ExpressionMistake(message.split(". You might")[0], at if at >= 0 else None) from None


def _count_fits(message: str) -> bool:
    """Of 'No function matches ...': whether one of the candidates takes that many arguments, so that only the types do not fit."""
    used = re.search(r"function name and argument types '\w+\((.*)\)'", message) or re.search(r"types '\w+\((.*?)\)'", message)
    candidates = re.findall(r"^\s*\w+\((.*)\) ->", message, re.MULTILINE)
    if not used:
        return False
    counts = {0 if not c.strip() else c.count(",") + 1 for c in candidates}
    return used.group(1).count(",") + 1 in counts or any("..." in c for c in candidates)


@cache
def _aggregates() -> frozenset[str]:
    rows = (
        _engine().execute("select distinct function_name from duckdb_functions() where function_type = 'aggregate'").fetchall()
    )
    return frozenset(row[0] for row in rows)


def _walk(node: Any, found: dict[str, None]) -> None:
    if isinstance(node, list):
        for item in node:
            _walk(item, found)
    elif isinstance(node, dict):
        kind = node.get("class")
        if kind == "SUBQUERY":
            raise ExpressionMistake("an expression may not contain a query")
        if kind == "WINDOW":
            raise ExpressionMistake("window functions are not allowed, because rows arrive in batches")
        if kind == "STAR":
            raise ExpressionMistake("* is not allowed in an expression")
        if kind == "FUNCTION" and str(node.get("function_name", "")).lower() in _aggregates():
            raise ExpressionMistake(f"{node['function_name']} is an aggregate; an expression sees only one row")
        if kind == "COLUMN_REF":
            names = node["column_names"]
            if len(names) != 1:
                raise ExpressionMistake(f"{'.'.join(names)} is not a column; write columns without a prefix")
            found[names[0]] = None
        for value in node.values():
            if isinstance(value, dict | list):
                _walk(value, found)
