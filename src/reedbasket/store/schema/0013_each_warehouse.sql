-- What a feed into several warehouses could not load, or met otherwise than expected, is of one of them. '' is of the time when only
-- the feed's first was told of.
create table reject_of_each (
    id           integer primary key,
    feed         text not null,
    warehouse    text not null,
    source_table text not null,
    digest       blob not null,
    run          integer not null,      -- the last run that met it
    at           text not null,
    code         text not null,
    message      text not null,
    field        text not null,
    record       text not null,         -- JSON, as received
    times        integer not null default 1,
    unique (feed, warehouse, source_table, digest)
);
insert into reject_of_each (id, feed, warehouse, source_table, digest, run, at, code, message, field, record, times)
    select id, feed, '', source_table, digest, run, at, code, message, field, record, times from reject;
drop table reject;
alter table reject_of_each rename to reject;
create index reject_by_time on reject (at);
alter table drift add column warehouse text not null default '';
