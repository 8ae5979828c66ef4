-- +goose Up
-- What the game's backend is told: one row a call, with its number, until the backend has answered.
create table backend_calls (
    number      bigint generated always as identity primary key,
    event       text not null check (event in ('join', 'leave', 'end')),
    session     bigint not null,
    payload     jsonb not null,
    at          timestamptz not null default clock_timestamp(),
    next_at     timestamptz not null default clock_timestamp(), -- when it is tried (again)
    tries       int not null default 0,
    error       text not null default '',                       -- of the last try
    answered_at timestamptz
);
create index backend_calls_waiting on backend_calls (next_at) where answered_at is null;
create index backend_calls_answered on backend_calls (answered_at) where answered_at is not null;

-- There is a backend: one row once a service has had one. Before that nothing is noted for it.
create table backend (is_there bool primary key default true check (is_there));

-- A call stands in the transaction that stores what it tells of, whoever does that: neither is there without the other.
-- +goose StatementBegin
create function note_seat() returns trigger language plpgsql as $$
begin
    -- An import tells nobody of who was in a session long ago.
    if not exists (select from backend) or current_setting('kamerad.quiet', true) = 'on' then return null; end if;
    if tg_op = 'INSERT' then
        insert into backend_calls (event, session, payload) values ('join', new.session, jsonb_build_object(
            'client', new.client, 'player', new.player, 'name', new.name, 'role', new.role));
    end if;
    if new.left_at is not null and (tg_op = 'INSERT' or old.left_at is null) then
        insert into backend_calls (event, session, payload) values ('leave', new.session, jsonb_build_object(
            'client', new.client, 'player', new.player, 'name', new.name, 'role', new.role, 'reason', new.left_reason));
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger note_seat after insert or update on seats for each row execute function note_seat();

-- +goose StatementBegin
create function note_end() returns trigger language plpgsql as $$
begin
    if new.closed_at is not null and old.closed_at is null and exists (select from backend) then
        insert into backend_calls (event, session, payload) values ('end', new.id, jsonb_build_object(
            'reason', new.close_reason, 'tick', new.last_tick));
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger note_end after update of closed_at on sessions for each row execute function note_end();

-- +goose Down
drop trigger note_end on sessions;
drop trigger note_seat on seats;
drop function note_end, note_seat;
drop table backend, backend_calls;
