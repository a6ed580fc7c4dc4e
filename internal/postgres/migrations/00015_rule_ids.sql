-- +goose Up
-- Rules get ids that stay: the same through all states of a policy for rules of one name.
alter table objects disable trigger user;
update objects o set body = jsonb_set(body, '{rules}', (
    select jsonb_agg(case when jsonb_typeof(rule) = 'object' and not rule ? 'id'
            then jsonb_build_object('id', md5(concat_ws('/', o.id, lower(rule->>'name'), again))::uuid) || rule else rule end order by place)
        from (select rule, place, row_number() over (partition by lower(rule->>'name') order by place) as again
            from jsonb_array_elements(o.body->'rules') with ordinality r(rule, place)) numbered))
    where kind = 'policy' and jsonb_typeof(body->'rules') = 'array' and jsonb_array_length(body->'rules') > 0;
alter table objects enable trigger user;

-- +goose Down
alter table objects disable trigger user;
update objects set body = jsonb_set(body, '{rules}', (select jsonb_agg(case when jsonb_typeof(rule) = 'object' then rule - 'id' else rule end order by place)
        from jsonb_array_elements(body->'rules') with ordinality r(rule, place)))
    where kind = 'policy' and jsonb_typeof(body->'rules') = 'array' and jsonb_array_length(body->'rules') > 0;
alter table objects enable trigger user;
