-- +goose Up

-- Owners edit the baseline. Whoever could do so before still can.
alter table accounts add owner boolean not null default false;
update accounts set owner = true;

-- +goose Down
alter table accounts drop owner;
