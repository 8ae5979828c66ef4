-- +goose Up
-- What it takes to play a session again, and to let it go on in another process.
alter table sessions
    add column key      bytea,                       -- null for sessions that were opened before there were recordings
    add column options  json   not null default '{}', -- what it was opened with: settings, seed, paused
    add column engine   int    not null default 0,   -- the version of what its recording means
    add column wire     int    not null default 0,   -- the revision of the protocol
    add column holder   uuid,                        -- the service that runs it; only that one may write what follows
    add column bytes    bigint not null default 0;   -- of its recording, compressed

-- The calls of a session, in batches: compressed, from one after which tick to which. There is no foreign key, which would take a third of
-- the time of storing a batch: a session's row goes only once its recording is deleted.
create table call_batches (
    session     bigint not null,
    number      bigint not null,
    after_tick  bigint not null,
    last_tick   bigint not null,
    size        int    not null, -- of the calls before they were compressed
    at          timestamptz not null default clock_timestamp(),
    data        bytea  not null,
    primary key (session, number)
);
alter table call_batches alter column data set storage external;

-- A session as it was between two calls.
create table checkpoints (
    session     bigint not null references sessions (id) on delete cascade,
    tick        bigint not null,
    next_batch  bigint not null,
    format      bigint not null, -- how the program's types stood in memory
    at          timestamptz not null default clock_timestamp(),
    data        bytea  not null,
    primary key (session, tick)
);
alter table checkpoints alter column data set storage external;

-- Hashes of the tokens that take a seat again, oldest first. A seat that is left has none.
create table seat_tokens (
    session     bigint not null references sessions (id) on delete cascade,
    client      int    not null,
    hashes      bytea[] not null,
    primary key (session, client)
);

-- Ticks of which the calls were given up, since the database was away for too long.
create table recording_gaps (
    session     bigint not null references sessions (id) on delete cascade,
    after_tick  bigint not null,
    next_tick   bigint not null, -- of the checkpoint with which the recording goes on
    primary key (session, next_tick)
);

-- What players keep from session to session, by contract. Only the session with the lease may change it, and only with the lease's
-- number: a later one has a greater number.
create table kept (
    contract    text   not null references contracts (name),
    player      text   not null,
    values      jsonb  not null default '{}', -- by the properties' full names
    fence       bigint not null default 0,    -- the number of the newest lease
    session     bigint,                       -- that has it; null for none
    changed_at  timestamptz not null default now(),
    primary key (contract, player)
);

-- +goose Down
drop table kept, recording_gaps, seat_tokens, checkpoints, call_batches;
alter table sessions drop column key, drop column options, drop column engine, drop column wire, drop column holder, drop column bytes;
