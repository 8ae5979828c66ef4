-- +goose Up
-- Who a client is, when a ticket has proven it; null for who goes by the name.
alter table seats add column player text;

-- Numbers of tickets that were used, until the tickets have expired anyway.
create table used_tickets (
    key         text not null, -- that signed it
    number      text not null,
    expires_at  timestamptz not null,
    primary key (key, number)
);
create index used_tickets_expired on used_tickets (expires_at);

-- Players who may not join: by what they go by, of one contract or, with an empty name, of all.
create table bans (
    player      text not null,
    contract    text not null default '',
    reason      text not null default '',
    banned_by   text not null,
    banned_at   timestamptz not null default now(),
    until       timestamptz, -- null for good
    primary key (player, contract)
);

-- Tokens of those who operate the service. Only their hashes are here.
create table tokens (
    id          bigint generated always as identity primary key,
    name        text not null,
    access      text not null check (access in ('look', 'play', 'run')),
    hash        bytea not null unique,
    made_by     text not null,
    made_at     timestamptz not null default now(),
    expires_at  timestamptz, -- null for never
    used_at     timestamptz, -- last, to the minute
    revoked_at  timestamptz
);

-- Browsers that somebody has signed in with a token: hashes of what their cookies hold.
create table sign_ins (
    hash        bytea primary key,
    token       bigint not null references tokens (id) on delete cascade,
    expires_at  timestamptz not null
);
create index sign_ins_expired on sign_ins (expires_at);

-- What operators have done, to sessions and beyond.
create table acts (
    id          bigint generated always as identity primary key,
    session     bigint references sessions (id) on delete cascade, -- null for what is about none
    at          timestamptz not null default now(),
    operator    text not null, -- the token's name
    act         text not null
);
create index acts_of on acts (session, id);
create index acts_at on acts (at);

-- +goose Down
drop table acts, sign_ins, tokens, bans, used_tickets;
alter table seats drop column player;
