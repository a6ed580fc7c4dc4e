-- +goose Up
-- Directories: people and groups that others keep. What a directory says in its state in force stands among the objects as of version 0, so that it holds in every version of the draft alike;
-- what has left it is of version 0 until version 0, so that it holds in none, and keeps its name for records of before.
create table directories (
    id         uuid primary key default gen_random_uuid(),
    name       text not null check (name <> ''),
    kind       text not null,
    url        text not null default '',
    base       text not null default '',
    bind       text not null default '',
    password   bytea,                        -- sealed
    name_field text not null default '',
    key_field  text not null default '',
    every_min  integer not null,
    paused     boolean not null default false,
    max_shrink integer not null,
    hold       boolean not null default false,
    token_hash bytea,                        -- of what a program sends people with; null where none may

    next_at    timestamptz not null default now(),
    tried_at   timestamptz,
    synced_at  timestamptz,
    result     text not null default '',
    told       text not null default '',
    left_out   text[] not null default '{}', -- what of the last reading could not be used
    shadowed   text[] not null default '{}', -- what of the state in force does not hold, because the name is somebody else's

    before     bigint not null default 0,
    in_force   bigint not null default 0,
    held       bigint not null default 0,
    held_why   text[] not null default '{}',
    latest     bigint not null default 0
);
create unique index directories_name on directories (lower(name));
create unique index directories_token on directories (token_hash) where token_hash is not null;

create table directory_states (
    directory_id uuid not null references directories on delete cascade,
    number       bigint not null,
    people       integer not null,
    groups       integer not null,
    came         integer not null,
    changed      integer not null,
    went         integer not null,
    arrived_at   timestamptz not null default now(),
    by           text not null,
    primary key (directory_id, number)
);

create table directory_events (
    id           bigint generated always as identity primary key,
    directory_id uuid not null references directories on delete cascade,
    at           timestamptz not null default now(),
    by           text not null,
    what         text not null,
    number       bigint not null
);

-- What each state says. A row holds from the state since until the state gone, which is not among them.
create table directory_objects (
    directory_id uuid not null references directories on delete cascade,
    object       uuid not null,
    since        bigint not null,
    gone         bigint,
    kind         text not null,
    name         text not null,
    body         jsonb not null,
    primary key (directory_id, object, since)
);
create index directory_objects_gone on directory_objects (directory_id, gone);

-- People of directories who were edited in the draft before, and are who they were then.
create table directory_adopted (
    directory_id uuid not null references directories on delete cascade,
    object       uuid not null, -- as it would be by its key
    person       uuid not null,
    primary key (directory_id, object)
);

-- What programs have sent by SCIM, as they sent it.
create table directory_resources (
    directory_id uuid not null references directories on delete cascade,
    id           uuid not null,
    kind         text not null,
    body         jsonb not null,
    made_at      timestamptz not null default now(),
    edited_at    timestamptz not null default now(),
    primary key (directory_id, id)
);

create unique index directory_resources_name on directory_resources (directory_id, lower(body->>'userName')) where kind = 'User';

alter table objects add directory uuid;
create index objects_directory on objects (directory) where directory is not null;
alter table draft add directories bigint not null default 0; -- rises whenever what directories say is otherwise
alter table editions add directories bigint not null default 0;

-- +goose Down
alter table editions drop column directories;
alter table draft drop column directories;
delete from object_refs where object in (select id from objects where directory is not null);
delete from objects where directory is not null;
alter table objects drop column directory;
drop table directory_resources, directory_adopted, directory_objects, directory_events, directory_states, directories;
