-- What everybody who asks a source shares (core.sources.pace.PaceState), as JSON. What an older version kept ends with its runs.
drop table pace;
create table pace (
    source   text primary key,
    state    text not null
);
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
