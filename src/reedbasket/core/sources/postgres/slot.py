"""The slot with which PostgreSQL keeps its log for a feed, and the publication that selects the tables."""

from __future__ import annotations

import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import psycopg
from psycopg import sql

from ...errors import CredentialsRefused, SourceBusy, SourceError
from ..sql.tables import Table

_STATE = """
select s.active, s.active_pid, s.plugin, s.database = current_database(), coalesce(to_jsonb(s) ->> 'wal_status', 'reserved'),
       coalesce((s.confirmed_flush_lsn - '0/0')::int8, 0),
       (case when pg_is_in_recovery() then pg_last_wal_replay_lsn() else pg_current_wal_flush_lsn() end - s.confirmed_flush_lsn)::int8,
       (case when pg_is_in_recovery() then pg_last_wal_replay_lsn() else pg_current_wal_flush_lsn() end - s.restart_lsn)::int8
from pg_replication_slots s where s.slot_name = %s
"""
_OURS = """
select slot_name, active,
       (case when pg_is_in_recovery() then pg_last_wal_replay_lsn() else pg_current_wal_flush_lsn() end - restart_lsn)::int8
from pg_replication_slots where slot_type = 'logical' and database = current_database() and left(slot_name, 5) = 'reed_'
"""
_STILL_RUNNING = "select 1 from txid_snapshot_xip(%s::txid_snapshot) as x where txid_status(x) = 'in progress' limit 1"
_SHOW_SECONDS = 1.0


@dataclass(frozen=True)
class SlotState:
    """The state of a slot.

    Attributes:
        confirmed: an LSN as a number; 0 while the slot is being created.
        behind: bytes of log that wait to be read.
        holds: bytes that it keeps on the server's disk.
    """

    active: bool
    pid: int | None
    plugin: str
    here: bool
    status: str
    confirmed: int
    behind: int
    holds: int

    @property
    def lost(self) -> bool:
        """Whether the server has discarded what the slot was to keep."""
        return self.status == "lost"


def state_of(connection: psycopg.Connection[Any], name: str) -> SlotState | None:
    """The state of a slot; None if there is none."""
    row = connection.execute(_STATE, (name,)).fetchone()
    return SlotState(*row) if row else None


def abandoned(connection: psycopg.Connection[Any], used: Iterable[str]) -> list[tuple[str, int]]:
    """[(slot, bytes it holds)] of slots with names of ours that no feed reads."""
    known = set(used)
    return [
        (name, held or 0) for name, active, held in connection.execute(_OURS).fetchall() if name not in known and not active
    ]


def create_statement(name: str) -> sql.Composed:
    """The statement that creates a slot."""
    return sql.SQL("SELECT pg_create_logical_replication_slot({}, 'pgoutput')").format(sql.Literal(name))


def drop_statement(name: str) -> str:
    """The statement that drops a slot, for people to run."""
    return sql.SQL("SELECT pg_drop_replication_slot({});").format(sql.Literal(name)).as_string(None)


def publication_statement(name: str, tables: Sequence[Table]) -> str:
    """The statement that creates a publication; partitioned tables are published as a whole."""
    listed = sql.SQL(",\n    ").join(sql.Identifier(table.schema, table.name) for table in tables)
    text = sql.SQL("CREATE PUBLICATION {}\n  FOR TABLE {}\n  WITH (publish_via_partition_root = true);")
    return text.format(sql.Identifier(name), listed).as_string(None)


def require_logical(connection: psycopg.Connection[Any], on: str) -> None:
    """Check that the server keeps a log that can be decoded.

    Raises:
        SourceError: it does not.
    """
    row = connection.execute("show wal_level").fetchone()
    if row is None or row[0] != "logical":
        raise SourceError(
            "following the change log of",
            on,
            found=f"wal_level is {row[0] if row else 'unknown'}, so its log does not carry row changes",
            fix="ALTER SYSTEM SET wal_level = 'logical'; then restart the server",
            code="source.cdc_not_enabled",
        )


def require_published(connection: psycopg.Connection[Any], on: str, name: str, tables: Sequence[Table]) -> None:
    """Check a publication.

    Raises:
        SourceError: it does not exist, or leaves out a table or a kind of change.
    """
    row = connection.execute(
        "select pubinsert and pubupdate and pubdelete and pubtruncate from pg_publication where pubname = %s", (name,)
    ).fetchone()
    doing = "following the change log of"
    if row is None:
        raise SourceError(
            doing, on, found=f"there is no publication {name}, which lists the tables whose changes are read",
            fix="let an owner of the tables run: " + publication_statement(name, tables), code="source.not_published",
        )  # fmt: skip
    if not row[0]:
        publish = sql.SQL("ALTER PUBLICATION {} SET (publish = 'insert, update, delete, truncate');").format(
            sql.Identifier(name)
        )
        raise SourceError(
            doing, on, found=f"the publication {name} leaves out inserts, updates, deletes or truncates",
            fix=f"let its owner run: {publish.as_string(None)}", code="source.not_published",
        )  # fmt: skip
    there = set(
        connection.execute("select schemaname, tablename from pg_publication_tables where pubname = %s", (name,)).fetchall()
    )
    missing = [table for table in tables if (table.schema, table.name) not in there]
    if missing:
        names = sql.SQL(", ").join(sql.Identifier(table.schema, table.name) for table in missing)
        add = sql.SQL("ALTER PUBLICATION {} ADD TABLE {};").format(sql.Identifier(name), names).as_string(None)
        words = "a partitioned table is published as a whole only with publish_via_partition_root = true"
        raise SourceError(
            doing, on, found=f"the publication {name} leaves out {', '.join(t.name for t in missing)}; {words}",
            fix=f"let its owner run: {add}", code="source.not_published",
        )  # fmt: skip


def create(connection: psycopg.Connection[Any], on: str, name: str) -> None:
    """Create a slot. PostgreSQL waits until the transactions that are running have ended.

    Raises:
        CredentialsRefused: the user may not create one.
    """
    try:
        connection.execute(create_statement(name))
    except psycopg.errors.InsufficientPrivilege as error:
        raise CredentialsRefused(
            "creating the slot at", on, found=error.diag.message_primary or str(error),
            fix="`reed setup-sql SOURCE` prints the statements: the user needs REPLICATION", code="source.permission_denied",
        ) from error  # fmt: skip
    except psycopg.errors.ConfigurationLimitExceeded as error:
        raise SourceError(
            "creating the slot at", on, found=error.diag.message_primary or str(error),
            fix="raise max_replication_slots and restart the server, or drop a slot that nobody reads", code="source.no_slot_free",
        ) from error  # fmt: skip


def wait_until_free(connection: psycopg.Connection[Any], on: str, name: str, seconds: float) -> SlotState:
    """The slot, once it is created and nobody holds it, or after so many seconds.

    Raises:
        SourceBusy: it is still being created then.
    """
    ends = time.monotonic() + seconds
    while True:
        state = state_of(connection, name)
        if state is not None and state.confirmed and (not state.active or time.monotonic() > ends):
            return state
        if time.monotonic() > ends:
            raise SourceBusy(
                "opening the change log of", on, found=f"the slot {name} has been under construction for {seconds:g} s or more",
                fix="it waits for transactions that were open when it was requested; end them, or wait",
            )  # fmt: skip
        time.sleep(0.1)


def let_commits_show(connection: psycopg.Connection[Any]) -> None:
    """Wait until all transactions that are running have ended, or for a short while, since most of them do go on: a transaction may be
    committed in the log a moment before others see it, and longer if it waits for a replica.
    """
    row = connection.execute("select txid_current_snapshot()::text").fetchone()
    ends = time.monotonic() + _SHOW_SECONDS
    while time.monotonic() < ends and connection.execute(_STILL_RUNNING, row).fetchone():
        time.sleep(0.02)
