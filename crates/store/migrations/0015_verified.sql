-- The digest of the journal at the position a node answers at, as that node knows it.
alter table nodes add column digest bytea;
