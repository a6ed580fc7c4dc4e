-- +goose Up
-- What gates report of themselves. A gate that is silent keeps its last report.
create table gates (
    name     text primary key,
    kind     text not null,
    address  text not null,
    revision bigint not null,
    since    timestamptz,             -- when it took what it runs; null where it runs nothing yet
    began_at timestamptz not null,
    seen_at  timestamptz not null default now(),
    decided  bigint not null,
    refused  bigint not null,
    cut      bigint not null,
    running  bigint not null,
    written  bigint not null,
    waiting  bigint not null,
    dropped  bigint not null,
    refusals jsonb not null default '[]'
);

-- +goose Down
drop table gates;
