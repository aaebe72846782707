-- One line per record and table of a feed, however often it was met.
create table reject (
    id           integer primary key,
    feed         text not null,
    source_table text not null,
    digest       blob not null,
    run          integer not null,      -- the last run that met it
    at           text not null,
    code         text not null,
    message      text not null,
    field        text not null,
    record       text not null,         -- JSON, as received
    times        integer not null default 1,
    unique (feed, source_table, digest)
);
