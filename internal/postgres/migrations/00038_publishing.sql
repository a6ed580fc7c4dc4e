-- +goose Up
-- Some objects of a draft go live by a version that has the others as they are live, after which the draft is as before. Such versions are set aside: nobody edited anything, so neither the history of
-- objects nor the audit log speaks of them. Who edited what is put back is carried over.
alter table edits add aside boolean not null default false;
create table carried (
    version bigint not null,
    object  uuid not null,
    by      text not null,
    at      timestamptz not null,
    primary key (version, object, by)
);

-- +goose StatementBegin
create or replace function audit_state() returns trigger language plpgsql as $$
begin
    if current_setting('widelark.aside', true) = 'on' then
        return null;
    end if;
    insert into audit (by, what, kind, object, name, version)
        select new.updated_by, case
            when exists (select from objects o where o.id = new.id and o.gone = new.since) then 'changed'
            when exists (select from objects o where o.id = new.id and o.since < new.since) then 'brought back' else 'made' end,
            new.kind, new.id, new.name, new.since;
    return null;
end $$;
create or replace function audit_gone() returns trigger language plpgsql as $$
begin
    if current_setting('widelark.aside', true) = 'on' then
        return null;
    end if;
    insert into audit (by, what, kind, object, name, version)
        select coalesce(nullif(current_setting('widelark.by', true), ''), 'setup'), 'removed', new.kind, new.id, new.name, new.gone
        where not exists (select from objects o where o.id = new.id and o.since = new.gone);
    return null;
end $$;
create or replace function audit_entries() returns trigger language plpgsql as $$
begin
    if current_setting('widelark.aside', true) = 'on' then
        return null;
    end if;
    insert into audit (by, what, kind, object, name, version, detail)
        select new."by", 'entries ' || new.what, 'list', new.list_id, coalesce((select name from lists where id = new.list_id), ''), new.version,
            concat_ws(', ', nullif(new.added, 0) || ' added', nullif(new.edited, 0) || ' edited', nullif(new.removed, 0) || ' removed', nullif(new.detail, ''));
    return null;
end $$;
-- +goose StatementEnd

-- How changes go live here. There is one row.
create table practices (
    one         boolean primary key default true check (one),
    second_look boolean not null default false, -- what one person edited alone is published by another
    updated_at  timestamptz not null default now(),
    updated_by  text not null default 'setup'
);
insert into practices default values;

-- What people say of the draft to each other.
create table remarks (
    id      bigint generated always as identity primary key,
    at      timestamptz not null default now(),
    by      text not null,
    text    text not null,
    object  uuid,                 -- of the draft, that it is about; null for the draft as a whole
    version bigint not null,      -- of the draft, when it was made
    asks    text,                 -- the account that is asked to look
    done_at timestamptz,
    done_by text
);
create index remarks_open on remarks (id) where done_at is null;

-- +goose Down
drop table remarks, practices, carried;
alter table edits drop aside;
