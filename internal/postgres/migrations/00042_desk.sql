-- +goose Up
-- Whom mail tells of new requests.
alter table practices add column desk_mail text[] not null default '{}';

-- +goose Down
alter table practices drop column desk_mail;
