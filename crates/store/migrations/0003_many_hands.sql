-- Texts under way, several side by side.
create table drafts (
    number     bigint      primary key generated always as identity,
    title      text        not null,
    base       bigint      references revisions (number),
    authors    text[]      not null,
    digest     bytea       not null,
    created_at timestamptz not null,
    saved_at   timestamptz not null,
    -- Discarded, or live as this revision.
    ended_at   timestamptz,
    revision   bigint      references revisions (number)
);

create table draft_files (
    draft   bigint not null references drafts (number),
    path    text   not null,
    content text   not null,
    primary key (draft, path)
);

alter table keys
    -- How much an answer tells: none, reason, full.
    add column detail       text not null default 'reason' check (detail in ('none', 'reason', 'full')),
    -- Which endpoints it may call; none: all of its kind.
    add column endpoints    text[] not null default '{}',
    -- Types of other applications it may ask about.
    add column types        text[] not null default '{}',
    -- What an operator may do: [{"role": "reader", "at": "everywhere"}, …].
    add column rights       jsonb not null default '[]',
    add column last_used_at timestamptz;

-- Keys from before there were rights did everything.
update keys set rights = '[{"role": "owner", "at": "everywhere"}]' where kind = 'operator';
update keys set detail = 'full';
