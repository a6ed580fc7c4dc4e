-- +goose Up
-- Records by columns: a row has those of an hour, or of a part of it. The service moves the rows of before there.
alter table journal rename to journal_rows;
drop function journal_day(text, date);

create sequence journal_part_ids;
create sequence journal_positions;
create table journal_parts (
    amount      text not null,
    day         date not null,               -- in UTC, as all records of a part are of one hour
    part        bigint not null default nextval('journal_part_ids'),
    position    bigint not null,             -- of the batch that came last: positions grow in the order in which batches can be seen
    n           integer not null,
    first_at    timestamptz not null,
    last_at     timestamptz not null,
    head        bytea not null,              -- see the package segment
    keys        bytea not null,
    texts       bytea not null,
    ids         bytea not null,
    replaced_at timestamptz,                 -- when its records went into another part; searches that began before may still read it
    primary key (amount, day, part)
) partition by list (amount);
create table journal_parts_everything partition of journal_parts for values in ('everything') partition by range (day);
create table journal_parts_group partition of journal_parts for values in ('group') partition by range (day);
create index journal_parts_last on journal_parts (last_at) where replaced_at is null;

-- The days of the batches of the last day, so that what came after a position is found there.
create table journal_arrivals (
    position bigint not null,
    amount   text not null,
    day      date not null,
    at       timestamptz not null default now(),
    primary key (position, amount, day)
);

-- Requests that are under way are few, and are replaced when they end.
create table journal_under_way (
    request uuid primary key,
    at      timestamptz not null,
    record  bytea not null
);

-- +goose StatementBegin
-- Attaching a table that stands by itself lets others read and write meanwhile.
create function journal_day(kept text, day date) returns void language plpgsql as $$
declare
    name text := 'journal_parts_' || kept || '_' || to_char(day, 'YYYYMMDD');
begin
    perform pg_advisory_xact_lock(hashtext('journal_day'));
    if to_regclass(name) is null then
        execute format('create table %I (like journal_parts including defaults including constraints)', name);
        execute format('alter table %I alter head set storage external, alter keys set storage external, alter texts set storage external, alter ids set storage external', name);
        execute format('alter table %I attach partition %I for values from (%L) to (%L)', 'journal_parts_' || kept, name, day, day + 1);
    end if;
end $$;
-- +goose StatementEnd

-- +goose Down
-- The rows of before are gone.
select 1 / 0;
