-- +goose Up
-- Records live in parts of a day each, by how much of a request is in them, and are dropped with their day.
alter table journal rename to journal_before;
alter index journal_at rename to journal_before_at;
create sequence journal_ids;
create table journal (
    id         bigint not null default nextval('journal_ids'),
    at         timestamptz not null,
    amount     text not null default 'everything',
    request    uuid,                  -- of the request, from when it was recorded as open to its end; null in records of before
    gate       text not null,
    gate_name  text not null default '',
    sight      text not null default '',
    verdict    text not null,
    method     text not null default '',
    url        text not null,
    person     uuid,                  -- null where nobody is known
    machine    uuid,
    address    inet,
    network    uuid,
    groups     uuid[],
    categories text[],
    source     text not null default '',
    rung       text not null default '',
    policy     uuid,
    rule       uuid,
    exception  uuid,
    stint      uuid,
    list       uuid,
    entry      text not null default '',
    notes      uuid[],
    by         text not null default '',
    provisos   text not null default '',
    not_held   text not null default '',
    traits     text[] not null default '{}',
    words      text not null default '',
    referrer   text not null default '',
    agent      text not null default '',
    revision   bigint not null default 0,
    catalogue  bigint not null default 0,
    outcome    text not null default '',
    status     integer not null default 0,
    media      text not null default '',
    size       bigint not null default 0,
    took_ms    bigint not null default 0,
    detail     text not null default '',
    reference  text not null default ''
) partition by list (amount);
create table journal_everything partition of journal for values in ('everything') partition by range (at);
create table journal_group partition of journal for values in ('group') partition by range (at);
create index journal_at on journal using brin (at) with (pages_per_range = 32, autosummarize = on);
create index journal_id on journal using btree (id);
create index journal_open on journal (request) where outcome = 'open';

-- +goose StatementBegin
-- Attaching a table that stands by itself lets others read and write meanwhile.
create function journal_day(kept text, day date) returns void language plpgsql as $$
declare
    name text := 'journal_' || kept || '_' || to_char(day, 'YYYYMMDD');
begin
    perform pg_advisory_xact_lock(hashtext('journal_day'));
    if to_regclass(name) is null then
        execute format('create table %I (like journal including defaults including constraints)', name);
        execute format('alter table %I attach partition %I for values from (%L) to (%L)',
            'journal_' || kept, name, day::timestamp at time zone 'UTC', (day + 1)::timestamp at time zone 'UTC');
    end if;
end $$;
-- +goose StatementEnd
select journal_day('everything', day) from (select distinct (at at time zone 'UTC')::date as day from journal_before) d;
insert into journal (id, at, person, address, method, url, gate, sight, verdict, gate_name, revision, by, outcome, status, media, size, took_ms, detail, reference, provisos, not_held, traits)
    select id, at, person, address, method, url, gate, sight, verdict, gate_name, revision, by, outcome, status, media, size, took_ms, detail, reference, provisos, not_held, traits
    from journal_before;
select setval('journal_ids', coalesce((select max(id) from journal), 0) + 1, false);
drop table journal_before;

alter table gates add column unrecorded bigint not null default 0;

-- +goose Down
-- What there was before cannot be made again.
select 1 / 0;
