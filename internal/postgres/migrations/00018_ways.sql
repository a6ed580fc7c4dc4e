-- +goose Up
-- Settings say the way of the organisation's clients, in place of the kinds of gates that are switched on.
alter table objects disable trigger user;
update objects set body = (body - 'gates') || jsonb_build_object('way', case
        when body->'gates' ?& array['dns', 'proxy'] then 'dns,proxy'
        when body->'gates' ? 'proxy' then 'proxy'
        when body->'gates' ? 'icap' then 'icap'
        when body->'gates' ? 'dns' then 'dns'
        else 'none' end)
    where kind = 'settings' and jsonb_typeof(body->'gates') = 'array';
alter table objects enable trigger user;

-- +goose Down
alter table objects disable trigger user;
update objects set body = (body - 'way') || jsonb_build_object('gates', case body->>'way' when 'none' then '[]'::jsonb else to_jsonb(string_to_array(body->>'way', ',')) end)
    where kind = 'settings' and body ? 'way';
alter table objects enable trigger user;
