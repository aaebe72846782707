-- Who may ask: only hashes are kept.
create table token (
    hash        text primary key,       -- SHA-256, hex
    label       text not null,
    created_at  text not null
);
create table sign_in_code (
    hash        text primary key,
    ends_at     text not null
);
create table console_session (
    hash        text primary key,
    ends_at     text not null
);
