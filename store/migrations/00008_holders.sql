-- +goose Up
-- The service that runs a trial: only when it does not live any more has the trial been left over.
alter table trials add column holder uuid;

-- +goose Down
alter table trials drop column holder;
