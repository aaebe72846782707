-- What came in, by feed and ten minutes: charts over days are drawn from this, and not from the ledger. Kept for some days.
create table activity (
    at        text not null,            -- when its ten minutes begin
    feed      text not null,
    loads     integer not null default 0,
    read      integer not null default 0,
    written   integer not null default 0,
    rejected  integer not null default 0,
    bytes     integer not null default 0,
    runs      integer not null default 0,
    failed    integer not null default 0,
    primary key (at, feed)
) without rowid;

insert into activity (at, feed, loads, read, written, rejected, bytes)
    select substr(ended, 1, 15) || '0:00Z', feed, count(*), sum(read), sum(inserted + updated + deleted + removed), sum(rejected),
           sum(source_bytes)
    from ledger where ended > strftime('%Y-%m-%dT%H:%M:%SZ', 'now', '-8 days') group by 1, 2;

create trigger activity_of_load after insert on ledger begin
    insert into activity (at, feed, loads, read, written, rejected, bytes)
        values (substr(new.ended, 1, 15) || '0:00Z', new.feed, 1, new.read, new.inserted + new.updated + new.deleted + new.removed,
                new.rejected, new.source_bytes)
        on conflict (at, feed) do update set
            loads = loads + 1, read = read + excluded.read, written = written + excluded.written,
            rejected = rejected + excluded.rejected, bytes = bytes + excluded.bytes;
end;

create trigger activity_of_run after update of outcome on run
    when old.outcome in ('queued', 'running') and new.outcome in ('succeeded', 'failed') begin
    insert into activity (at, feed, runs, failed)
        values (substr(new.ended_at, 1, 15) || '0:00Z', new.feed, 1, new.outcome = 'failed')
        on conflict (at, feed) do update set runs = runs + 1, failed = failed + excluded.failed;
end;
