-- +goose Up
-- How often rules, lists, entries, exceptions, categories and scorecards were used, by day. It outlives the records.
create table usage (
    kind     text not null,
    object   text not null,               -- an id, or the key of a category
    entry    text collate "C" not null,   -- of a list; '' for others
    day      date not null,               -- in UTC
    amount   text not null,
    requests bigint not null,
    stopped  bigint not null,             -- of them: held or blocked
    last_at  timestamptz not null,
    primary key (kind, object, entry, day, amount)
);
create index usage_day on usage (day, amount);

-- What is counted of a day: all that had arrived up to a position.
create table usage_days (
    day      date not null,
    amount   text not null,
    position bigint not null,
    n        bigint not null,
    at       timestamptz not null default now(),
    primary key (day, amount)
);

-- +goose Down
drop table usage, usage_days;
