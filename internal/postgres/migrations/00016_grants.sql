-- +goose Up
-- What holds without being published. The version changes with every fact that comes, ends or goes.
create table facts (
    one     boolean primary key default true check (one),
    version bigint not null
);
insert into facts (version) values (1);

create table grants (
    id       uuid primary key default gen_random_uuid(),
    body     jsonb not null,
    made_at  timestamptz not null default now(),
    made_by  text not null,
    until    timestamptz not null,
    ended_at timestamptz,
    ended_by text not null default '',
    kept     uuid
);
create index grants_until on grants (until);

-- +goose Down
drop table grants, facts;
