-- +goose Up
-- The zones that DNS gates hand out to other resolvers, and who took them.
alter table gates add column zones jsonb not null default '[]';

-- +goose Down
alter table gates drop column zones;
