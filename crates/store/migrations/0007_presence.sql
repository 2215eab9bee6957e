-- Who has a draft open: nothing that must outlive a crash, so it is not logged.
create unlogged table draft_presence (
    draft   bigint      not null references drafts (number),
    key     text        not null references keys (id),
    seen_at timestamptz not null,
    primary key (draft, key)
);
