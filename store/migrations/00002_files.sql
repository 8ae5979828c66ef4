-- +goose Up
-- What a contract includes and the tables that it takes: file names and their texts.
alter table contract_versions add column files jsonb not null default '{}';
