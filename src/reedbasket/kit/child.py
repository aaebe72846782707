"""A connector's process: takes an order, executes it, reports what it finds, and ends."""

from __future__ import annotations

import importlib
import os
import sys
import time
import traceback
import types
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import Any, NoReturn

import orjson

from ..core.records import exact_json
from ..core.sources.python import frames
from .confine import confine, limit
from .connector import Connector, Failed, Log, Position, Saved, Time, definition_of, settings_of
from .http import Http

# Records are handed on in parts of so many, or after so long.
_MOST_RECORDS = 2_000
_MOST_SECONDS = 0.5
MODULE = "reed_connector"
# Under which packages publish connectors (https://packaging.python.org/specifications/entry-points/).
PUBLISHED = "reedbasket.connectors"


class _RequestFailed(BaseException):
    """The worker knows why; nothing in between should catch it."""


class Child:
    """One side of the pipes.

    Args:
        told, heard: file descriptors of the pipes to and from the worker.
    """

    def __init__(self, heard: int, told: int) -> None:
        self._heard, self._told = heard, told

    def work(self) -> None:
        """Execute orders until the worker sends no more."""
        letter, payload = frames.receive(self._heard)
        assert letter == b"o"
        order = orjson.loads(payload)
        try:
            limit(order["memory"])
            lacking = confine(Path(order["scratch"]))
            kind = load(order["entry"], order["program"])
            if order["do"] == "describe":
                self._done({"definition": definition_of(kind), "lacking": lacking})
                return
            connector = self._made(kind, order["settings"])
            for what in lacking:
                self._tell(b"l", {"level": "warning", "message": f"this system cannot confine a connector's access to {what}"})
            done: dict[str, Any] = {}
            if order["do"] == "check":
                connector.check()
            elif order["do"] == "tables":
                done = {table.name: table.as_definition() for table in connector.tables()}
            else:
                self._read(connector, order)
            self._done(done)
        except _RequestFailed:
            self._tell(b"e", {"request": True})
        except Failed as failed:
            self._tell(b"e", {"found": failed.found, "fix": failed.fix, "retry": failed.retry})
        except MemoryError:
            found = f"it needed more than the {order['memory']} MB that it may use"
            self._tell(
                b"e",
                {
                    "found": found,
                    "fix": "yield records as they come, or raise `memory_limit`",
                    "code": "connector.out_of_memory",
                },
            )
        except Exception as error:
            self._tell(b"e", {"found": f"{type(error).__name__}: {error}", "where": where(error), "code": "connector.broken"})

    def _read(self, connector: Connector, order: dict[str, Any]) -> None:
        found = order["position"]
        window = found["window"] and (datetime.fromisoformat(found["window"][0]), datetime.fromisoformat(found["window"][1]))
        position = Position(_bound(found["from"]), datetime.fromisoformat(found["until"]), window, found["saved"])
        pending: list[dict[str, Any]] = []
        sent = time.monotonic()
        for item in connector.read(order["table"], position):
            if type(item) is dict:
                pending.append(item)
            elif isinstance(item, list):
                pending += item
            else:
                pending = self._records(pending)
                self._else(item)
            if pending and (len(pending) >= _MOST_RECORDS or time.monotonic() - sent > _MOST_SECONDS):
                pending, sent = self._records(pending), time.monotonic()
        self._records(pending)

    def _records(self, records: list[dict[str, Any]]) -> list[dict[str, Any]]:
        if records:
            try:
                text = orjson.dumps(records, default=_plain)
            except TypeError:
                text = exact_json.dump(records).encode()
            frames.send(self._told, b"j", text)
        return []

    def _else(self, item: Any) -> None:
        if isinstance(item, Saved):
            self._tell(b"p", item.value)
            return
        import pyarrow as pa

        if not isinstance(item, pa.RecordBatch | pa.Table):
            raise Failed(
                f"`read` yielded {type(item).__name__}", "yield dicts, lists of dicts, Arrow batches or tables, and Saved(…)"
            )
        out = pa.BufferOutputStream()
        with pa.ipc.new_stream(out, item.schema) as stream:
            stream.write(item)
        frames.send(self._told, b"a", out.getvalue())

    def _made(self, kind: type[Connector], values: dict[str, Any]) -> Connector:
        connector = kind()
        for name, hint in settings_of(kind).items():
            value = values.get(name)
            setattr(connector, name, datetime.fromisoformat(value) if hint is Time and value is not None else value)
        connector.http = Http(self._ask)
        connector.log = Log(lambda level, message: self._tell(b"l", {"level": level, "message": message}))
        return connector

    def _ask(self, request: dict[str, Any]) -> tuple[dict[str, Any], bytes]:
        self._tell(b"q", request)
        letter, payload = frames.receive(self._heard)
        if letter == b"x":
            raise _RequestFailed
        head, _, body = payload.partition(b"\n")
        return orjson.loads(head), body

    def _done(self, found: Any) -> None:
        self._tell(b"d", found)

    def _tell(self, letter: bytes, what: Any) -> None:
        frames.send(self._told, letter, orjson.dumps(what, default=_plain))


def load(entry: str, program: str | None) -> type[Connector]:
    """Load a connector's class.

    Args:
        entry: `lockers.py`; for installed code `lockers`, as a package publishes it, or `package.module:Class`.

    Raises:
        Failed: there is no such connector. Whatever the code itself raises is passed on.
    """
    name, _, wanted = entry.partition(":")
    if program is None and not wanted:
        from importlib import metadata  # large, and few need it

        published = {one.name: one for one in metadata.entry_points(group=PUBLISHED)}
        if name not in published:
            there = ", ".join(sorted(published)) or "none"
            raise Failed(
                f"no installed package publishes a connector {name}; published: {there}", "install it, or name its file"
            )
        name, wanted = published[name].module, published[name].attr
    if program is None:
        module = importlib.import_module(name)
    else:
        module = types.ModuleType(MODULE)
        sys.modules[MODULE] = module
        exec(compile(program, name, "exec"), module.__dict__)
    if wanted:
        found = [getattr(module, wanted, None)]
    else:
        found = [
            one
            for one in vars(module).values()
            if isinstance(one, type) and issubclass(one, Connector) and one.__module__ == module.__name__
        ]
    kinds = [one for one in found if isinstance(one, type) and issubclass(one, Connector)]
    if len(kinds) != 1:
        raise Failed(f"{entry} has {len(kinds)} subclasses of Connector", "keep one, or name it: `code: file.py:Class`")
    return kinds[0]


def _bound(found: Any) -> Any:
    return datetime.fromisoformat(found["time"]) if isinstance(found, dict) else found


def _plain(value: Any) -> Any:
    from decimal import Decimal

    if isinstance(value, Decimal):
        return orjson.Fragment(str(value))
    if isinstance(value, bytes):
        return value.hex()
    raise TypeError(f"{type(value).__name__} cannot be written as JSON")


def where(error: BaseException) -> str:
    """The last line of the connector's own code, `lockers.py:31`. Its message may contain anything, so it is left out."""
    frames_of = [frame for frame in traceback.extract_tb(error.__traceback__) if "reedbasket" not in frame.filename]
    return f"{Path(frames_of[-1].filename).name}:{frames_of[-1].lineno}" if frames_of else ""


def main() -> NoReturn:
    """A connector's process: reads standard input, and writes standard output."""
    heard, told = os.dup(0), os.dup(1)
    # What a connector prints is for the log, and nothing is to be read from where orders come.
    os.dup2(2, 1)
    os.close(0)
    os.open("/dev/null", os.O_RDONLY)
    # The worker ends us once it has what it asked for, and what was printed by then is to be there.
    sys.stdout.reconfigure(line_buffering=True)  # type: ignore[union-attr]
    with suppress(frames.PeerGone):
        Child(heard, told).work()
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(0)


if __name__ == "__main__":
    main()
