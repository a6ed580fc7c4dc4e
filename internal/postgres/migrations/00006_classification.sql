-- +goose Up

-- What is in force of the catalogue: rises with every change, so that every service notices.
create table catalogue (version bigint not null);
insert into catalogue values (1);

-- Public keys that packs may be signed with.
create table pack_keys (
    key      text primary key,
    name     text not null,
    added_at timestamptz not null default now(),
    added_by text not null
);

create table packs (
    id         uuid primary key default gen_random_uuid(),
    key        text not null default '',         -- what the pack calls itself for good; '' before the first file
    name       text not null,
    rank       integer not null,                 -- the least is asked first
    url        text not null default '',         -- '' for one that is imported by hand
    every_min  integer not null,
    paused     boolean not null default false,
    max_bytes  bigint not null,
    max_shrink integer not null,                 -- per cent of the sites that an update may take away
    hold       boolean not null default false,   -- updates wait until somebody accepts them
    etag       text not null default '',
    next_at    timestamptz not null default now(),
    tried_at   timestamptz,
    pulled_at  timestamptz,
    result     text not null default '',
    told       text not null default '',
    bytes      bigint not null default 0,
    latest     bigint not null default 0,        -- states are numbered from 1
    in_force   bigint not null default 0,        -- the state that counts; 0 for none
    before     bigint not null default 0,        -- the state that counted before it; 0 where there is nothing to go back to
    held       bigint not null default 0         -- the state that waits; 0 for none
);
create unique index packs_key on packs (key) where key <> '';
create unique index packs_name on packs (lower(name));

-- Every state that a pack came to.
create table pack_states (
    pack_id    uuid not null references packs on delete cascade,
    number     bigint not null,
    version    bigint not null,                  -- as the pack says
    date       timestamptz not null,
    licence    text not null,
    signer     text not null,
    taxonomy   bytea not null,                   -- as in the pack
    sites      bigint not null,
    added      bigint not null,
    moved      bigint not null,
    gone       bigint not null,
    arrived_at timestamptz not null default now(),
    by         text not null,
    primary key (pack_id, number)
);

-- What was in force when, and who saw to it. Nothing is ever taken out.
create table pack_events (
    id      bigint generated always as identity primary key,
    pack_id uuid not null references packs on delete cascade,
    at      timestamptz not null default now(),
    by      text not null,
    what    text not null,                       -- one word: see catalogue.Event
    number  bigint not null
);
create index pack_events_pack on pack_events (pack_id, id);

-- Sets of categories that sites of a pack have, as keys with blanks between them.
create table pack_sets (
    pack_id    uuid not null references packs on delete cascade,
    id         integer not null,
    categories text not null,
    primary key (pack_id, id),
    unique (pack_id, categories)
);

-- Sites are never changed or deleted: a row says what held from one state of its pack until another. Each pack has a part of the
-- table to itself, made with its first file.
create table pack_sites (
    pack_id uuid not null,
    id      bigint not null,
    since   bigint not null,
    gone    bigint,
    plain   boolean not null,                    -- the entry is the name of a site and nothing else
    entry   text collate "C" not null,
    set     integer not null
) partition by list (pack_id);
create sequence pack_site_ids;

-- What is said here. It is part of the draft; classified is the draft's version when any of it changed last.
alter table draft add column classified bigint not null default 0;

create table corrections (
    id         bigint generated always as identity primary key,
    entry      text not null,
    key        text collate "C" not null,
    categories text[] not null,
    reason     text not null,
    at         timestamptz not null default now(),
    by         text not null,
    version    bigint not null
);
create unique index corrections_key on corrections (key);

create table own_categories (
    id          uuid primary key default gen_random_uuid(),
    key         text not null,
    name        text not null,
    description text not null,
    family      text not null,                   -- a family of the catalogue; '' for none
    adds        boolean not null,
    version     bigint not null,
    updated_at  timestamptz not null default now(),
    updated_by  text not null
);
create unique index own_categories_key on own_categories (key);
create table own_category_lists (
    category_id uuid not null references own_categories on delete cascade,
    position    integer not null,
    list_id     uuid not null references lists,
    primary key (category_id, position)
);
create index own_category_lists_list on own_category_lists (list_id);

create table scorecards (
    id          uuid primary key default gen_random_uuid(),
    name        text not null,
    description text not null,
    category    text not null,
    threshold   integer not null,
    terms       jsonb not null,                  -- [{"word": "…", "points": 1}]
    off         boolean not null,
    version     bigint not null,
    updated_at  timestamptz not null default now(),
    updated_by  text not null
);
create unique index scorecards_name on scorecards (lower(name));

-- +goose Down
drop table catalogue, pack_keys, pack_sites, pack_sets, pack_events, pack_states, packs, corrections, own_category_lists, own_categories, scorecards;
drop sequence pack_site_ids;
alter table draft drop column classified;
