-- The numbers that grants and activations without an id of their own are given next: what has ended
-- leaves its number behind.
alter table workspace
    add column next_grant      bigint not null default 1,
    add column next_activation bigint not null default 1;

update workspace set
    next_grant = (select coalesce(max(substring(id from 3)::bigint), 0) + 1 from grants where id ~ '^g-[0-9]{1,9}$'),
    next_activation = (select coalesce(max(substring(id from 3)::bigint), 0) + 1 from activations where id ~ '^a-[0-9]{1,9}$');
