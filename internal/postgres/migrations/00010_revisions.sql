-- +goose Up

-- Who made which version of the draft. Every edit makes one.
create table edits (
    version bigint primary key,
    at      timestamptz not null default now(),
    by      text not null
);

-- Nothing in it is ever changed or taken out.
create table audit (
    id      bigint generated always as identity primary key,
    at      timestamptz not null default now(),
    by      text not null,
    what    text not null,                      -- see revision.Event
    kind    text not null default '',           -- of an object; '' for what is about none
    object  uuid,
    name    text not null default '',           -- of the object as it was then, or of an account
    version bigint,                             -- of the draft
    detail  text not null default ''
);

-- What was put live. A revision is a version of the draft: every state of everything is kept by version.
create table revisions (
    number    bigint primary key,
    version   bigint not null,                  -- of the draft
    at        timestamptz not null default now(),
    by        text not null,
    note      text not null check (note <> ''),
    same_as   bigint references revisions,      -- the revision that was taken back to
    forced    text not null default '',         -- why it was put live though expectations failed
    failed    bigint not null default 0,        -- so many of them
    asked     bigint not null default 0         -- so many expectations there were
);

-- What is to be put live later.
create table planned (
    id      uuid primary key default gen_random_uuid(),
    due     timestamptz not null,
    version bigint not null,
    by      text not null,
    note    text not null,
    forced  text not null default '',
    made_at timestamptz not null default now()
);

-- +goose StatementBegin
create function never() returns trigger language plpgsql as $$
begin
    raise exception 'rows of % are never changed or taken out', tg_table_name;
end $$;
-- +goose StatementEnd
create trigger never before update or delete on audit for each row execute function never();
create trigger never_all before truncate on audit for each statement execute function never();
create trigger never before update or delete on revisions for each row execute function never();
create trigger never_all before truncate on revisions for each statement execute function never();

-- Lists, schedules and what is said about categories have a row each for their present state; their past states are objects too, kept
-- from here on by the database itself, so that no edit can forget it.
alter table corrections add column uid uuid not null default gen_random_uuid();
alter table own_categories add column lists uuid[] not null default '{}';
update own_categories c set lists = coalesce((select array_agg(list_id order by position) from own_category_lists where category_id = c.id), '{}');
drop table own_category_lists;
create index own_categories_lists on own_categories using gin (lists);
alter table draft drop column classified;
alter table list_sources drop constraint list_sources_list_id_fkey; -- a list that comes back has its source again
alter table list_changes drop constraint list_changes_pkey;
alter table list_changes add primary key (list_id, version);
create index list_changes_version on list_changes (version);
drop index objects_name;
create unique index objects_name on objects (kind, lower(name)) where gone is null and kind not in ('category', 'correction');
create index objects_kind on objects (kind, since);

-- +goose StatementBegin
create function state_of(one jsonb) returns jsonb language sql immutable as $$
    select one - array['version', 'updated_at', 'updated_by', 'entry_count', 'note_count']
$$;
-- +goose StatementEnd

-- keep_state(kind, name, id) keeps a state of a row as an object; name and id are columns.
-- +goose StatementBegin
create function keep_state() returns trigger language plpgsql as $$
declare
    was jsonb := case when tg_op <> 'INSERT' then state_of(to_jsonb(old)) end;
    now_is jsonb := case when tg_op <> 'DELETE' then state_of(to_jsonb(new)) end;
    uid uuid := (coalesce(now_is, was) ->> tg_argv[2])::uuid;
    v bigint := (select version from draft);
begin
    if was is not distinct from now_is then
        return null;
    end if;
    delete from objects where id = uid and since = v;
    update objects set gone = v where id = uid and gone is null;
    if now_is is not null then
        insert into objects (id, since, kind, name, body, updated_by)
            values (uid, v, tg_argv[0], now_is ->> tg_argv[1], now_is, coalesce(nullif(current_setting('widelark.by', true), ''), 'setup'));
    end if;
    return null;
end $$;
-- +goose StatementEnd

insert into objects (id, since, kind, name, body, updated_at, updated_by)
    select id, version, 'list', name, state_of(to_jsonb(l)), updated_at, updated_by from lists l
    union all select id, version, 'schedule', name, state_of(to_jsonb(l)), updated_at, updated_by from schedules l
    union all select id, version, 'category', name, state_of(to_jsonb(l)), updated_at, updated_by from own_categories l
    union all select id, version, 'scorecard', name, state_of(to_jsonb(l)), updated_at, updated_by from scorecards l
    union all select uid, version, 'correction', entry, state_of(to_jsonb(l)), at, by from corrections l;
create trigger keep_state after insert or update or delete on lists for each row execute function keep_state('list', 'name', 'id');
create trigger keep_state after insert or update or delete on schedules for each row execute function keep_state('schedule', 'name', 'id');
create trigger keep_state after insert or update or delete on own_categories for each row execute function keep_state('category', 'name', 'id');
create trigger keep_state after insert or update or delete on scorecards for each row execute function keep_state('scorecard', 'name', 'id');
create trigger keep_state after insert or update or delete on corrections for each row execute function keep_state('correction', 'entry', 'uid');

-- The audit is written where states are.
-- +goose StatementBegin
create function audit_state() returns trigger language plpgsql as $$
begin
    insert into audit (by, what, kind, object, name, version)
        select new.updated_by, case
            when exists (select from objects o where o.id = new.id and o.gone = new.since) then 'changed'
            when exists (select from objects o where o.id = new.id and o.since < new.since) then 'brought back' else 'made' end,
            new.kind, new.id, new.name, new.since;
    return null;
end $$;
-- +goose StatementEnd
create trigger audit_state after insert on objects for each row execute function audit_state();

-- Whether a state that ends is followed by another is known when the edit is whole.
-- +goose StatementBegin
create function audit_gone() returns trigger language plpgsql as $$
begin
    insert into audit (by, what, kind, object, name, version)
        select coalesce(nullif(current_setting('widelark.by', true), ''), 'setup'), 'removed', new.kind, new.id, new.name, new.gone
        where not exists (select from objects o where o.id = new.id and o.since = new.gone);
    return null;
end $$;
-- +goose StatementEnd
create constraint trigger audit_gone after update on objects deferrable initially deferred for each row when (new.gone is not null) execute function audit_gone();

-- +goose StatementBegin
create function audit_entries() returns trigger language plpgsql as $$
begin
    insert into audit (by, what, kind, object, name, version, detail)
        select new."by", 'entries ' || new.what, 'list', new.list_id, coalesce((select name from lists where id = new.list_id), ''), new.version,
            concat_ws(', ', nullif(new.added, 0) || ' added', nullif(new.edited, 0) || ' edited', nullif(new.removed, 0) || ' removed', nullif(new.detail, ''));
    return null;
end $$;
-- +goose StatementEnd
create trigger audit_entries after insert on list_changes for each row when (new.what not in ('made', 'described')) execute function audit_entries();

insert into edits (version, by) select version, 'setup' from draft;
insert into revisions (number, version, by, note) select 1, version, 'setup', 'What was in force when revisions began' from draft;

-- Findings of the review that somebody has accepted.
create table accepted_findings (
    key    text primary key,
    reason text not null,
    until  date,
    at     timestamptz not null default now(),
    by     text not null
);

-- +goose Down
-- What was there before cannot be made again: the history would be lost.
select 1 / 0;
