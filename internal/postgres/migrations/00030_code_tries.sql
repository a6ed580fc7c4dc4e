-- +goose Up
-- Tries to enter a code that were not right, by who made them, so that all services count them together.
create table code_tries (
    who text not null,
    at  timestamptz not null
);
create index code_tries_who on code_tries (who, at);

-- +goose Down
drop table code_tries;
