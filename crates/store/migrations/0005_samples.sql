-- Answers that were right once and shall stay so: cases of a rehearsal over the live register.
create table cases (
    number     bigint      primary key generated always as identity,
    -- A case as the rehearsal format writes it.
    body       jsonb       not null,
    author     text        not null,
    created_at timestamptz not null,
    ended_at   timestamptz
);

-- Which changes name what: entities, grants. The history of a thing is found by it.
create table change_names (
    name     text   not null,
    position bigint not null references changes (position),
    primary key (name, position)
);

insert into change_names (name, position)
select distinct said.name, changes.position
from changes, jsonb_array_elements(lines) as line,
     lateral (values (line ->> 'entity'), (line ->> 'delete'), (line ->> 'end-grant'),
                     (line -> 'grant' ->> 'id'), (line -> 'grant' ->> 'to'), (line -> 'grant' ->> 'at'),
                     (line -> 'activation' ->> 'grant'), (line -> 'activation' ->> 'subject')) as said (name)
where said.name is not null;
