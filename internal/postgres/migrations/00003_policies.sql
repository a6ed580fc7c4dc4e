-- +goose Up
create table groups (
    id          uuid primary key default gen_random_uuid(),
    name        text not null check (name <> ''),
    description text not null default '',
    version     bigint not null,
    updated_at  timestamptz not null default now(),
    updated_by  text not null
);
create unique index groups_name on groups (lower(name));

create table policies (
    id          uuid primary key default gen_random_uuid(),
    name        text not null check (name <> ''),
    description text not null default '',
    group_id    uuid not null references groups,
    position    int not null,
    otherwise   text not null check (otherwise in ('allow', 'block')),
    version     bigint not null,
    updated_at  timestamptz not null default now(),
    updated_by  text not null
);
create unique index policies_name on policies (lower(name));

create table rules (
    policy_id uuid not null references policies on delete cascade,
    position  int not null,
    name      text not null check (name <> ''),
    verdict   text not null check (verdict in ('allow', 'block')),
    primary key (policy_id, position)
);

create table rule_lists (
    policy_id uuid not null,
    rule      int not null,
    position  int not null,
    list_id   uuid not null constraint rule_lists_list references lists,
    primary key (policy_id, rule, position),
    foreign key (policy_id, rule) references rules on delete cascade
);
create index rule_lists_list on rule_lists (list_id);

-- A new service has one policy for one group, without rules: everything is allowed until somebody decides otherwise.
with everyone as (
    insert into groups (name, description, version, updated_by)
    values ('Everyone', 'All who ask.', 1, 'setup') returning id
)
insert into policies (name, group_id, position, otherwise, version, updated_by)
select 'House policy', id, 1, 'allow', 1, 'setup' from everyone;

-- +goose Down
drop table rule_lists, rules, policies, groups;
