-- +goose Up
-- What versions were put to: drills and audits, and what came of them.
create table trials (
    id           bigint generated always as identity primary key,
    contract     text not null,
    version      int  not null,
    what         text not null check (what in ('drills', 'audit')),
    asked        json not null,
    state        text not null check (state in ('waiting', 'running', 'ended', 'stopped', 'failed')),
    asked_at     timestamptz not null default now(),
    ended_at     timestamptz,
    passed       boolean,
    summary      text not null default '',
    report       json,
    foreign key (contract, version) references contract_versions (contract, version)
);
create index trials_of on trials (contract, version, id);

-- +goose Down
drop table trials;
