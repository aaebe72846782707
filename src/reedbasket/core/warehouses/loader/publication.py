"""How a commit takes place: in one transaction, or, where statements that change tables commit by themselves, with the structure first.

In one transaction readers see everything at once, and a commit that is cut has not been.

With the structure first there are several transactions, and what is done between them can be done again:

1. Service tables, tables and columns. Those that are new are noted before they are made: a commit that is cut leaves them empty, and the
   next one knows them as its own.
2. Where the table was written in another way before, its rows are brought along, and the state says so in the same transaction.
3. Rows, ledger, cursor: one transaction. This is the moment at which the load counts.
4. What was built in shadow tables takes their place, all tables of the family at once. That it is to was noted in the third step, so that
   whoever asks for the state next finishes it where the commit was cut before: `finish`.
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
    """All of the commit's steps.

    Raises:
        ReedError: as the steps say; nothing of the load is in the warehouse then.
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
        commit.guard(made=unfinished.being_made(engine, target))
        unfinished.note_new(engine, target, commit.new_tables)
    commit.tables()
    with transaction(engine):
        commit.reserve()
    if commit.migration:
        commit.migration.release_keys()
        with transaction(engine):
            commit.notes += commit.migration.move_rows(commit.stamps[0])
            service_tables.save_way(engine, target, forget_cursor=commit.forgets_cursor)
        commit.migration.drop_columns()
    commit.keys()
    commit.complete()
    with _counted(engine, commit):
        commit.guard(made=unfinished.being_made(engine, target))
        commit.rows()
        unfinished.forget(engine, target)
        if commit.shadow:
            unfinished.note_swap(engine, target, commit.shadow.names)
    if commit.shadow:
        commit.shadow.placed()  # they are the table's from now on, whatever becomes of this process
        unfinished.finish(engine, target.feed, target.source_table)


@contextmanager
def _counted(engine: Engine, commit: LoadCommit) -> Iterator[None]:
    """The transaction of the rows. Where the connection is lost in the midst of committing, the ledger says whether it took place."""
    try:
        with transaction(engine):
            yield
    except ConnectionLost as lost:
        if not commit.lines:
            raise
        require_committed(engine, commit.target, commit.stamps[0].load, lost)
        commit.staged.stage = Stage(engine)  # the temp tables went with the connection
