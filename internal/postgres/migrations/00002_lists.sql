-- +goose Up

-- One row: the draft. Its version rises by one with every edit of anything in it.
create table draft (
    one     boolean primary key default true check (one),
    version bigint not null
);
insert into draft (version) values (1);

create table lists (
    id            uuid primary key default gen_random_uuid(),
    name          text not null check (name <> ''),
    description   text not null default '',
    version       bigint not null,              -- the draft's version at the last edit of the list or its entries
    entry_count   bigint not null default 0,    -- kept by the edits, so that nobody has to count a million rows
    note_count    bigint not null default 0,
    next_position bigint not null default 1,
    created_at    timestamptz not null default now(),
    updated_at    timestamptz not null default now(),
    updated_by    text not null
);
create unique index lists_name on lists (lower(name));

create table entries (
    id        bigint generated always as identity primary key,
    list_id   uuid not null references lists on delete cascade,
    position  bigint not null,
    kind      text not null,
    key       text collate "C",                 -- what makes the entry the same as another; null for a note alone
    pattern   text not null,                    -- as typed; '' for a note alone
    carve_out boolean not null,
    until     date,
    off       boolean not null,
    note      text not null,
    added_at  timestamptz not null default now(),
    added_by  text not null,
    constraint entries_position unique (list_id, position),
    constraint entries_key unique (list_id, key)
);
-- Notes are looked for by their text when a file is imported again; they are few, but their list may be long.
create index entries_notes on entries (list_id) where key is null;

-- +goose Down
drop table entries, lists, draft;
