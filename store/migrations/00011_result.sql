-- +goose Up
-- What a session came to, as its contract says when it closes it: for who runs it, and for the game's backend.
alter table sessions add column result json;

-- +goose StatementBegin
create or replace function note_end() returns trigger language plpgsql as $$
begin
    if new.closed_at is not null and old.closed_at is null and exists (select from backend) then
        insert into backend_calls (event, session, payload) values ('end', new.id, jsonb_build_object(
            'reason', new.close_reason, 'tick', new.last_tick, 'result', new.result));
    end if;
    return null;
end $$;
-- +goose StatementEnd

-- +goose Down
alter table sessions drop column result;
