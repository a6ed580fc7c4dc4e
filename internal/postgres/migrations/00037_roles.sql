-- +goose Up
-- The roles that accounts have, and those that tokens are bound to; a token without has those of its account. Whoever could do something before still can.
alter table accounts add roles jsonb not null default '[]';
update accounts set roles = case when owner then '[{"role": "owner"}]'::jsonb else '[{"role": "editor"}, {"role": "publisher"}, {"role": "help desk"}, {"role": "auditor"}]'::jsonb end;
alter table accounts drop owner;
alter table tokens add roles jsonb;

-- +goose Down
alter table tokens drop roles;
alter table accounts add owner boolean not null default false;
update accounts set owner = roles @> '[{"role": "owner"}]';
alter table accounts drop roles;
