-- +goose Up
-- What was unlocked with a code can end when it is not used: until moves on with each use, to ends_at at most.
alter table passages
    add column idle_minutes integer,
    add column ends_at timestamptz,
    add check ((idle_minutes is null) = (ends_at is null));

-- +goose Down
alter table passages drop column idle_minutes, drop column ends_at;
