-- What the ledger says since warehouses count and time more.
alter table ledger add column filtered integer not null default 0;
alter table ledger add column reading_seconds real not null default 0;
alter table ledger add column shaping_seconds real not null default 0;
alter table ledger add column staging_seconds real not null default 0;
alter table ledger add column committing_seconds real not null default 0;
-- A run that may let go what a change of writing cannot keep.
alter table run add column accept integer not null default 0;
-- A run that takes the rejects once more in place of the source.
alter table run add column again integer not null default 0;
-- The history of each feed's structure: what was met that was not expected.
create table drift (
    id           integer primary key,
    feed         text not null,
    source_table text not null,
    run          integer not null,
    at           text not null,
    what         text not null,         -- table, column, type, vanished, returned
    "table"      text not null,
    "column"     text not null,
    words        text not null,
    ignored      integer not null
);
create index drift_by_feed on drift (feed, id);
