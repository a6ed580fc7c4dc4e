-- +goose Up
-- What gates of our own know of a request besides its verdict. Records of before do not say.
alter table journal
    add column gate_name text not null default '',
    add column revision bigint not null default 0,
    add column by text not null default '',
    add column outcome text not null default '',
    add column status integer not null default 0,
    add column media text not null default '',
    add column size bigint not null default 0,
    add column took_ms bigint not null default 0,
    add column detail text not null default '',
    add column reference text not null default '';

-- Batches that gates have handed in, so that none is added twice.
create table journal_batches (
    id uuid primary key,
    at timestamptz not null default now()
);

-- +goose Down
drop table journal_batches;
alter table journal drop column gate_name, drop column revision, drop column by, drop column outcome, drop column status, drop column media,
    drop column size, drop column took_ms, drop column detail, drop column reference;
