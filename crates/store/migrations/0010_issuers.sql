-- Who issues tokens that may accompany questions, and how its keys are had. Public keys are no secret.
create table issuers (
    key        text        primary key,
    iss        text        not null unique,
    -- By application, the audiences its tokens may name.
    audiences  jsonb       not null,
    -- A JWK set or PEM, if its keys are not had from where it says they are.
    keys       bytea,
    private    boolean     not null,
    id_tokens  boolean     not null,
    created_at timestamptz not null,
    author     text        not null
);
