-- +goose Up
-- Codes may open whole categories.
alter table passages add column categories text[] not null default '{}';

-- +goose Down
alter table passages drop column categories;
