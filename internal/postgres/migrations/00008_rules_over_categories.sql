-- +goose Up

-- Keys of categories and families; a rule matches what is in any of its lists or has any of these.
alter table rules add column categories text[] not null default '{}';

-- +goose Down
alter table rules drop column categories;
