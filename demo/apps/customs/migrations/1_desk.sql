-- The desk's own tables. What of them Ostrog must know goes there through the outbox.
create table manifests (
    number       text primary key,
    line_code    text,
    hazard_class bigint,
    on_hold      boolean,
    state        text,
    voyage       text,
    declared_by  text
);

create table containers (
    number   text primary key,
    manifest text not null references manifests,
    weight   text
);

create table inspections (
    number    text primary key,
    container text not null references containers,
    opened_by text not null
);

-- What is to be told, in the order in which it happened: written in the transaction of what it tells.
create table outbox (
    id      bigint generated always as identity primary key,
    telling text not null,
    told_at timestamptz,
    -- Ostrog said no, and why: it is not told again until somebody has looked.
    refused text
);

create index outbox_waiting on outbox (id) where told_at is null and refused is null;
