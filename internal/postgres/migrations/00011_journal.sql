-- +goose Up

-- Requests that were decided, to be decided again under other rules.
create table journal (
    id      bigint generated always as identity primary key,
    at      timestamptz not null,
    person  uuid,                    -- null where nobody is known
    address inet,
    method  text not null,
    url     text not null,
    gate    text not null,
    verdict text not null
);
create index journal_at on journal using brin (at) with (pages_per_range = 32, autosummarize = on);

-- +goose Down
drop table journal;
