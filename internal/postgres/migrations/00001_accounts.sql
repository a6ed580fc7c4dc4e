-- +goose Up
create table accounts (
    id            uuid primary key default gen_random_uuid(),
    name          text not null check (name <> ''),
    full_name     text not null default '',
    password_hash text not null,
    created_at    timestamptz not null default now()
);
create unique index accounts_name on accounts (lower(name));

create table tokens (
    id           uuid primary key default gen_random_uuid(),
    account_id   uuid not null references accounts on delete cascade,
    name         text not null,
    hash         bytea not null constraint tokens_hash unique, -- SHA-256 of the token
    created_at   timestamptz not null default now(),
    last_used_at timestamptz
);

-- The session library's table; its shape is fixed there.
create table sessions (
    token  text primary key,
    data   bytea not null,
    expiry timestamptz not null
);
create index sessions_expiry on sessions (expiry);

-- +goose Down
drop table sessions, tokens, accounts;
