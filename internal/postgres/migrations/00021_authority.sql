-- +goose Up
-- Authorities of the gates. Keys are sealed with the service's secret, which the database does not hold.
create table authorities (
    id          uuid primary key,
    certificate bytea not null,
    sealed_key  bytea not null,
    from_at     timestamptz not null, -- from then on it is the one that signs
    made_at     timestamptz not null default now(),
    made_by     text not null
);

-- +goose Down
drop table authorities;
