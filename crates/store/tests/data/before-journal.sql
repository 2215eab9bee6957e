--
-- PostgreSQL database dump
--

\restrict AAQYZ2LIS8Inmp9t4oIVBa9LqsxolPuyyjVH83BfVci3HLPVsYwfKnS7IJpUd7x

-- Dumped from database version 15.18 (Debian 15.18-0+deb12u1)
-- Dumped by pg_dump version 15.18 (Debian 15.18-0+deb12u1)

SET statement_timeout = 0;
SET lock_timeout = 0;
SET idle_in_transaction_session_timeout = 0;
SET client_encoding = 'UTF8';
SET standard_conforming_strings = on;
SELECT pg_catalog.set_config('search_path', '', false);
SET check_function_bodies = false;
SET xmloption = content;
SET client_min_messages = warning;
SET row_security = off;

SET default_tablespace = '';

SET default_table_access_method = heap;

--
-- Name: _sqlx_migrations; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public._sqlx_migrations (
    version bigint NOT NULL,
    description text NOT NULL,
    installed_on timestamp with time zone DEFAULT now() NOT NULL,
    success boolean NOT NULL,
    checksum bytea NOT NULL,
    execution_time bigint NOT NULL
);


--
-- Name: activations; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.activations (
    id text NOT NULL,
    doc jsonb NOT NULL,
    "position" bigint NOT NULL
);


--
-- Name: cases; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.cases (
    number bigint NOT NULL,
    body jsonb NOT NULL,
    author text NOT NULL,
    created_at timestamp with time zone NOT NULL,
    ended_at timestamp with time zone
);


--
-- Name: cases_number_seq; Type: SEQUENCE; Schema: public; Owner: -
--

ALTER TABLE public.cases ALTER COLUMN number ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.cases_number_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);


--
-- Name: change_names; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.change_names (
    name text NOT NULL,
    "position" bigint NOT NULL
);


--
-- Name: changes; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.changes (
    "position" bigint NOT NULL,
    at timestamp with time zone NOT NULL,
    actor text NOT NULL,
    kind text NOT NULL,
    lines jsonb NOT NULL
);


--
-- Name: draft_files; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.draft_files (
    draft bigint NOT NULL,
    path text NOT NULL,
    content text NOT NULL
);


--
-- Name: draft_presence; Type: TABLE; Schema: public; Owner: -
--

CREATE UNLOGGED TABLE public.draft_presence (
    draft bigint NOT NULL,
    key text NOT NULL,
    seen_at timestamp with time zone NOT NULL
);


--
-- Name: drafts; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.drafts (
    number bigint NOT NULL,
    title text NOT NULL,
    base bigint,
    authors text[] NOT NULL,
    digest bytea NOT NULL,
    created_at timestamp with time zone NOT NULL,
    saved_at timestamp with time zone NOT NULL,
    ended_at timestamp with time zone,
    revision bigint
);


--
-- Name: drafts_number_seq; Type: SEQUENCE; Schema: public; Owner: -
--

ALTER TABLE public.drafts ALTER COLUMN number ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.drafts_number_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);


--
-- Name: entities; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.entities (
    name text NOT NULL,
    doc jsonb NOT NULL,
    deleted boolean NOT NULL,
    "position" bigint NOT NULL
);


--
-- Name: grants; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.grants (
    id text NOT NULL,
    doc jsonb NOT NULL,
    "position" bigint NOT NULL
);


--
-- Name: keys; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.keys (
    id text NOT NULL,
    kind text NOT NULL,
    application text,
    name text NOT NULL,
    hash bytea NOT NULL,
    created_at timestamp with time zone NOT NULL,
    until timestamp with time zone,
    ended_at timestamp with time zone,
    detail text DEFAULT 'reason'::text NOT NULL,
    endpoints text[] DEFAULT '{}'::text[] NOT NULL,
    types text[] DEFAULT '{}'::text[] NOT NULL,
    rights jsonb DEFAULT '[]'::jsonb NOT NULL,
    last_used_at timestamp with time zone,
    CONSTRAINT keys_check CHECK (((kind = 'application'::text) = (application IS NOT NULL))),
    CONSTRAINT keys_detail_check CHECK ((detail = ANY (ARRAY['none'::text, 'reason'::text, 'full'::text]))),
    CONSTRAINT keys_kind_check CHECK ((kind = ANY (ARRAY['operator'::text, 'application'::text])))
);


--
-- Name: rehearsal_runs; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.rehearsal_runs (
    number bigint NOT NULL,
    of text NOT NULL,
    author text NOT NULL,
    started_at timestamp with time zone NOT NULL,
    ended_at timestamp with time zone,
    holds boolean,
    words text,
    report jsonb,
    page text,
    junit text
);


--
-- Name: rehearsal_runs_number_seq; Type: SEQUENCE; Schema: public; Owner: -
--

ALTER TABLE public.rehearsal_runs ALTER COLUMN number ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.rehearsal_runs_number_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);


--
-- Name: rehearsal_texts; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.rehearsal_texts (
    number bigint NOT NULL,
    files jsonb NOT NULL,
    author text NOT NULL,
    created_at timestamp with time zone NOT NULL
);


--
-- Name: rehearsal_texts_number_seq; Type: SEQUENCE; Schema: public; Owner: -
--

ALTER TABLE public.rehearsal_texts ALTER COLUMN number ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.rehearsal_texts_number_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);


--
-- Name: revision_files; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.revision_files (
    revision bigint NOT NULL,
    path text NOT NULL,
    content text NOT NULL
);


--
-- Name: revisions; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.revisions (
    number bigint NOT NULL,
    digest bytea NOT NULL,
    title text NOT NULL,
    author text NOT NULL,
    created_at timestamp with time zone NOT NULL
);


--
-- Name: tenant_roles; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.tenant_roles (
    key text NOT NULL,
    doc jsonb NOT NULL,
    "position" bigint NOT NULL
);


--
-- Name: workspace; Type: TABLE; Schema: public; Owner: -
--

CREATE TABLE public.workspace (
    only_row boolean DEFAULT true NOT NULL,
    epoch text NOT NULL,
    "position" bigint DEFAULT 0 NOT NULL,
    live_revision bigint,
    next_grant bigint DEFAULT 1 NOT NULL,
    next_activation bigint DEFAULT 1 NOT NULL,
    CONSTRAINT workspace_only_row_check CHECK (only_row)
);


--
-- Data for Name: _sqlx_migrations; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public._sqlx_migrations VALUES (1, 'first', '2026-11-27 10:57:48.694763+00', true, '\xe7ecf8c830f5111e8082e609e7d303d74b175e54092081cd1b94781151f5f9d621e5e3105cd5b3f010e4d19d3c264f39', 10326800);
INSERT INTO public._sqlx_migrations VALUES (2, 'standby', '2026-11-27 10:57:48.705909+00', true, '\xd26b1258fd39cf61eb7196997c9d3fafe66487cda07c1805598d056d9343fbd4d79f2c2261dcd144444d0dc53260395f', 3241611);
INSERT INTO public._sqlx_migrations VALUES (3, 'many hands', '2026-11-27 10:57:48.709587+00', true, '\xb10594072f2558554a1593853bdcaee18d9442b5fca21a707d5e6febe49c0c173de39dbcf8e9c8834967b911ef8599c5', 5347416);
INSERT INTO public._sqlx_migrations VALUES (4, 'numbers', '2026-11-27 10:57:48.715318+00', true, '\xa6ad5bef43fa3a285e0c2d4a59a9208124b3615fa5d6c99c4d61e3e4514f5db904edc7621d6f18c016b6ff74e75d7cc0', 1904136);
INSERT INTO public._sqlx_migrations VALUES (5, 'samples', '2026-11-27 10:57:48.717573+00', true, '\x091f71fd2586e462432cbe4de0947e5a466f978bdb8276d23c02fbf65d581115db58f5801b34289d3da45582deaede68', 4700595);
INSERT INTO public._sqlx_migrations VALUES (6, 'rehearsals', '2026-11-27 10:57:48.72268+00', true, '\x39756565038e40138334875b803e005883d0b4dc6d4f3fe9c263e5814012da9c9efb68c56f35c8983f0e200fedfe2d2d', 3579607);
INSERT INTO public._sqlx_migrations VALUES (7, 'presence', '2026-11-27 10:57:48.726651+00', true, '\x163b3036935e06e1a9931d0cab782d38cccc91bd93bbd0ad7da94dd687112dd5bb9e474a9553b192029c2adced150cf8', 2869220);


--
-- Data for Name: activations; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public.activations VALUES ('a-1', '{"activation": {"id": "a-1", "from": "2026-11-01T08:00:00Z", "grant": "g-pilot", "until": "2026-11-01T09:00:00Z", "reason": "permit 5531", "session": "s-7", "subject": "user:ines"}}', 3);


--
-- Data for Name: cases; Type: TABLE DATA; Schema: public; Owner: -
--



--
-- Data for Name: change_names; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public.change_names VALUES ('everywhere', 3);
INSERT INTO public.change_names VALUES ('g-1', 3);
INSERT INTO public.change_names VALUES ('g-2', 3);
INSERT INTO public.change_names VALUES ('g-3', 3);
INSERT INTO public.change_names VALUES ('g-4', 3);
INSERT INTO public.change_names VALUES ('g-pilot', 3);
INSERT INTO public.change_names VALUES ('group:duty', 3);
INSERT INTO public.change_names VALUES ('group:night', 3);
INSERT INTO public.change_names VALUES ('service:crane-feed', 3);
INSERT INTO public.change_names VALUES ('tenant:brackwater/eu', 3);
INSERT INTO public.change_names VALUES ('tenant:hallfjord', 3);
INSERT INTO public.change_names VALUES ('tenant:northline', 3);
INSERT INTO public.change_names VALUES ('user:ines', 3);
INSERT INTO public.change_names VALUES ('user:tomas', 3);
INSERT INTO public.change_names VALUES ('vessel:kestrel', 3);
INSERT INTO public.change_names VALUES ('vessel:skua', 3);
INSERT INTO public.change_names VALUES ('voyage:v-10', 3);
INSERT INTO public.change_names VALUES ('voyage:v-9', 3);
INSERT INTO public.change_names VALUES ('user:ines', 4);
INSERT INTO public.change_names VALUES ('user:tomas', 4);
INSERT INTO public.change_names VALUES ('g-brief', 5);
INSERT INTO public.change_names VALUES ('user:passing', 6);
INSERT INTO public.change_names VALUES ('g-3', 7);
INSERT INTO public.change_names VALUES ('vessel:skua', 7);
INSERT INTO public.change_names VALUES ('group:gone-too', 8);
INSERT INTO public.change_names VALUES ('user:gone', 8);
INSERT INTO public.change_names VALUES ('group:gone-too', 9);
INSERT INTO public.change_names VALUES ('user:gone', 9);
INSERT INTO public.change_names VALUES ('g-2', 10);
INSERT INTO public.change_names VALUES ('user:gone', 10);


--
-- Data for Name: changes; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public.changes VALUES (1, '2026-11-27 10:57:48.793692+00', 'the first start', 'key', '[{"key": "k-1baae7ff", "kind": "operator", "name": "first owner", "until": null, "rights": [{"at": "everywhere", "role": "owner"}], "application": null}]');
INSERT INTO public.changes VALUES (2, '2026-11-27 10:57:48.798334+00', 'the first start', 'rollout', '[{"before": null, "digest": "f1011a09e62c869679fe8f6120f5bbb215f0b55f00f5298c5efb3ca46e26cb1f", "rollout": 1}]');
INSERT INTO public.changes VALUES (3, '2026-11-27 10:57:49.189604+00', 'k-1baae7ff', 'register', '[{"entity": "tenant:northline"}, {"entity": "tenant:hallfjord"}, {"entity": "tenant:brackwater/eu"}, {"entity": "user:ines", "tenants": ["northline"], "attributes": {"clearance": 3}}, {"entity": "user:tomas", "tenants": ["northline", "hallfjord"]}, {"entity": "service:crane-feed"}, {"entity": "group:night", "members": ["user:ines"]}, {"entity": "group:duty", "tenant": "northline", "members": ["user:tomas", "group:night"]}, {"entity": "vessel:kestrel", "within": "tenant:northline", "relations": {"keepers": ["user:tomas", "group:night"]}, "attributes": {"names": ["Kestrel", "Old Hawk"], "length": 112.50}}, {"entity": "vessel:skua", "within": "tenant:northline", "relations": {"keepers": [], "escorted-by": ["vessel:kestrel"]}}, {"entity": "voyage:v-9", "within": "vessel:kestrel"}, {"entity": "voyage:v-10", "within": "vessel:skua", "detached": true}, {"tenant-role": {"key": "viewer-plus", "name": "Sees vessels", "tenant": "northline", "permissions": ["vessel:view"]}}, {"grant": {"at": "tenant:northline", "id": "g-1", "to": "group:duty", "role": "planner", "until": "2031-01-01T00:00:00Z"}}, {"grant": {"at": "everywhere", "id": "g-2", "to": "user:tomas", "role": "deckhand"}}, {"grant": {"at": "vessel:kestrel", "id": "g-pilot", "to": "user:ines", "role": "pilot"}}, {"grant": {"at": "vessel:skua", "id": "g-3", "to": "user:tomas", "role": "planner"}}, {"grant": {"at": "vessel:kestrel", "id": "g-4", "to": "user:tomas", "role": "northline/viewer-plus"}}, {"activation": {"id": "a-1", "from": "2026-11-01T08:00:00Z", "grant": "g-pilot", "until": "2026-11-01T09:00:00Z", "reason": "permit 5531", "session": "s-7", "subject": "user:ines"}}]');
INSERT INTO public.changes VALUES (4, '2026-11-27 10:57:49.219372+00', 'k-1baae7ff', 'register', '[{"entity": "user:ines", "tenants": ["northline"], "attributes": {"clearance": 5}}, {"state": "suspended", "entity": "user:tomas", "tenants": ["northline", "hallfjord"]}]');
INSERT INTO public.changes VALUES (5, '2026-11-27 10:57:49.244303+00', 'k-1baae7ff', 'register', '[{"end-grant": "g-brief"}]');
INSERT INTO public.changes VALUES (6, '2026-11-27 10:57:50.393875+00', 'k-1baae7ff', 'register', '[{"delete": "user:passing"}]');
INSERT INTO public.changes VALUES (7, '2026-11-27 10:57:51.422853+00', 'k-1baae7ff', 'register', '[{"end-grant": "g-3"}, {"entity": "vessel:skua", "within": "tenant:hallfjord"}]');
INSERT INTO public.changes VALUES (8, '2026-11-27 10:57:52.448658+00', 'k-1baae7ff', 'register', '[{"entity": "user:gone"}, {"entity": "group:gone-too", "members": ["user:gone"]}]');
INSERT INTO public.changes VALUES (9, '2026-11-27 10:57:52.463829+00', 'k-1baae7ff', 'register', '[{"entity": "group:gone-too"}, {"delete": "user:gone"}]');
INSERT INTO public.changes VALUES (10, '2026-11-27 10:57:52.48094+00', 'k-1baae7ff', 'register', '[{"entity": "user:gone", "attributes": {"clearance": 1}}, {"end-grant": "g-2"}]');
INSERT INTO public.changes VALUES (11, '2026-11-27 10:57:52.499716+00', 'k-1baae7ff', 'key', '[{"key": "k-75d1d6b3", "kind": "application", "name": "customs desk", "until": null, "rights": [], "application": "quay"}]');
INSERT INTO public.changes VALUES (12, '2026-11-27 10:57:52.516947+00', 'k-1baae7ff', 'register', '[{"tenant-role": {"key": "eu/r", "tenant": "brackwater/eu", "permissions": ["voyage:view"]}}]');


--
-- Data for Name: draft_files; Type: TABLE DATA; Schema: public; Owner: -
--



--
-- Data for Name: draft_presence; Type: TABLE DATA; Schema: public; Owner: -
--



--
-- Data for Name: drafts; Type: TABLE DATA; Schema: public; Owner: -
--



--
-- Data for Name: entities; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public.entities VALUES ('tenant:northline', '{"entity": "tenant:northline"}', false, 3);
INSERT INTO public.entities VALUES ('tenant:hallfjord', '{"entity": "tenant:hallfjord"}', false, 3);
INSERT INTO public.entities VALUES ('tenant:brackwater/eu', '{"entity": "tenant:brackwater/eu"}', false, 3);
INSERT INTO public.entities VALUES ('service:crane-feed', '{"entity": "service:crane-feed"}', false, 3);
INSERT INTO public.entities VALUES ('group:night', '{"entity": "group:night", "members": ["user:ines"]}', false, 3);
INSERT INTO public.entities VALUES ('group:duty', '{"entity": "group:duty", "tenant": "northline", "members": ["user:tomas", "group:night"]}', false, 3);
INSERT INTO public.entities VALUES ('vessel:kestrel', '{"entity": "vessel:kestrel", "within": "tenant:northline", "relations": {"keepers": ["user:tomas", "group:night"]}, "attributes": {"names": ["Kestrel", "Old Hawk"], "length": 112.50}}', false, 3);
INSERT INTO public.entities VALUES ('voyage:v-9', '{"entity": "voyage:v-9", "within": "vessel:kestrel"}', false, 3);
INSERT INTO public.entities VALUES ('voyage:v-10', '{"entity": "voyage:v-10", "within": "vessel:skua", "detached": true}', false, 3);
INSERT INTO public.entities VALUES ('user:ines', '{"entity": "user:ines", "tenants": ["northline"], "attributes": {"clearance": 5}}', false, 4);
INSERT INTO public.entities VALUES ('user:tomas', '{"state": "suspended", "entity": "user:tomas", "tenants": ["northline", "hallfjord"]}', false, 4);
INSERT INTO public.entities VALUES ('vessel:skua', '{"entity": "vessel:skua", "within": "tenant:hallfjord"}', false, 7);
INSERT INTO public.entities VALUES ('group:gone-too', '{"entity": "group:gone-too"}', false, 9);
INSERT INTO public.entities VALUES ('user:gone', '{"entity": "user:gone", "attributes": {"clearance": 1}}', false, 10);


--
-- Data for Name: grants; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public.grants VALUES ('g-1', '{"grant": {"at": "tenant:northline", "id": "g-1", "to": "group:duty", "role": "planner", "until": "2031-01-01T00:00:00Z"}}', 3);
INSERT INTO public.grants VALUES ('g-pilot', '{"grant": {"at": "vessel:kestrel", "id": "g-pilot", "to": "user:ines", "role": "pilot"}}', 3);
INSERT INTO public.grants VALUES ('g-4', '{"grant": {"at": "vessel:kestrel", "id": "g-4", "to": "user:tomas", "role": "northline/viewer-plus"}}', 3);


--
-- Data for Name: keys; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public.keys VALUES ('k-1baae7ff', 'operator', NULL, 'first owner', '\x187ee4b80d4452e55780e51c6c6aee78a7463e1b4b62ce20f7a936883634770d', '2026-11-27 10:57:48.793692+00', NULL, NULL, 'full', '{}', '{}', '[{"at": "everywhere", "role": "owner"}]', NULL);
INSERT INTO public.keys VALUES ('k-75d1d6b3', 'application', 'quay', 'customs desk', '\x57c14ddb4b111bb3ffc1e4c358bcdad09f8e9bdc25e1ca72c87dab6eb7717a5f', '2026-11-27 10:57:52.499716+00', NULL, NULL, 'reason', '{}', '{}', '[]', NULL);


--
-- Data for Name: rehearsal_runs; Type: TABLE DATA; Schema: public; Owner: -
--



--
-- Data for Name: rehearsal_texts; Type: TABLE DATA; Schema: public; Owner: -
--



--
-- Data for Name: revision_files; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public.revision_files VALUES (1, 'quay.toml', '[charter]
name = "A small port"
format = 1

[application.quay]

[resource.vessel]
application = "quay"
within = "tenant"
actions = { view = "See it", moor = "Bring it alongside" }

[resource.vessel.attributes]
length = "decimal"
names = { type = "text", many = true }

[resource.vessel.relations]
escorted-by = "vessel"
keepers = { to = ["user", "group"], many = true }

[resource.voyage]
application = "quay"
within = "vessel"
actions = { view = "See the schedule", plan = "Change it" }

[subject.user.attributes]
clearance = "integer"

[role.deckhand]
permissions = ["vessel:view", "voyage:view"]

[role.planner]
includes = ["deckhand"]
permissions = ["voyage:plan"]

[role.pilot]
permissions = ["vessel:moor"]
standby = { longest = "2h", reason = true, self = true }

[[tenant-roles.clause]]
permissions = ["voyage:view", "vessel:view"]
');


--
-- Data for Name: revisions; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public.revisions VALUES (1, '\xf1011a09e62c869679fe8f6120f5bbb215f0b55f00f5298c5efb3ca46e26cb1f', 'First charter, from /tmp/old/charter', 'the first start', '2026-11-27 10:57:48.798334+00');


--
-- Data for Name: tenant_roles; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public.tenant_roles VALUES ('northline/viewer-plus', '{"tenant-role": {"key": "viewer-plus", "name": "Sees vessels", "tenant": "northline", "permissions": ["vessel:view"]}}', 3);
INSERT INTO public.tenant_roles VALUES ('brackwater/eu/eu/r', '{"tenant-role": {"key": "eu/r", "tenant": "brackwater/eu", "permissions": ["voyage:view"]}}', 12);


--
-- Data for Name: workspace; Type: TABLE DATA; Schema: public; Owner: -
--

INSERT INTO public.workspace VALUES (true, 'b7b18239241e', 12, 1, 5, 2);


--
-- Name: cases_number_seq; Type: SEQUENCE SET; Schema: public; Owner: -
--

SELECT pg_catalog.setval('public.cases_number_seq', 1, false);


--
-- Name: drafts_number_seq; Type: SEQUENCE SET; Schema: public; Owner: -
--

SELECT pg_catalog.setval('public.drafts_number_seq', 1, false);


--
-- Name: rehearsal_runs_number_seq; Type: SEQUENCE SET; Schema: public; Owner: -
--

SELECT pg_catalog.setval('public.rehearsal_runs_number_seq', 1, false);


--
-- Name: rehearsal_texts_number_seq; Type: SEQUENCE SET; Schema: public; Owner: -
--

SELECT pg_catalog.setval('public.rehearsal_texts_number_seq', 1, false);


--
-- Name: _sqlx_migrations _sqlx_migrations_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public._sqlx_migrations
    ADD CONSTRAINT _sqlx_migrations_pkey PRIMARY KEY (version);


--
-- Name: activations activations_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.activations
    ADD CONSTRAINT activations_pkey PRIMARY KEY (id);


--
-- Name: cases cases_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.cases
    ADD CONSTRAINT cases_pkey PRIMARY KEY (number);


--
-- Name: change_names change_names_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.change_names
    ADD CONSTRAINT change_names_pkey PRIMARY KEY (name, "position");


--
-- Name: changes changes_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.changes
    ADD CONSTRAINT changes_pkey PRIMARY KEY ("position");


--
-- Name: draft_files draft_files_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.draft_files
    ADD CONSTRAINT draft_files_pkey PRIMARY KEY (draft, path);


--
-- Name: draft_presence draft_presence_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.draft_presence
    ADD CONSTRAINT draft_presence_pkey PRIMARY KEY (draft, key);


--
-- Name: drafts drafts_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.drafts
    ADD CONSTRAINT drafts_pkey PRIMARY KEY (number);


--
-- Name: entities entities_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.entities
    ADD CONSTRAINT entities_pkey PRIMARY KEY (name);


--
-- Name: grants grants_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.grants
    ADD CONSTRAINT grants_pkey PRIMARY KEY (id);


--
-- Name: keys keys_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.keys
    ADD CONSTRAINT keys_pkey PRIMARY KEY (id);


--
-- Name: rehearsal_runs rehearsal_runs_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.rehearsal_runs
    ADD CONSTRAINT rehearsal_runs_pkey PRIMARY KEY (number);


--
-- Name: rehearsal_texts rehearsal_texts_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.rehearsal_texts
    ADD CONSTRAINT rehearsal_texts_pkey PRIMARY KEY (number);


--
-- Name: revision_files revision_files_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.revision_files
    ADD CONSTRAINT revision_files_pkey PRIMARY KEY (revision, path);


--
-- Name: revisions revisions_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.revisions
    ADD CONSTRAINT revisions_pkey PRIMARY KEY (number);


--
-- Name: tenant_roles tenant_roles_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.tenant_roles
    ADD CONSTRAINT tenant_roles_pkey PRIMARY KEY (key);


--
-- Name: workspace workspace_pkey; Type: CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.workspace
    ADD CONSTRAINT workspace_pkey PRIMARY KEY (only_row);


--
-- Name: change_names change_names_position_fkey; Type: FK CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.change_names
    ADD CONSTRAINT change_names_position_fkey FOREIGN KEY ("position") REFERENCES public.changes("position");


--
-- Name: draft_files draft_files_draft_fkey; Type: FK CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.draft_files
    ADD CONSTRAINT draft_files_draft_fkey FOREIGN KEY (draft) REFERENCES public.drafts(number);


--
-- Name: draft_presence draft_presence_draft_fkey; Type: FK CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.draft_presence
    ADD CONSTRAINT draft_presence_draft_fkey FOREIGN KEY (draft) REFERENCES public.drafts(number);


--
-- Name: draft_presence draft_presence_key_fkey; Type: FK CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.draft_presence
    ADD CONSTRAINT draft_presence_key_fkey FOREIGN KEY (key) REFERENCES public.keys(id);


--
-- Name: drafts drafts_base_fkey; Type: FK CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.drafts
    ADD CONSTRAINT drafts_base_fkey FOREIGN KEY (base) REFERENCES public.revisions(number);


--
-- Name: drafts drafts_revision_fkey; Type: FK CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.drafts
    ADD CONSTRAINT drafts_revision_fkey FOREIGN KEY (revision) REFERENCES public.revisions(number);


--
-- Name: revision_files revision_files_revision_fkey; Type: FK CONSTRAINT; Schema: public; Owner: -
--

ALTER TABLE ONLY public.revision_files
    ADD CONSTRAINT revision_files_revision_fkey FOREIGN KEY (revision) REFERENCES public.revisions(number);


--
-- PostgreSQL database dump complete
--

\unrestrict AAQYZ2LIS8Inmp9t4oIVBa9LqsxolPuyyjVH83BfVci3HLPVsYwfKnS7IJpUd7x

