-- Who somebody is: a key belongs to a person, or to a program, and counts as whoever made or replaced it too.
alter table keys
    add column person  text,
    -- Everybody that what is done with it counts as, besides itself: persons, sign-ins, keys.
    add column counts_as text[] not null default '{}',
    -- For trying ahead alone: it never gets unmarked answers.
    add column staging boolean not null default false;

alter table drafts
    -- Everybody who saved any of it, as whom they count.
    add column editors text[] not null default '{}',
    -- By application, what was live when it began.
    add column bases jsonb not null default '{}';

alter table revisions
    -- Approved by others than its editors as the settings say; else it was put live urgently.
    add column approved  boolean not null default true,
    add column urgent    boolean not null default false,
    -- Never to go live again.
    add column barred_at timestamptz,
    add column barred    text,
    add column editors   text[] not null default '{}',
    add column bases     jsonb not null default '{}',
    add column draft     bigint,
    -- What approvers accepted of what it changes, and the rehearsal's files it was approved with.
    add column accepted  jsonb not null default '[]',
    add column rehearsal bigint;

-- Approvals and returns of drafts, of settings, and of revisions that went live urgently.
create table reviews (
    number     bigint      primary key generated always as identity,
    -- `D-1`, `S-1`, `R-1`.
    subject    text        not null,
    verdict    text        not null check (verdict in ('approve', 'return')),
    actor      text        not null,
    -- As whom they count.
    persons    text[]      not null,
    note       text,
    -- What an approval binds.
    digest     bytea,
    files      bytea,
    report     bigint,
    accepted   jsonb       not null default '[]',
    created_at timestamptz not null,
    -- Why it counts no more.
    voided     text,
    voided_at  timestamptz
);
create index reviews_by_subject on reviews (subject);

-- Remarks on a draft, or on a line of what it changes.
create table comments (
    number     bigint      primary key generated always as identity,
    draft      bigint      not null references drafts (number),
    path       text,
    line       integer,
    text       text        not null,
    author     text        not null,
    created_at timestamptz not null
);

alter table rehearsal_runs
    -- Of which text and which files, and what it was held against.
    add column digest  bytea,
    add column files   bytea,
    add column against jsonb,
    -- Everybody who gains or loses, line by line.
    add column moved   jsonb;

-- Settings of the workspace: the last one in force counts.
create table settings (
    number     bigint      primary key generated always as identity,
    text       text        not null,
    digest     bytea       not null,
    author     text        not null,
    persons    text[]      not null,
    note       text,
    created_at timestamptz not null,
    -- Without one it waits for approval, or was refused or taken back.
    in_force_at timestamptz,
    ended_at   timestamptz,
    ended      text
);

-- As whom those count who saved what every draft is rehearsed with.
alter table rehearsal_texts add column persons text[] not null default '{}';
alter table cases           add column persons text[] not null default '{}';

-- Which nodes there are, and how far they answer: each says so itself; nothing that must outlive a crash.
create unlogged table nodes (
    id         text        primary key,
    address    text        not null,
    started_at timestamptz not null,
    position   bigint      not null,
    epoch      text        not null,
    seen_at    timestamptz not null,
    -- For how long it answers from what it knows, in seconds.
    max_stale  bigint      not null
);

-- Revisions that live questions are answered under beside, and how the answers differ.
create table shadows (
    number       bigint      primary key generated always as identity,
    revision     bigint      not null references revisions (number),
    applications text[]      not null,
    -- One question in this many.
    one_in       integer     not null,
    -- Of one processor's time, per mille.
    share        integer     not null,
    author       text        not null,
    started_at   timestamptz not null,
    until        timestamptz,
    ended_at     timestamptz,
    ended        text
);

-- What was counted: no change, and nothing that anybody relies on.
create table shadow_counts (
    shadow    bigint not null references shadows (number),
    node      text   not null,
    asked     bigint not null default 0,
    differing bigint not null default 0,
    dropped   bigint not null default 0,
    -- One in this many now, where there was more to do than its share allows.
    one_in    integer not null default 1,
    primary key (shadow, node)
);

create table shadow_differences (
    shadow        bigint      not null references shadows (number),
    -- Of the question and both answers.
    digest        bytea       not null,
    application   text        not null,
    permission    text        not null,
    allowed       boolean     not null,
    reason        text        not null,
    shadow_reason text        not null,
    -- The question, without any token.
    question      jsonb       not null,
    times         bigint      not null,
    first_at      timestamptz not null,
    last_at       timestamptz not null,
    primary key (shadow, digest)
);
