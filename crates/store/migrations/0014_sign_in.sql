alter table issuers
    -- As which client operators sign in with it; none: its tokens are applications' alone.
    add column client   text,
    -- Operators do not sign in with it before another has approved that.
    add column waits    boolean not null default false,
    -- As whom whoever set it up counts.
    add column persons  text[] not null default '{}';

-- Who is signed in. They end by themselves, are nobody's record, and are in no backup.
create table sessions (
    -- SHA-256 of what its holder sends.
    hash         bytea       primary key,
    -- `console`: in a cookie; `command`: in the header of a command line.
    kind         text        not null check (kind in ('console', 'command')),
    -- Begun with a key, which it ends with …
    key          text        references keys (id),
    -- … or with an issuer, whose claims these are.
    issuer       text,
    sub          text,
    name         text        not null default '',
    groups       text[]      not null default '{}',
    -- When its holder last showed the issuer who they are.
    signed_in_at timestamptz,
    -- Digest of what it was begun with, which begins no other.
    begun_with   bytea       unique,
    created_at   timestamptz not null,
    -- When the claims were last had.
    claimed_at   timestamptz not null,
    used_at      timestamptz not null,
    ended_at     timestamptz,
    ended        text,
    check ((key is null) <> (issuer is null)),
    check ((issuer is null) = (sub is null))
);
create index sessions_by_age on sessions (created_at);
