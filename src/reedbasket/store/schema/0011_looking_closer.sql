-- What went over the wire of a request: of those that went wrong, and of runs that were asked to keep it. It goes with the request.
create table request_body (
    run       integer not null,
    number    integer not null,
    exchange  text not null,            -- JSON, core.sources.requests_seen.Exchange
    primary key (run, number),
    foreign key (run, number) references request (run, number) on delete cascade
) without rowid;
alter table run add column bodies integer not null default 0;

-- How fast a run went: [[seconds since it began, records read, bytes], …], as JSON.
create table run_pace (
    run      integer primary key references run (id) on delete cascade,
    samples  text not null
);

-- What is set in the console in place of what the service was started with.
create table setting (
    name        text primary key,
    value       text not null,
    changed_at  text not null,
    changed_by  text not null
);
