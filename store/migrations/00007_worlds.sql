-- +goose Up
-- What worlds keep of shared kinds stands beside what players keep, under their names.
alter table kept
    add column is_world bool not null default false,
    drop constraint kept_pkey,
    add primary key (contract, player, is_world);

-- +goose Down
delete from kept where is_world;
alter table kept drop constraint kept_pkey, drop column is_world, add primary key (contract, player);
