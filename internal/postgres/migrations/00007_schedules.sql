-- +goose Up

create table schedules (
    id          uuid primary key default gen_random_uuid(),
    name        text not null,
    description text not null,
    zone        text not null,   -- an IANA time zone
    text        text not null,   -- in the notation of schedules, as it is written when it is printed
    version     bigint not null,
    updated_at  timestamptz not null default now(),
    updated_by  text not null
);
create unique index schedules_name on schedules (lower(name));

-- +goose Down
drop table schedules;
