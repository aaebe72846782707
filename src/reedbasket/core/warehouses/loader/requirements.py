"""What has to be true of a warehouse's tables before a load writes to them."""

from __future__ import annotations

from collections.abc import Collection

from ...errors import ConnectionLost, TableNotOwned
from ..engine import Engine
from ..loading import LoadTarget


def require_owned(engine: Engine, table: str, columns: Collection[str], *, feed: str, loaded: bool, known: bool) -> None:
    """A table that is there was made by this feed.

    Args:
        columns: of the table that is there.
        loaded: whether the feed has loaded anything yet.
        known: whether the feed knows the table from an earlier load.

    Raises:
        TableNotOwned: someone else made it, or another feed did.
    """
    found = ""
    if "_rb_ledger_line" not in columns or not loaded or not engine.is_table(table):
        what = "something" if engine.is_table(table) else "a view"
        found = f"{what} of that name exists already, with {len(columns)} columns, and this feed did not create it"
    elif not known:
        ledger = engine.table("_rb_ledger")
        others = engine.query(f'select distinct feed from {ledger} where "table" = ? and feed <> ?', (table, feed))
        found = f"the feed {others[0][0]} writes a table of that name" if others else ""
    if found:
        raise TableNotOwned("loading", table, found=found, fix="give the feed another `table_prefix`, or rename what exists")


def require_committed(engine: Engine, target: LoadTarget, load: int, lost: ConnectionLost) -> None:
    """The connection was lost in the middle of a commit: ask the ledger whether it happened, that is, whether it has our load's id.

    Raises:
        ConnectionLost: it did not happen, or the warehouse cannot be asked.
    """
    try:
        engine.reconnect()
        engine.begin()
    except Exception as error:
        raise ConnectionLost(
            lost.doing,
            lost.on,
            found="the connection was lost in the middle of the commit, and the server cannot be asked whether it happened",
            fix="run again once it is up: the next run starts from what the warehouse then holds, whichever it is",
        ) from error
    engine.serialise(target.feed, target.source_table)  # returns once the lost connection's transaction has ended
    ledger = engine.columns("_rb_ledger") and engine.query(
        f'select run from {engine.table("_rb_ledger")} where "load" = ?', (load,)
    )
    engine.rollback()
    if not ledger or ledger[0][0] != target.run:
        raise lost
