-- The rehearsal's files, as they were saved; the last one counts.
create table rehearsal_texts (
    number     bigint      primary key generated always as identity,
    -- [{"path": …, "text": …}]
    files      jsonb       not null,
    author     text        not null,
    created_at timestamptz not null
);

-- Rehearsals that were run, with what they found.
create table rehearsal_runs (
    number     bigint      primary key generated always as identity,
    -- Which text: live, or a draft.
    of         text        not null,
    author     text        not null,
    started_at timestamptz not null,
    -- Without them it runs still, or was broken off.
    ended_at   timestamptz,
    holds      boolean,
    words      text,
    report     jsonb,
    page       text,
    junit      text
);
