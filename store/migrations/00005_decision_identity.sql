-- +goose Up
-- A decision's number is its place among the records of its session, and comes with it: a batch whose answer was lost is written again,
-- and must not stand twice.
alter table decisions alter column id drop identity;

-- +goose Down
alter table decisions alter column id add generated always as identity;
