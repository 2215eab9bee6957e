-- What activates grants on standby, and the roles tenants made: as they are now.
create table activations (
    id       text   primary key,
    doc      jsonb  not null,
    position bigint not null
);

create table tenant_roles (
    key      text   primary key,
    doc      jsonb  not null,
    position bigint not null
);
