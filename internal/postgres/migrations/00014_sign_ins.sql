-- +goose Up
-- People's stays from one sign-in on. The session library's table holds the rest; a session without a row here is over.
create table sign_ins (
    id         uuid primary key,
    account_id uuid not null references accounts on delete cascade,
    made_at    timestamptz not null default now(),
    seen_at    timestamptz not null default now(),
    address    text not null,
    agent      text not null
);
create index sign_ins_account on sign_ins (account_id);
create index sign_ins_seen on sign_ins (seen_at);

alter table tokens add column expires_at timestamptz;

-- +goose Down
drop table sign_ins;
alter table tokens drop column expires_at;
