-- +goose Up
-- What a gate saw of a request. Records of before do not say.
alter table journal add column sight text not null default '';

-- +goose Down
alter table journal drop column sight;
