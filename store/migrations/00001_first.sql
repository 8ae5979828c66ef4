-- +goose Up
create table contracts (
    name         text primary key,
    created_at   timestamptz not null default now()
);

create table contract_versions (
    contract     text not null references contracts (name),
    version      int  not null check (version > 0),
    source       text not null,
    fingerprint  text not null,
    outline      json not null,
    published_at timestamptz not null default now(),
    primary key (contract, version)
);

create table sessions (
    id           bigint generated always as identity primary key,
    contract     text not null,
    version      int  not null,
    opened_at    timestamptz not null default now(),
    closed_at    timestamptz,
    close_reason text,
    last_tick    bigint not null default 0,
    foreign key (contract, version) references contract_versions (contract, version)
);
create index sessions_open on sessions (id) where closed_at is null;

-- Who took part.
create table seats (
    session      bigint not null references sessions (id) on delete cascade,
    client       int  not null,
    name         text not null,
    role         text not null,
    joined_at    timestamptz not null,
    left_at      timestamptz,
    left_reason  text,
    primary key (session, client)
);

-- A row for each decided request. Arguments are what the client sent, which may be anything: json, since jsonb refuses some.
create table decisions (
    session      bigint not null references sessions (id) on delete cascade,
    id           bigint generated always as identity,
    tick         bigint not null,
    client       int    not null,
    name         text   not null,
    seq          numeric(20) not null,
    request      text   not null,
    entity       bigint not null,
    args         json   not null,
    outcome      text   not null,
    stage        text   not null,
    reason       text   not null,
    check_text   text   not null,
    line         int    not null,
    at           timestamptz not null,
    primary key (session, id)
);

-- +goose Down
drop table decisions, seats, sessions, contract_versions, contracts;
