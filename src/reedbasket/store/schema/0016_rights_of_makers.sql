-- What somebody made may no more than its maker: a token of a user, or of another token; a link and its session of a token.
alter table token add column user text references user (name) on delete cascade;
alter table token add column parent text references token (hash) on delete cascade;
alter table sign_in_code add column token text references token (hash) on delete cascade;
alter table console_session add column token text references token (hash) on delete cascade;
-- People whom another service knows (OpenID Connect), by its name for them.
alter table user add column subject text;           -- issuer, a space, and `sub`
create unique index user_by_subject on user (subject) where subject is not null;
-- Sign-ins there that were begun here: good once, and for a few minutes.
create table openid_sign_in (
    state       text primary key,       -- SHA-256, hex
    nonce       text not null,
    verifier    text not null,          -- of PKCE
    ends_at     text not null
);
