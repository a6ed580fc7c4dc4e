-- +goose Up
-- The minutes in which somebody used what a rule allows for so many minutes a day.
create table minutes_used (
    rule    uuid not null,
    person  uuid,
    address inet,              -- where the person is not known
    day     integer not null,  -- since 1970 began, in UTC
    minutes bigint[] not null, -- since 1970 began, in order
    unique nulls not distinct (rule, person, address, day)
);
create index minutes_used_day on minutes_used (day);
-- They change every minute, and all other facts seldom: they have a version of their own.
alter table facts add column used bigint not null default 1;

-- +goose Down
alter table facts drop column used;
drop table minutes_used;
