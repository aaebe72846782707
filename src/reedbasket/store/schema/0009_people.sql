-- People who sign in with a password, and what each may do: viewer, operator, editor, admin.
create table user (
    name        text primary key,
    role        text not null,
    password    text,                   -- scrypt, with its salt and costs; null until it is chosen
    created_at  text not null,
    disabled    integer not null default 0
);
alter table token add column role text not null default 'admin';
alter table token add column made_by text not null default '';
alter table token add column ends_at text;
alter table token add column used_at text;
-- Codes and sessions stand for somebody: a user, or (null) who holds this machine's token.
alter table sign_in_code add column user text references user (name) on delete cascade;
alter table console_session add column user text references user (name) on delete cascade;
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
