-- What somebody is to hear, once for each who hears it.
create table notice (
    id       integer primary key,
    at       text not null,
    what     text not null,       -- failed, recovered, succeeded, rejects, drift, late
    feed     text not null,
    source   text not null,
    run      integer,
    facts    text not null,       -- JSON: outcome, error, counts of the ledger
    way      text not null,       -- mail, web
    goes_to  text not null,       -- an address
    secret   text,                -- the name of the one that signs it
    state    text not null,       -- waiting, sent, undeliverable
    tries    integer not null default 0,
    next_at  text not null,
    problem  text not null default '',
    sent_at  text
);
create index notice_waiting on notice (next_at) where state = 'waiting';
create index notice_by_time on notice (at);
-- How each feed stood when it was last spoken of.
create table feed_health (
    feed    text primary key,
    failing integer not null default 0,
    late    integer not null default 0
);
-- Counts that only grow, for monitoring: runs by outcome, rows by what became of them.
create table tally (
    feed   text not null,
    what   text not null,         -- 'run succeeded', 'rows inserted'
    count  integer not null,
    primary key (feed, what)
) without rowid;
