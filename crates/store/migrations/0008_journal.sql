-- What happened, in the bytes that were written, each row digested with the one before it: a row that was
-- altered, taken out, put in or moved no longer fits what follows.
create table journal (
    position bigint      primary key,
    epoch    text        not null,
    at       timestamptz not null,
    actor    text        not null,
    kind     text        not null,
    content  bytea       not null,
    -- How many lines that is.
    lines    integer     not null,
    -- SHA-256, docs/service.md says of what.
    digest   bytea       not null check (octet_length(digest) = 32),
    -- Chained when the database was upgraded, not when it was written.
    chained  boolean     not null default false
);

-- The rows from before are kept as they were written; the upgrade of this program makes the journal of them.
alter table change_names drop constraint change_names_position_fkey;
alter table changes rename to changes_before_journal;

-- The register as it is, in the bytes of its entries.
alter table entities     alter column doc drop not null;
alter table entities     rename column doc to doc_before;
alter table entities     add column doc bytea;
alter table grants       alter column doc drop not null;
alter table grants       rename column doc to doc_before;
alter table grants       add column doc bytea;
alter table activations  alter column doc drop not null;
alter table activations  rename column doc to doc_before;
alter table activations  add column doc bytea;
alter table tenant_roles alter column doc drop not null;
alter table tenant_roles rename column doc to doc_before;
alter table tenant_roles add column doc bytea;

alter table workspace
    -- Of the last row of the journal.
    add column digest   bytea   not null default decode(repeat('00', 32), 'hex'),
    -- Whether the rows from before the journal have been made part of it.
    add column upgraded boolean not null default false,
    -- Which server, database and line of history this was last written on: another one is a restored copy.
    add column home     text;

-- What was live, in order.
create table rollouts (
    position bigint primary key,
    revision bigint not null references revisions (number),
    -- What was live until then.
    before   bigint references revisions (number)
);

insert into rollouts (position, revision, before)
select position, (lines -> 0 ->> 'rollout')::bigint, (lines -> 0 ->> 'before')::bigint
from changes_before_journal where kind = 'rollout';
