-- +goose Up
-- Passwords with which people of the directory sign in at gates; argon2id hashes.
create table person_passwords (
    person uuid primary key,
    hash   text not null,
    set_at timestamptz not null default now(),
    set_by text not null
);

-- +goose Down
drop table person_passwords;
