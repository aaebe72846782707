"""Databases that fail while a feed reads them: told, and fixed by running again."""

from __future__ import annotations

import sqlite3
import threading
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.allowed_paths import Places
from reedbasket.core.errors import RunCancelled
from reedbasket.core.runs import RunOutcome
from reedbasket.core.runs.inspection.database_look import check_database, preview_database
from reedbasket.core.runs.inspection.setup_sql import setup_sql
from reedbasket.core.sources.sql import Statement
from reedbasket.core.sources.sql.open import open_database
from reedbasket.core.spec.source import Source
from tests.support.dock import Dock
from tests.support.feeds import SECRETS, Heard, order_for, run_context_for, run_once, table_rows
from tests.support.warehouses import Cluster


def test_permission_withdrawn_lock_and_a_cut_connection_are_told_and_mended(dock: Dock, tmp_path: Path) -> None:
    dock.do("create table a (id int primary key); create table b (id int primary key, t text)")
    dock.do("insert into b select n, repeat('x', 500) from generate_series(1, 100000) n")
    user = f"reader_{dock.schema}"
    SECRETS["dock_password"] = "quite a secret"
    text = dock.basket('tables: [a, "b"]', "password: {secret: dock_password}", user=user)
    order = order_for(text)
    context = run_context_for(order, tmp_path)
    assert [s.step for s in check_database(order, context, [order]) if s.ok is False] == ["login"]
    for one in setup_sql(order, context, [order]):
        dock.do(one.sql.replace("'…'", "'quite a secret'"))
    assert all(step.ok for step in check_database(order, context, [order]))
    assert run_once(text, tmp_path)[0].outcome is RunOutcome.SUCCEEDED
    refused = preview_database(order, context, "b", 2)
    assert [row[0] for row in refused.rows] == [1, 2]
    dock.do(f"revoke select on a from {user}")
    result, heard = run_once(text, tmp_path, run=2)
    assert [(t.table, t.phase) for t in result.tables] == [("b", "done"), ("a", "failed")]
    assert result.error and result.error["code"] == "source.permission_denied"

    class Cutting(Heard):
        def progress(self, progress: Any) -> None:
            if progress.read:
                dock.do("select pg_terminate_backend(pid) from pg_stat_activity where usename = %s", user)

    result, heard = run_once(text, tmp_path, run=3, heard=Cutting())
    assert result.error and result.error["code"] == "source.unreachable" and result.error["retryable"]
    assert "quite a secret" not in repr(result.error) + repr(heard.lines)
    assert run_once(text, tmp_path, run=4)[0].tables[0].phase == "done"
    dock.do(f"drop owned by {user}; drop role {user}")


@pytest.mark.slow
def test_a_lock_and_a_server_that_starts_anew(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("reedbasket.core.sources.postgres.database._LOCK_SECONDS", 1)
    cluster = Cluster()
    try:
        dock = Dock(cluster)
        dock.do("create table a (id int primary key, t text); create table b (id int primary key)")
        dock.do("insert into a select n, repeat('x', 500) from generate_series(1, 100000) n; insert into b values (1)")
        text = dock.basket("tables: [a, b]")
        holder = cluster.connect(autocommit=False)
        holder.execute(f"lock table {dock.schema}.b in access exclusive mode")
        result, _ = run_once(text, tmp_path)
        assert result.error and (result.error["code"], result.error["retryable"]) == ("source.locked", True)
        assert [(t.table, t.phase) for t in result.tables] == [("a", "done"), ("b", "failed")]
        holder.close()

        class Restarts(Heard):
            def progress(self, progress: Any) -> None:
                if progress.read and not self.phases:
                    self.phases.append(("", "seen"))
                    cluster.restart()

        result, _ = run_once(text, tmp_path, run=2, heard=Restarts())
        assert result.error and (result.error["code"], result.error["retryable"]) == ("source.unreachable", True)
        assert len(table_rows(tmp_path, "a")) == 100_000
        result, heard = run_once(text, tmp_path, run=3)
        assert result.outcome is RunOutcome.SUCCEEDED and [line.unchanged for line in heard.ledger] == [100_000, 0]
    finally:
        cluster.stop()


def test_a_stopped_run_ends_at_once(dock: Dock, tmp_path: Path) -> None:
    stop = threading.Event()
    threading.Timer(0.7, stop.set).start()
    query = '"select n from generate_series(1, 3) n where pg_sleep(600) is not null"'
    text = dock.basket(f"tables: [{{table: slow, query: {query}, write: replace}}]")
    assert run_once(text, tmp_path, stop=stop)[0].outcome is RunOutcome.CANCELLED
    limited = dock.basket(f"tables: [{{table: slow, query: {query}, write: replace}}]", "statement_timeout: 300ms")
    result, _ = run_once(limited, tmp_path, run=2)
    assert result.error and result.error["code"] == "source.timed_out"


def test_who_was_cancelled_in_sqlite_holds_up_no_writer(tmp_path: Path) -> None:
    """Also while what ended the read is still held by somebody, with all that stood around it."""
    path, stop = tmp_path / "yard.db", threading.Event()
    with closing(sqlite3.connect(path, timeout=0)) as db:
        db.execute("create table orders (id integer primary key, note text)")
        db.executemany("insert into orders values (?, ?)", ((n, "x" * 200) for n in range(3_000)))
        db.commit()
        definition = Source.model_validate({"source": "yard", "type": "sqlite", "path": str(path)})
        source = open_database(definition, None, Places.anywhere(tmp_path), stop)
        (table,) = source.tables()
        rows = source.read(Statement("select a.id, a.note from orders as a, orders as b", table.columns))
        next(rows)
        with pytest.raises(sqlite3.OperationalError, match="locked"):
            db.execute("update orders set note = 'y'")
            db.commit()
        db.rollback()
        stop.set()
        source.close()  # as a run does that waits no longer for who reads
        with pytest.raises(RunCancelled) as cancelled:
            list(rows)
        db.execute("update orders set note = 'y'")
        db.commit()
        assert cancelled.value.code == "run.cancelled"
