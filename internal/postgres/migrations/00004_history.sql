-- +goose Up

-- Every edit of a list, so that one can see who did what, and take a state back.
create table list_changes (
    list_id uuid not null,
    version bigint not null,              -- the draft's version that the edit made
    at      timestamptz not null default now(),
    by      text not null,
    what    text not null,                -- one word: see revision.Change
    detail  text not null default '',
    added   bigint not null default 0,    -- entries and notes
    edited  bigint not null default 0,
    removed bigint not null default 0,
    primary key (list_id, version)
);
insert into list_changes (list_id, version, at, by, what, added)
    select id, version, updated_at, updated_by, 'earlier', entry_count + note_count from lists;

-- Entries are never changed or deleted: a row says what held from one version of the draft until another. So a million entries
-- with a hundred edits cost a million rows and a hundred. The id stays the same through edits, and is the place in the list.
-- The pattern is its own key unless key says otherwise, which saves a column for nearly all. There is no foreign key: it would
-- be looked up for each of a million rows, and lists are removed in one place only.
--
-- Lists that a large file filled have a part of the table to themselves, whose indexes are made when its rows are in: that takes
-- half the time. All others share one.
create table kept (
    list_id   uuid not null,
    id        bigint not null,
    since     bigint not null,
    gone      bigint,
    kind      text not null,
    carve_out boolean not null,
    off       boolean not null,
    until     date,
    pattern   text collate "C" not null,
    key       text collate "C",
    note      text not null
) partition by list (list_id);
create table entries_shared partition of kept default;
insert into kept
    select e.list_id, row_number() over (order by e.list_id, e.position), l.version, null, e.kind, e.carve_out, e.off, e.until, e.pattern,
        nullif(e.key, e.pattern), e.note
    from entries e join lists l on l.id = e.list_id;
drop table entries;
alter table kept rename to entries;
create sequence entry_ids;
select setval('entry_ids', coalesce((select max(id) from entries), 0) + 1, false);

create unique index entries_place on entries (list_id, id) where gone is null;
create index entries_key on entries (hashtextextended(coalesce(key, pattern), 0)) where gone is null;
-- Rows come in the order of their versions, so a summary of each stretch of them finds the latest, and costs next to nothing.
create index entries_since on entries using brin (since) with (pages_per_range = 32, autosummarize = on);
create index entries_gone on entries (list_id, gone) where gone is not null;
-- Notes are looked for by their text when a file is imported again; they are few, but their list may be long.
create index entries_notes on entries (list_id) where kind = 'note' and gone is null;

alter table lists drop column next_position, add column colour text not null default '', add column owner text not null default '';

-- +goose Down
-- What was there before cannot be made again: the history would be lost.
select 1 / 0;
