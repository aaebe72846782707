-- Definitions: who applied them, as what text; a version may say that the definition was taken away.
alter table definition add column text text not null default '';
alter table definition add column line integer not null default 1;
alter table definition add column applied_by text not null default '';
alter table definition add column removed integer not null default 0;

-- Why a run is there, and what it takes.
alter table run add column cause text not null default 'asked';   -- asked, schedule, window, after, backfill
alter table run add column asked_by text not null default '';
alter table run add column due_at text;                           -- when it should have begun
alter table run add column not_before text;                       -- it waits until then
alter table run add column attempt integer not null default 1;
alter table run add column window_from text;
alter table run add column window_until text;
alter table run add column lane text not null default '';
alter table run add column sets text;                             -- JSON, in place of parameters and settings
alter table run add column settled integer not null default 1;    -- what follows from its end has been done: retry, window, notices
create index run_unsettled on run (id) where settled = 0 and ended_at is not null;
create index run_queued on run (id) where outcome = 'queued';
create index run_running on run (id) where outcome = 'running';
create index run_succeeded on run (feed, id) where outcome = 'succeeded';
-- A window of a feed is taken once.
create unique index run_window on run (feed, lane, window_from, window_until)
    where window_from is not null and outcome in ('queued', 'running', 'succeeded');
-- Keeping: what is old goes, the oldest first.
create index run_ended on run (ended_at) where ended_at is not null;

-- How far the schedule of each feed has been decided.
create table feed_clock (
    feed          text primary key,
    rule          text not null,          -- JSON of its schedule: another one begins from now
    decided_until text not null,          -- moments up to here, or windows that end there, are decided
    after_run     integer not null default 0,  -- the last run of the other feed that was followed
    waiting       text                    -- a moment that came while a run was going on, and waits for its end
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
    lane    text not null,                -- '' of its schedule, 'backfill 3'
    begins  text not null,
    ends    text not null,
    state   text not null,                -- waiting, queued, done, failed, skipped
    run     integer,
    due_at  text not null,
    unique (feed, lane, begins, ends)
);
create index due_window_by_state on due_window (feed, state, begins);
create table backfill (
    id       integer primary key,
    feed     text not null,
    begins   text not null,
    ends     text not null,
    step     text not null,
    state    text not null,               -- active, paused, done, cancelled
    asked_at text not null,
    asked_by text not null
);
create index backfill_by_feed on backfill (feed, id);
create index drift_by_run on drift (run);
-- A run that is let go lets go of those that took it up.
create index run_by_resumes on run (resumes) where resumes is not null;
create index reject_by_time on reject (at);
