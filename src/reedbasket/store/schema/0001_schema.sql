-- Definitions: every version is kept; the highest version of a name is in force.
create table definition (
    kind        text not null,
    name        text not null,
    version     integer not null,
    data        text not null,          -- JSON, tables by name
    file        text not null,
    text        text not null default '',   -- as it was written, comments included
    line        integer not null default 1,
    applied_at  text not null,
    applied_by  text not null default '',
    removed     integer not null default 0,
    primary key (kind, name, version)
);

create table secret (
    name        text primary key,
    sealed      blob not null,          -- Fernet token
    changed_at  text not null
);

-- What is set in the console in place of what the service was started with.
create table setting (
    name        text primary key,
    value       text not null,
    changed_at  text not null,
    changed_by  text not null
);

-- Runs

create table run (
    id           integer primary key,
    feed         text not null,
    feed_version integer not null,
    outcome      text not null,
    trigger      text not null default 'manual',    -- manual, schedule, window, upstream, backfill, retry
    asked_by     text not null default '',
    requested_at text not null,
    due_at       text,                  -- when it should have begun
    not_before   text,                  -- it waits until then
    started_at   text,
    ended_at     text,
    worker       integer,               -- process id while running
    resumes      integer references run (id),
    attempt      integer not null default 1,
    window_from  text,
    window_until text,
    backfill     integer not null default 0,        -- whose window it takes; 0 its schedule's
    sets         text,                  -- JSON, in place of the variant's values and of settings
    allow_loss   integer not null default 0,        -- may let go what a change of writing cannot keep
    replay       integer not null default 0,        -- loads the feed's rejects in place of the source's records
    bodies       integer not null default 0,        -- keeps what goes over the wire
    extract      integer not null default 0,        -- its records become files in place of rows
    error        text,                  -- JSON facts of the first error
    run_order    text,                  -- JSON; secrets by name only
    settled      integer not null default 1         -- what follows from its end has been done: retry, window, notifications
);
-- One run of a feed at a time, whatever the callers do.
create unique index run_active on run (feed) where outcome in ('queued', 'running');
-- A window of a feed is taken once.
create unique index run_window on run (feed, backfill, window_from, window_until)
    where window_from is not null and outcome in ('queued', 'running', 'succeeded');
-- The list of runs of one feed, newest first.
create index run_by_feed on run (feed, id);
create index run_unsettled on run (id) where settled = 0 and ended_at is not null;
create index run_queued on run (id) where outcome = 'queued';
create index run_running on run (id) where outcome = 'running';
create index run_succeeded on run (feed, id) where outcome = 'succeeded';
-- Keeping: what is old goes, the oldest first.
create index run_ended on run (ended_at) where ended_at is not null;
-- A run that is let go lets go of those that took it up.
create index run_by_resumes on run (resumes) where resumes is not null;

create table run_table (
    run       integer not null references run (id),
    place     integer not null,
    progress  text not null,            -- JSON, core.runs.events.TableProgress
    primary key (run, place)
);

-- How fast a run went: [[seconds since it began, records read, bytes], …], as JSON.
create table run_pace (
    run      integer primary key references run (id) on delete cascade,
    samples  text not null
);

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

-- Every request of a run, kept for some days.
create table request (
    run             integer not null references run (id),
    number          integer not null,
    at              text not null,
    "table"         text not null,
    method          text not null,
    url             text not null,      -- masked
    status          integer,
    bytes           integer not null,
    seconds         real not null,
    waited_seconds  real not null,
    attempt         integer not null,
    problem         text not null,
    pause_seconds   real not null,
    pause_reason    text not null,
    primary key (run, number)
);
-- The purge goes by age.
create index request_by_time on request (at);
-- What went over the wire of a request: of those that went wrong, and of runs that were asked to keep it. It goes with the request.
create table request_body (
    run       integer not null,
    number    integer not null,
    exchange  text not null,            -- JSON, core.sources.requests_seen.Exchange
    primary key (run, number),
    foreign key (run, number) references request (run, number) on delete cascade
) without rowid;

-- A copy of each warehouse's _rb_ledger; the warehouse is the truth.
create table ledger (
    warehouse          text not null,
    load               integer not null,
    run                integer not null,
    feed               text not null,
    source             text not null,
    source_table       text not null,
    "table"            text not null,
    write              text not null,
    read               integer not null,
    staged             integer not null,
    inserted           integer not null,
    updated            integer not null,
    deleted            integer not null,
    unchanged          integer not null,
    superseded         integer not null,
    rejected           integer not null,
    removed            integer not null,
    repeated           integer not null,
    filtered           integer not null,
    cursor_from        text,
    cursor_to          text,
    source_bytes       integer not null,
    started            text not null,
    ended              text not null,
    reading_seconds    real not null,
    shaping_seconds    real not null,
    staging_seconds    real not null,
    committing_seconds real not null,
    primary key (warehouse, load)
);
create index ledger_by_feed on ledger (feed, load);
create index ledger_by_run on ledger (run);

-- One line per record and table of a feed and a warehouse, however often it was met.
create table reject (
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
    file         integer,               -- the number of the file that it stood in, as `_rb_file` of its warehouse knows it
    times        integer not null default 1,
    -- The run that gave it to its warehouse again: where its load is in the ledger, the reject is through, even if the worker was
    -- killed before it was forgotten.
    replayed_by  integer,
    unique (feed, warehouse, source_table, digest)
);
create index reject_by_time on reject (at);

-- The history of each feed's structure: what was met that was not expected.
create table drift (
    id           integer primary key,
    feed         text not null,
    warehouse    text not null,
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
create index drift_by_run on drift (run);

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

-- Counts that only grow, for monitoring: runs by outcome, rows by what became of them.
create table tally (
    feed   text not null,
    what   text not null,               -- 'run succeeded', 'rows inserted'
    count  integer not null,
    primary key (feed, what)
) without rowid;

-- Schedules

-- How far the schedule of each feed has been decided.
create table feed_clock (
    feed          text primary key,
    rule          text not null,        -- JSON of its schedule: another one begins from now
    decided_until text not null,        -- moments up to here, or windows that end there, are decided
    after_run     integer not null default 0,   -- the last run of the other feed that was followed
    waiting       text                  -- a moment that came while a run was going on, and waits for its end
);
create table feed_pause (
    feed      text primary key,
    paused_at text not null,
    paused_by text not null
);
-- Windows that are due, once each.
create table due_window (
    id      integer primary key,
    feed    text not null,
    backfill integer not null,          -- 0 of its schedule
    begins  text not null,
    ends    text not null,
    state   text not null,              -- waiting, queued, done, failed, skipped
    run     integer,
    due_at  text not null,
    unique (feed, backfill, begins, ends)
);
create index due_window_by_state on due_window (feed, state, begins);
create table backfill (
    id       integer primary key,
    feed     text not null,
    begins   text not null,
    ends     text not null,
    length   text not null,             -- of each of its windows: 1d, month
    state    text not null,             -- active, paused, done, cancelled
    asked_at text not null,
    asked_by text not null
);
create index backfill_by_feed on backfill (feed, id);

-- What somebody is to hear, once for each who hears it.
create table notification (
    id       integer primary key,
    at       text not null,
    event    text not null,             -- failed, recovered, succeeded, rejects, drift, late
    feed     text not null,
    source   text not null,
    run      integer,
    facts    text not null,             -- JSON: outcome, error, counts of the ledger
    channel  text not null,             -- email, webhook
    goes_to  text not null,             -- an address
    secret   text,                      -- the name of the one that signs it
    state    text not null,             -- waiting, sent, undeliverable
    tries    integer not null default 0,
    next_at  text not null,
    problem  text not null default '',
    sent_at  text
);
create index notification_waiting on notification (next_at) where state = 'waiting';
create index notification_by_time on notification (at);
-- How each feed stood when it was last spoken of.
create table feed_health (
    feed    text primary key,
    failing integer not null default 0,
    late    integer not null default 0
);

-- Sources

-- What everybody who asks a source shares (core.sources.pace.PaceState), as JSON.
create table pace (
    source   text primary key,
    state    text not null
);
create table pace_place (
    id       integer primary key,
    source   text not null,
    worker   integer not null,          -- process id: the places of a killed worker are free
    ends_at  real not null              -- in case the id was given to another program; seconds since 1970
);
create index pace_place_by_source on pace_place (source);
-- Workers that found all places taken, for a moment: others leave them their share.
create table pace_waiter (
    source   text not null,
    worker   integer not null,
    seen_at  real not null,
    primary key (source, worker)
);
-- The access token of a source, and who is fetching one just now.
create table access_token (
    source       text primary key,
    fingerprint  text not null,         -- of what it was given for: another client or secret needs another
    sealed       blob not null          -- Fernet token of JSON
);
create table token_errand (
    source   text primary key,
    worker   integer not null,
    ends_at  real not null
);
-- People on their way to sign in at a source; the verifier proves that it is them who come back (RFC 7636).
create table sign_in_errand (
    state    text primary key,          -- SHA-256, hex
    source   text not null,
    sealed   blob not null,
    ends_at  text not null
);

-- Who may ask

-- People who sign in, and what each may do: viewer, operator, editor, admin.
create table user (
    name        text primary key,
    role        text not null,
    password    text,                   -- scrypt, with its salt and costs; null until it is chosen
    subject     text,                   -- of those whom another service knows (OpenID Connect): issuer, a space, and `sub`
    created_at  text not null,
    disabled    integer not null default 0
);
create unique index user_by_subject on user (subject) where subject is not null;
-- Only hashes are kept: SHA-256, in hex. What somebody made may no more than its maker: a token of a user, or of another token; a link
-- and its session of a token.
create table token (
    hash        text primary key,
    label       text not null,
    role        text not null default 'admin',
    user        text references user (name) on delete cascade,
    parent      text references token (hash) on delete cascade,
    made_by     text not null default '',
    created_at  text not null,
    ends_at     text,
    used_at     text
);
-- Codes and sessions stand for somebody: a user, or (null) who holds this machine's token.
create table sign_in_code (
    hash        text primary key,
    user        text references user (name) on delete cascade,
    token       text references token (hash) on delete cascade,
    ends_at     text not null
);
create table console_session (
    hash        text primary key,
    user        text references user (name) on delete cascade,
    token       text references token (hash) on delete cascade,
    ends_at     text not null
);
-- Sign-ins at another service that were begun here: good once, and for a few minutes.
create table openid_sign_in (
    state       text primary key,       -- SHA-256, hex
    nonce       text not null,
    verifier    text not null,          -- of PKCE
    ends_at     text not null
);
-- Who changed what.
create table audit (
    id       integer primary key,
    at       text not null,
    who      text not null,
    what     text not null,             -- the operation
    "on"     text not null,
    status   integer not null,
    details  text not null default ''
);
create index audit_by_time on audit (at);
