-- +goose Up
-- Lists that leads may choose.
alter table lists add column for_stints boolean not null default false;
-- What is not marked has the same state as before there was a mark, so that no list differs from what is live because of this migration.
-- +goose StatementBegin
create or replace function state_of(one jsonb) returns jsonb language sql immutable as $$
    select one - array['version', 'updated_at', 'updated_by', 'entry_count', 'note_count'] - case when one->>'for_stints' = 'false' then 'for_stints' else '' end
$$;
-- +goose StatementEnd

-- Groups that are put on chosen lists for a while.
create table stints (
    id       uuid primary key default gen_random_uuid(),
    grp      uuid not null,
    body     jsonb not null,
    from_at  timestamptz not null default now(),
    until    timestamptz not null,
    by       text not null,             -- whose it is now
    done     uuid[] not null default '{}', -- people for whom it is over
    ended_at timestamptz,
    ended_by text not null default ''
);
create index stints_until on stints (until);

-- Lists of a group's leads, which stints of that group alone name.
create table group_lists (
    id         uuid primary key default gen_random_uuid(),
    grp        uuid not null,
    name       text not null,
    entries    jsonb not null,
    updated_at timestamptz not null default now(),
    updated_by text not null
);
create unique index group_lists_name on group_lists (grp, lower(name));

-- +goose Down
drop table group_lists, stints;
-- +goose StatementBegin
create or replace function state_of(one jsonb) returns jsonb language sql immutable as $$
    select one - array['version', 'updated_at', 'updated_by', 'entry_count', 'note_count']
$$;
-- +goose StatementEnd
alter table lists drop column for_stints;
