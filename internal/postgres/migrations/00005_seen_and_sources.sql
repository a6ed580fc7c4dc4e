-- +goose Up

-- Hosts and pages of recorded traffic, summed up: what a new pattern would catch is looked up here.
create table seen (
    host     text collate "C" not null,
    path     text collate "C" not null,   -- canonical, without the query; '/' where only the host was seen
    requests bigint not null,
    last_on  date not null,
    primary key (host, path)
);

-- Where a list's entries come from, for lists that somebody else keeps.
create table list_sources (
    list_id     uuid primary key references lists on delete cascade,
    url         text not null,
    every_min   integer not null,            -- minutes between two pulls
    format      text not null,
    entry_field text not null default '',
    max_bytes   bigint not null,
    max_shrink  integer not null,            -- per cent of the entries that a pull may take away
    paused      boolean not null default false,
    etag        text not null default '',
    modified    text not null default '',    -- Last-Modified, as the source wrote it
    next_at     timestamptz not null default now(),
    tried_at    timestamptz,
    pulled_at   timestamptz,                 -- the last pull that went well, changed or not
    result      text not null default '',    -- changed, unchanged, refused or failed
    told        text not null default '',    -- what happened, one sentence
    bytes       bigint not null default 0,
    added       bigint not null default 0,
    removed     bigint not null default 0,
    refused     bigint not null default 0    -- lines
);

-- +goose Down
drop table seen, list_sources;
