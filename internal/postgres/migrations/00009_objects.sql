-- +goose Up


-- Who asks, and what is decided about them: each state of each object from one version of the draft until another.
create table objects (
    id         uuid not null,
    since      bigint not null,  -- the version of the draft that made it so
    gone       bigint,           -- the version that made it otherwise; null while it is so
    kind       text not null,
    name       text not null check (name <> ''),
    body       jsonb not null,
    updated_at timestamptz not null default now(),
    updated_by text not null,
    primary key (id, since)
);
create unique index objects_now on objects (id) where gone is null;
create unique index objects_name on objects (kind, lower(name)) where gone is null;
create index objects_since on objects (since);
create index objects_gone on objects (gone) where gone is not null;

-- What the objects of now refer to.
create table object_refs (
    object uuid not null,
    kind   text not null,
    target uuid not null,
    primary key (object, kind, target)
);
create index object_refs_target on object_refs (target);

-- The policy and the group that a new service began with, which nobody has touched: the fallback does what they did.
create temporary table untouched on commit drop as
    select p.id, p.group_id from policies p join groups g on g.id = p.group_id where p.version = 1 and g.version = 1 and p.updated_by = 'setup';
delete from policies where id in (select id from untouched);
delete from groups where id in (select group_id from untouched) and not exists (select from policies where group_id = groups.id);

insert into objects (id, since, kind, name, body, updated_at, updated_by)
select id, version, 'group', name, jsonb_build_object('description', description, 'groups', '[]'::jsonb, 'networks', '[]'::jsonb,
    'machines', '[]'::jsonb, 'ranges', '[]'::jsonb), updated_at, updated_by from groups;

insert into objects (id, since, kind, name, body, updated_at, updated_by)
select p.id, p.version, 'policy', p.name, jsonb_build_object('description', p.description, 'groups', jsonb_build_array(jsonb_build_object('id', p.group_id)),
    'otherwise', p.otherwise, 'rules', coalesce((
        select jsonb_agg(jsonb_build_object('name', r.name, 'then', r.verdict, 'if', jsonb_build_object('any',
            case when exists (select from rule_lists l where l.policy_id = p.id and l.rule = r.position)
                then jsonb_build_array(jsonb_build_object('lists', (select jsonb_agg(jsonb_build_object('id', l.list_id) order by l.position)
                    from rule_lists l where l.policy_id = p.id and l.rule = r.position))) else '[]'::jsonb end ||
            case when r.categories <> '{}' then jsonb_build_array(jsonb_build_object('categories', to_jsonb(r.categories))) else '[]'::jsonb end
        )) order by r.position) from rules r where r.policy_id = p.id), '[]'::jsonb)), p.updated_at, p.updated_by from policies p;

insert into object_refs (object, kind, target) select id, 'group', group_id from policies;
insert into object_refs (object, kind, target) select distinct policy_id, 'list', list_id from rule_lists;

insert into objects (id, since, kind, name, body, updated_by) select gen_random_uuid(), version, 'settings', 'Settings',
    jsonb_build_object('combining', 'position', 'gates', '["dns", "proxy"]'::jsonb,
        'order', coalesce((select jsonb_agg(jsonb_build_object('id', id) order by position) from policies), '[]'::jsonb)), 'setup' from draft;
insert into object_refs (object, kind, target) select s.id, 'policy', p.id from objects s, policies p where s.kind = 'settings';

insert into objects (id, since, kind, name, body, updated_by) select gen_random_uuid(), version, 'policy', 'Baseline',
    '{"description": "What nobody below may loosen.", "role": "baseline", "groups": [], "rules": [], "otherwise": "allow"}', 'setup' from draft;
insert into objects (id, since, kind, name, body, updated_by) select gen_random_uuid(), version, 'policy', 'Fallback',
    '{"description": "For requests that no policy is for.", "role": "fallback", "groups": [], "rules": [], "otherwise": "allow"}', 'setup' from draft;

drop table rule_lists, rules, policies, groups;

-- +goose Down
drop table object_refs, objects;
