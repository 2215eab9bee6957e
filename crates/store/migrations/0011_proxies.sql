-- A reverse proxy's key: whose routes it asks about, and how it tells a request.
alter table keys add column proxy jsonb;
alter table keys drop constraint keys_kind_check;
alter table keys add check (kind in ('operator', 'application', 'proxy'));
alter table keys add check ((kind = 'proxy') = (proxy is not null));
