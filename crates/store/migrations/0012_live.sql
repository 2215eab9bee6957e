-- Which revision is live for which application. What was live for all of them at once is spread over them by
-- the upgrade of this program: which applications there are stands in the texts.
create table live (
    application text   primary key,
    revision    bigint not null references revisions (number),
    -- The position of its rollout.
    position    bigint not null
);

-- What was put live for which application, in order.
create table releases (
    position    bigint      not null,
    application text        not null,
    -- None: the application is not part of what is live any more.
    revision    bigint      references revisions (number),
    before      bigint      references revisions (number),
    back        boolean     not null,
    primary key (position, application)
);
create index releases_by_application on releases (application, position);
