-- +goose Up
-- Each event of the audit log is sealed some seconds after it was written, in a chain: a seal hangs on its event and on the seal before it.
create table audit_chain (
    n     bigint primary key,          -- from 1 on
    event bigint not null unique,      -- id; no reference: what is taken out of the log must be missed
    seal  bytea not null,
    keyed boolean not null             -- with the service's secret
);
create trigger never before update or delete on audit_chain for each row execute function never();
create trigger never_all before truncate on audit_chain for each statement execute function never();

-- +goose Down
drop table audit_chain;
