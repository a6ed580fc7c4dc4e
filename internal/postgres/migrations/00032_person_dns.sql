-- +goose Up
-- Tokens by which people are known at the DNS gate over HTTPS; only their hashes.
create table person_dns (
    person uuid primary key,
    hash   bytea not null unique,
    set_at timestamptz not null default now(),
    set_by text not null
);

-- +goose Down
drop table person_dns;
