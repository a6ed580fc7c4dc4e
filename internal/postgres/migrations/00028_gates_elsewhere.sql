-- +goose Up
-- Gates on other machines.
create table enrolled_gates (
    id          uuid primary key default gen_random_uuid(),
    name        text not null,
    kind        text not null,
    key         bytea not null,        -- with which it signs its requests
    seal_key    bytea not null,        -- for which secrets are sealed
    enrolled_at timestamptz not null default now(),
    enrolled_by text not null,
    retired_at  timestamptz
);
create unique index enrolled_gates_name on enrolled_gates (lower(name)) where retired_at is null;

-- Codes with which they enrol.
create table enrolments (
    hash    bytea primary key,
    name    text not null,
    kind    text not null,
    until   timestamptz not null,
    made_at timestamptz not null default now(),
    made_by text not null
);

-- The key that signs what gates elsewhere run.
create table signing_key (
    one     boolean primary key default true check (one),
    public  bytea not null,
    sealed  bytea not null,
    made_at timestamptz not null default now()
);

-- What gates elsewhere run: the last few editions, and their parts.
create table editions (
    number    bigint primary key,
    revision  bigint not null,
    catalogue bigint not null,
    zone      text not null,
    manifest  bytea not null,
    signature bytea not null,
    made_at   timestamptz not null default now()
);
create table edition_parts (
    digest bytea primary key,
    packed bytea not null
);
alter table edition_parts alter column packed set storage external;

-- What gates elsewhere report besides.
alter table gates
    add column elsewhere boolean not null default false,
    add column edition bigint not null default 0,
    add column digest text not null default '',
    add column clock_ms bigint not null default 0,
    add column catalogue bigint not null default 0,
    add column trouble text not null default '';

-- +goose Down
alter table gates drop column elsewhere, drop column edition, drop column digest, drop column clock_ms, drop column catalogue, drop column trouble;
drop table edition_parts, editions, signing_key, enrolments, enrolled_gates;
