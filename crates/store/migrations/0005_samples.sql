-- Answers that were right once and shall stay so: cases of a rehearsal over the live register.
create table cases (
    number     bigint      primary key generated always as identity,
    -- A case as the rehearsal format writes it.
    body       jsonb       not null,
    author     text        not null,
    created_at timestamptz not null,
    ended_at   timestamptz
);
