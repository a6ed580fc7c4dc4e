-- +goose Up
-- Searches that are kept, reports that are sent, alerts, and where records are sent on.
create table watch_items (
    id         uuid primary key default gen_random_uuid(),
    kind       text not null,
    name       text not null,
    owner      text not null,
    shared     boolean not null default false,
    body       jsonb not null,
    version    bigint not null default 1,
    updated_at timestamptz not null default now(),
    updated_by text not null,
    next_at    timestamptz                   -- when it is due
);
create unique index watch_items_name on watch_items (kind, lower(name)) where kind <> 'search' or shared;
create unique index watch_items_own on watch_items (owner, lower(name)) where kind = 'search' and not shared;
create index watch_items_due on watch_items (next_at) where next_at is not null;

-- What an alert found, from when to when. One that goes on has no end.
create table incidents (
    id              uuid primary key default gen_random_uuid(),
    item            uuid not null,
    name            text not null,           -- of the alert, as it was then
    subject         text not null,           -- what it is about: a person, a gate; '' for all together
    said            text not null,           -- what was found, a sentence
    query           text not null default '', -- that finds the records
    most            bigint not null default 0, -- the largest number that was counted
    since           timestamptz not null,
    last_at         timestamptz not null,    -- when it was found last
    over_at         timestamptz,
    told_at         timestamptz,             -- when somebody was told last
    acknowledged_at timestamptz,
    acknowledged_by text not null default '',
    reason          text not null default ''
);
create unique index incidents_going_on on incidents (item, subject) where over_at is null;
create index incidents_since on incidents (since);

-- What is to be delivered, and what was.
create table outbox (
    id       uuid primary key,
    key      text not null unique,
    how      text not null,
    "to"     text not null,
    about    uuid,
    subject  text not null,
    message  bytea not null,
    made_at  timestamptz not null default now(),
    tries    integer not null default 0,
    next_at  timestamptz default now(),      -- null: delivered, or given up
    done_at  timestamptz,
    problem  text not null default ''
);
create index outbox_due on outbox (next_at) where next_at is not null;
create index outbox_about on outbox (about, made_at);

-- How far records were sent on.
create table forwarded (
    item     uuid primary key references watch_items on delete cascade,
    position bigint not null,
    sent     bigint not null default 0,      -- records
    at       timestamptz,
    problem  text not null default ''
);

-- +goose Down
drop table forwarded, outbox, incidents, watch_items;
