-- +goose Up
-- Codes that open held pages. Only their hashes are kept.
create table codes (
    id       uuid primary key default gen_random_uuid(),
    hash     bytea not null unique,
    body     jsonb not null,       -- what it opens, for how long and how often
    uses     integer not null,
    used     integer not null default 0,
    until    timestamptz not null, -- it can be entered
    made_at  timestamptz not null default now(),
    made_by  text not null,
    ended_at timestamptz
);

-- Who has come past a hold, by acknowledging it or with a code.
create table passages (
    id        uuid primary key default gen_random_uuid(),
    rule      uuid,                -- that was acknowledged
    code      uuid references codes,
    person    uuid,
    address   inet,
    entries   jsonb not null,
    from_at   timestamptz not null default now(),
    until     timestamptz not null,
    reference text not null,
    check ((rule is null) <> (code is null)),
    check (person is not null or address is not null)
);
create index passages_until on passages (until);

-- +goose Down
drop table passages;
drop table codes;
