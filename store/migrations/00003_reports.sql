-- +goose Up
-- What was computed of a version when it was published: findings, access matrix, cost and outline.
alter table contract_versions add column report json;
