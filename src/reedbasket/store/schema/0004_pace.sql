-- A source's limits, held across tables, feeds and processes. Times are seconds since 1970.
create table pace (
    source   text primary key,
    next_at  real not null
);
create table pace_place (
    id       integer primary key,
    source   text not null,
    worker   integer not null,         -- process id: the places of a killed worker are free
    ends_at  real not null             -- in case the id was given to another program
);
create index pace_place_by_source on pace_place (source);
