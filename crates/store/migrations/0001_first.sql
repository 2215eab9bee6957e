-- One row: the counter that every write locks, so that commit order is position order.
create table workspace (
    only_row      boolean primary key default true check (only_row),
    epoch         text    not null,
    position      bigint  not null default 0,
    live_revision bigint
);

create table revisions (
    number     bigint      primary key,
    digest     bytea       not null,
    title      text        not null,
    author     text        not null,
    created_at timestamptz not null
);

create table revision_files (
    revision bigint not null references revisions (number),
    path     text   not null,
    content  text   not null,
    primary key (revision, path)
);

-- The register as it is. A deleted entity stays known as deleted.
create table entities (
    name     text   primary key,
    doc      jsonb  not null,
    deleted  boolean not null,
    position bigint not null
);

create table grants (
    id       text   primary key,
    doc      jsonb  not null,
    position bigint not null
);

-- What happened: `lines` are register lines that, applied in order, give the same register.
create table changes (
    position bigint      primary key,
    at       timestamptz not null,
    actor    text        not null,
    kind     text        not null,
    lines    jsonb       not null
);

create table keys (
    id          text        primary key,
    kind        text        not null check (kind in ('operator', 'application')),
    application text,
    name        text        not null,
    hash        bytea       not null,
    created_at  timestamptz not null,
    until       timestamptz,
    ended_at    timestamptz,
    check ((kind = 'application') = (application is not null))
);
