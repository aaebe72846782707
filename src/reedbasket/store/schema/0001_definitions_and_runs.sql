-- Definitions: every version is kept; the highest version of a name is in force.
create table definition (
    kind        text not null,
    name        text not null,
    version     integer not null,
    data        text not null,          -- JSON, as applied
    file        text not null,
    applied_at  text not null,
    primary key (kind, name, version)
);

create table secret (
    name        text primary key,
    sealed      blob not null,          -- Fernet token
    changed_at  text not null
);

create table run (
    id           integer primary key,
    feed         text not null,
    feed_version integer not null,
    outcome      text not null,
    requested_at text not null,
    started_at   text,
    ended_at     text,
    worker       integer,               -- process id while running
    resumes      integer references run (id),
    error        text,                  -- JSON facts of the first error
    run_order    text                   -- JSON; secrets by name only
);
-- One run of a feed at a time, whatever the callers do.
create unique index run_active on run (feed) where outcome in ('queued', 'running');
-- The list of runs of one feed, newest first.
create index run_by_feed on run (feed, id);

create table run_table (
    run       integer not null references run (id),
    place     integer not null,
    progress  text not null,            -- JSON, core.runs.events.TableProgress
    primary key (run, place)
);

-- The log of a run. Requests are lines too, with their facts in data.
create table log (
    run      integer not null references run (id),
    number   integer not null,
    at       text not null,
    level    text not null,
    code     text not null,
    "table"  text,
    message  text not null,
    data     text,
    primary key (run, number)
);

-- A copy of each warehouse's _rb_ledger; the warehouse is the truth.
create table ledger (
    warehouse    text not null,
    load         integer not null,
    run          integer not null,
    feed         text not null,
    source       text not null,
    source_table text not null,
    "table"      text not null,
    write        text not null,
    read         integer not null,
    staged       integer not null,
    inserted     integer not null,
    updated      integer not null,
    deleted      integer not null,
    unchanged    integer not null,
    superseded   integer not null,
    rejected     integer not null,
    removed      integer not null,
    repeated     integer not null,
    cursor_from  text,
    cursor_to    text,
    source_bytes integer not null,
    started      text not null,
    ended        text not null,
    primary key (warehouse, load)
);
create index ledger_by_feed on ledger (feed, load);
create index ledger_by_run on ledger (run);
