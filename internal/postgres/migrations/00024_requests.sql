-- +goose Up
-- Pleas of people who were refused a page, and their answers.
create table requests (
    id          uuid primary key default gen_random_uuid(),
    person      uuid,                    -- null where nobody is known
    address     inet,
    url         text not null,
    verdict     text not null,           -- that it got
    by          text not null,           -- what decided
    reason      text not null,
    reference   text not null unique,
    made_at     timestamptz not null default now(),
    state       text not null default 'open' check (state in ('open', 'granted', 'refused')),
    answered_at timestamptz,
    answered_by text not null default '',
    answer      text not null default '',
    grant_id    uuid
);
create index requests_open on requests (made_at) where state = 'open';

-- +goose Down
drop table requests;
