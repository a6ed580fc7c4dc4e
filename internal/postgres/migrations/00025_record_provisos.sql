-- +goose Up
-- What a request was bound to, what of it the gate could not hold, and the traits of the request. Records of before do not say.
alter table journal
    add column provisos text not null default '',
    add column not_held text not null default '',
    add column traits text[] not null default '{}';

-- +goose Down
alter table journal drop column provisos, drop column not_held, drop column traits;
