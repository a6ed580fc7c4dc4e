-- +goose Up
-- Who is at which address. A new presence at an address ends the one before it.
create table presences (
    id       uuid primary key default gen_random_uuid(),
    person   uuid not null,
    address  inet not null,
    from_at  timestamptz not null default now(),
    until    timestamptz not null,
    made_by  text not null,
    how      text not null default ''
);
create index presences_address on presences (address, until);
create index presences_until on presences (until);

-- +goose Down
drop table presences;
