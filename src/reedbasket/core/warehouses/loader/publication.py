"""How a commit happens: in one transaction, or, if statements that change tables commit implicitly, with the structure first.

In one transaction, readers see everything at once, and a commit that is interrupted has not happened.

With the structure first there are several transactions, and every step can be repeated:

1. Service tables, tables and columns. New tables are noted before they are created. A commit that is interrupted leaves them empty, and
the next one knows that they are its own. 2. If the write mode has changed, rows are migrated, and the state says so in the same
transaction. 3. Rows, ledger, cursor: one transaction. From here on the load counts. 4. Shadow tables replace the tables, all tables of the
family at once. The third step notes that they have to, so that whoever reads the state next completes an interrupted replacement:
`finish`.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from ...errors import ConnectionLost
from ..engine import Engine, transaction
from . import service_tables, unfinished
from .commit import LoadCommit
from .requirements import require_committed
from .stage import Stage


def publish(engine: Engine, commit: LoadCommit) -> None:
    """All steps of a commit.

    Raises:
        ReedError: a step failed; nothing of the load is in the warehouse.
    """
    if engine.ddl_commits:
        _structure_first(engine, commit)
    else:
        _at_once(engine, commit)


def _at_once(engine: Engine, commit: LoadCommit) -> None:
    with _counted(engine, commit):
        commit.guard()
        commit.tables()
        commit.reserve()
        if commit.migration:
            commit.migration.release_keys()
            commit.notes += commit.migration.move_rows(commit.stamps[0])
            commit.migration.drop_columns()
        commit.keys()
        commit.complete()
        commit.rows()
        commit.swap_in()


def _structure_first(engine: Engine, commit: LoadCommit) -> None:
    target = commit.target
    unfinished.ensure(engine)
    with transaction(engine):
        commit.guard(made=unfinished.unfinished_tables(engine, target))
        unfinished.note_new_tables(engine, target, commit.new_tables)
    commit.tables()
    with transaction(engine):
        commit.reserve()
    if commit.migration:
        commit.migration.release_keys()
        with transaction(engine):
            commit.notes += commit.migration.move_rows(commit.stamps[0])
            service_tables.save_write_mode(engine, target, forget_cursor=commit.forgets_cursor)
        commit.migration.drop_columns()
    commit.keys()
    commit.complete()
    commit.index()
    with _counted(engine, commit):
        commit.guard(made=unfinished.unfinished_tables(engine, target))
        commit.rows()
        unfinished.forget(engine, target)
        if commit.shadow:
            unfinished.note_swap(engine, target, commit.shadow.names)
    if commit.shadow:
        commit.shadow.placed()  # they are the table's from now on, whatever becomes of this process
        unfinished.finish(engine, target.feed, target.source_table)


@contextmanager
def _counted(engine: Engine, commit: LoadCommit) -> Iterator[None]:
    """The transaction that writes the rows. If the connection is lost during the commit, the ledger tells whether it happened."""
    try:
        with transaction(engine):
            yield
    except ConnectionLost as lost:
        if not commit.lines:
            raise
        require_committed(engine, commit.target, commit.stamps[0].load, lost)
        commit.staged.stage = Stage(engine, keyed=commit.target.write != "append")  # the temp tables went with the connection
