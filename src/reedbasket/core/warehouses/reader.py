"""What every warehouse answers in the same way: state, ledger, tables, rows. Only how to query is the engine's own."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from functools import partial
from typing import Any

from typing_extensions import override

from ..errors import NotFound, QueryRefused
from ..records.ledger import LedgerLine
from ..spec.files import Derived
from .engine import FILE, Engine, transaction
from .loader import unfinished
from .loader.derived import is_current, read_derived, refresh
from .loader.file_list import FileLine, read_files, requeue_files
from .loader.service_tables import read_hashes, read_ledger, read_state, read_window, rewind
from .loading import LoadedWindow
from .warehouse import QueryResult, TableInfo, TableState, Warehouse

Ask = Callable[[str, Sequence[Any]], list[tuple[Any, ...]]]


class WarehouseReader(ABC, Warehouse):
    """The reading half of a warehouse; see `warehouse.Warehouse` for what each answer means."""

    # The names of its tables but the loader's own, in order; takes what `_where` says.
    _names: str
    # What tells the latest rows of a load, the latest first.
    _latest_row: str
    # Of its engine: see `engine.Engine`.
    _ddl_commits = False
    # Nothing stood on top of a table when a run began: none but that run would make it for its feed, and the end need not ask.
    _none_kept = False

    @abstractmethod
    def _reading(self) -> AbstractContextManager[Ask]:
        """A way to query with `?` for bound values. If the warehouse does not exist yet, every answer is empty."""

    @abstractmethod
    def _columns(self, query: Ask, table: str) -> dict[str, str] | None:
        """{column: declared type}, None for no such table."""

    def _named(self, table: str) -> str:
        """As SQL."""
        return quoted(table)

    @abstractmethod
    @override
    def query(self, sql: str, *, limit: int, seconds: float) -> QueryResult: ...

    def _many(self, query: Ask, columns: Sequence[str], rest: str, values: Sequence[Any]) -> Iterable[tuple[Any, ...]]:
        """Many short rows, in no order. rest: the statement from `from` on."""
        return query(f"select {', '.join(map(quoted, columns))} {rest}", values)

    @override
    def quote(self, name: str) -> str:
        return quoted(name)

    @override
    def text_of(self, expression: str) -> str:
        return f"cast({expression} as text)"

    @property
    def _where(self) -> Sequence[Any]:
        return ()

    @property
    @abstractmethod
    def _called(self) -> str:
        """As people call it."""

    def _refused(self, found: str, fix: str) -> QueryRefused:
        return QueryRefused("querying the warehouse", self._called, found=found, fix=fix)

    @override
    def existing(self, table: str) -> dict[str, str] | None:
        with self._reading() as query:
            return self._columns(query, table)

    @override
    def state(self, feed: str, source_table: str) -> TableState | None:
        if self._ddl_commits:
            self._finish(feed, source_table)
        with self._reading() as query:
            columns = self._columns(query, "_rb_cursor")
            self._none_kept = self._columns(query, "_rb_derived") is None
            return read_state(query, self._named("_rb_cursor"), columns, feed, source_table) if columns else None

    def _finish(self, feed: str, source_table: str) -> None:
        """What a commit had still to do that was cut."""
        with self._reading() as query:
            there = self._columns(query, unfinished.TABLE) is not None
            named = self._named(unfinished.TABLE)
            waiting = there and unfinished.swaps(query, named, feed, source_table)
        if waiting:
            engine = self._loader()
            with engine.translated("finishing an interrupted commit in"):
                unfinished.finish(engine, feed, source_table)

    @override
    def known_tables(self, feed: str) -> list[str]:
        with self._reading() as query:
            if not self._columns(query, "_rb_cursor"):
                return []
            named = self._named("_rb_cursor")
            return [row[0] for row in query(f"select source_table from {named} where feed = ? order by source_table", (feed,))]

    @override
    def hashes(self, feed: str, source_table: str, version: int) -> bytes | None:
        with self._reading() as query:
            there = self._columns(query, "_rb_hash")
            return read_hashes(query, self._named("_rb_hash"), feed, source_table, version) if there else None

    @override
    def load_of_window(self, feed: str, source_table: str, window: LoadedWindow) -> int | None:
        with self._reading() as query:
            there = self._columns(query, "_rb_window")
            return read_window(query, self._named("_rb_window"), feed, source_table, window) if there else None

    @override
    def files(self, feed: str, source_table: str) -> list[FileLine]:
        with self._reading() as query:
            there = self._columns(query, FILE)
            return read_files(partial(self._many, query), self._named(FILE), feed, source_table) if there else []

    @override
    def requeue_files(self, feed: str, source_table: str, paths: Sequence[str]) -> int:
        with self._changing("requeueing files in") as engine:
            return requeue_files(engine, feed, source_table, paths)

    @override
    def rewind(self, feed: str, source_table: str, value: str | None) -> bool:
        with self._changing("moving a cursor back in") as engine:
            return rewind(engine, feed, source_table, value)

    @override
    def keep_derived(self, feed: str, source_table: str, derived: Derived | None, version: int) -> str:
        if derived is None and self._none_kept:
            return ""
        with self._reading() as query:
            there = self._columns(query, "_rb_derived") is not None
            held = read_derived(query, self._named("_rb_derived"), feed, source_table) if there else None
            exists = derived is not None and self._columns(query, derived.name) is not None
        if is_current(held, derived, version, exists=exists):
            return ""
        with self._changing("refreshing what is derived from a table of") as engine:
            return refresh(engine, feed, source_table, derived, version)

    @abstractmethod
    def _loader(self) -> Engine:
        """The engine on the connection that writes."""

    @contextmanager
    def _changing(self, doing: str) -> Iterator[Engine]:
        """One transaction."""
        engine = self._loader()
        with engine.translated(doing), transaction(engine):
            yield engine

    @override
    def owner(self, table: str) -> tuple[str, str] | None:
        with self._reading() as query:
            if not self._columns(query, "_rb_cursor"):
                return None
            rows = query(f'select feed, source_table from {self._named("_rb_cursor")} where "table" = ?', (table,))
            return (rows[0][0], rows[0][1]) if rows else None

    @override
    def ledger(self, *, feed: str | None = None, after: int = 0, limit: int = 1000) -> list[LedgerLine]:
        with self._reading() as query:
            columns = self._columns(query, "_rb_ledger")
            return read_ledger(query, self._named("_rb_ledger"), columns, feed, after, limit) if columns else []

    @override
    def tables(self) -> list[TableInfo]:
        with self._reading() as query:
            latest: dict[str, tuple[str, int, str, str]] = {}
            if self._columns(query, "_rb_ledger"):
                ledger = self._named("_rb_ledger")
                lines = query(
                    f"""select l."table", l.feed, l."load", l.ended, l.source_table from {ledger} as l
                        join (select "table", max("load") as "load" from {ledger} group by "table") as newest
                        on newest."load" = l."load" and newest."table" = l."table"
                    """,
                    (),
                )
                latest = {table: (feed, load, ended, source_table) for table, feed, load, ended, source_table in lines}
            found = []
            for (name,) in query(self._names, self._where):
                columns = list((self._columns(query, name) or {}).items())
                count = query(f"select count(*) from {self._named(name)}", ())[0][0]
                found.append(TableInfo(name, columns, count, *latest.get(name, (None, None, None, None))))
            return found

    @override
    def rows(self, table: str, *, limit: int, offset: int = 0) -> QueryResult:
        columns = self.existing(table)
        if not columns:
            raise NotFound(
                "reading rows of",
                table,
                found=f"no such table in {self._called}",
                fix="list the tables with `reed tables`, or run the feed that creates it",
                code="table.not_found",
            )
        order = f"order by _rb_ledger_line desc, {self._latest_row}" if "_rb_ledger_line" in columns else ""
        statement = f"select * from {self._named(table)} {order} limit {int(limit) + 1} offset {int(offset)}"
        shown = self.query(statement, limit=limit, seconds=30.0)
        return QueryResult(list(columns.items()), shown.rows, shown.truncated, shown.seconds)


def nothing_loaded(where: str) -> NotFound:
    """The error for a query of a warehouse that does not exist yet."""
    words = "nothing was loaded into it yet"
    return NotFound("querying the warehouse", where, found=words, fix="run a feed", code="warehouse.empty")


def quoted(name: str) -> str:
    """A name as SQL."""
    return '"' + name.replace('"', '""') + '"'
