-- +goose Up
-- Accounts whose password is not here: the organisation's identity provider says who somebody is (OpenID Connect Core 1.0, section 2: iss and sub).
alter table accounts add column issuer text, add column subject text,
    add column claimed text[] not null default '{}', -- the groups that the provider said at the last sign-in
    add column vouched_at timestamptz;               -- that sign-in
create unique index accounts_subject on accounts (issuer, subject);

-- What the provider's claims give: one line for each group that it names.
create table claims (
    value      text primary key check (value <> ''),
    roles      jsonb not null,
    updated_at timestamptz not null default now(),
    updated_by text not null
);

-- One-time links with which the first owner makes an account, by their hashes. They are gone as soon as there is an account.
create table first_owner_links (
    hash    bytea primary key,
    made_at timestamptz not null default now()
);

-- Second factors. A secret is sealed with the service's own; last_step is the last time step whose code was used (RFC 6238, section 5.2).
create table code_generators (
    account_id uuid primary key references accounts on delete cascade,
    secret     bytea not null,
    confirmed  boolean not null default false,
    last_step  bigint not null default 0
);
create table passkeys (
    id         bytea primary key,
    account_id uuid not null references accounts on delete cascade,
    name       text not null,
    made_at    timestamptz not null default now(),
    used_at    timestamptz,
    credential jsonb not null
);
create index passkeys_account on passkeys (account_id);

-- What may be used once, such as the challenge that a passkey signed, until it is too old anyway.
create table used_once (
    hash  bytea primary key,
    until timestamptz not null
);

-- +goose Down
drop table used_once, passkeys, code_generators, first_owner_links, claims;
delete from accounts where issuer is not null;
alter table accounts drop column issuer, drop column subject, drop column claimed, drop column vouched_at;
