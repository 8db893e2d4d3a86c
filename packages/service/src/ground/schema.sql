-- The records' tables as all migrations make them. Written by TESSARION_WRITE_SCHEMA=1 npx vitest run
-- packages/service/test/schema.test.ts, which holds this file to the migrations; nothing reads it.

CREATE TABLE baseline (
  lower text NOT NULL,
  upper text NOT NULL,
  lower_manifest text,
  upper_manifest text,
  left_out jsonb NOT NULL,
  created_at timestamp with time zone NOT NULL,
  spool jsonb,
  derived boolean DEFAULT false NOT NULL,
  CONSTRAINT baseline_pkey PRIMARY KEY (lower, upper)
);

CREATE TABLE calendar (
  person_id text NOT NULL,
  hash text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  CONSTRAINT calendar_pkey PRIMARY KEY (person_id),
  CONSTRAINT calendar_hash_unique UNIQUE (hash),
  CONSTRAINT calendar_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE
);

CREATE TABLE change_request (
  id text NOT NULL,
  site text NOT NULL,
  from_path text NOT NULL,
  onto_path text NOT NULL,
  title text NOT NULL,
  description text NOT NULL,
  state text NOT NULL,
  author text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  updated_at timestamp with time zone NOT NULL,
  revision integer NOT NULL,
  forecast text NOT NULL,
  revising text,
  deliver_at timestamp with time zone,
  deliverer text,
  override text,
  transfer text,
  because text,
  urgent text,
  undoes text,
  idle_warned_at timestamp with time zone,
  wanted_for text,
  looked_at timestamp with time zone,
  CONSTRAINT change_request_pkey PRIMARY KEY (id),
  CONSTRAINT change_request_author_foreign FOREIGN KEY (author) REFERENCES person(id),
  CONSTRAINT change_request_deliverer_foreign FOREIGN KEY (deliverer) REFERENCES person(id),
  CONSTRAINT change_request_undoes_foreign FOREIGN KEY (undoes) REFERENCES transfer(id)
);
CREATE INDEX change_request_author_created_at_id_index ON public.change_request USING btree (author, created_at, id);
CREATE INDEX change_request_created_at_id_index ON public.change_request USING btree (created_at, id);
CREATE INDEX change_request_onto_path_index ON public.change_request USING btree (onto_path);
CREATE INDEX change_request_site_index ON public.change_request USING btree (site);
CREATE INDEX change_request_state_created_at_id_index ON public.change_request USING btree (state, created_at, id);
CREATE INDEX change_request_undoes_index ON public.change_request USING btree (undoes);

CREATE TABLE claim (
  onto_path text NOT NULL,
  item text NOT NULL,
  request_id text NOT NULL,
  place bigint GENERATED ALWAYS AS IDENTITY NOT NULL,
  asked_at timestamp with time zone,
  CONSTRAINT claim_pkey PRIMARY KEY (onto_path, item, request_id),
  CONSTRAINT claim_request_id_foreign FOREIGN KEY (request_id) REFERENCES change_request(id) ON DELETE CASCADE
);
CREATE INDEX claim_request_id_index ON public.claim USING btree (request_id);

CREATE TABLE delivery_window (
  site text NOT NULL,
  "position" integer NOT NULL,
  days jsonb NOT NULL,
  "from" text NOT NULL,
  until text NOT NULL,
  CONSTRAINT delivery_window_pkey PRIMARY KEY (site, "position"),
  CONSTRAINT delivery_window_site_foreign FOREIGN KEY (site) REFERENCES site(name) ON DELETE CASCADE
);

CREATE TABLE environment (
  path text NOT NULL,
  site text NOT NULL,
  name text NOT NULL,
  kind text NOT NULL,
  status text NOT NULL,
  server text NOT NULL,
  folder text NOT NULL,
  addresses jsonb NOT NULL,
  roots jsonb NOT NULL,
  databases text NOT NULL,
  settings text NOT NULL,
  gate text,
  made_from text,
  made_at timestamp with time zone NOT NULL,
  refreshed_at timestamp with time zone,
  size jsonb,
  drift jsonb,
  epoch integer DEFAULT 0 NOT NULL,
  unreached jsonb,
  looked_at timestamp with time zone,
  description text,
  schedule jsonb,
  preview jsonb,
  foreign_origin text,
  CONSTRAINT environment_pkey PRIMARY KEY (path),
  CONSTRAINT environment_server_foreign FOREIGN KEY (server) REFERENCES server(name),
  CONSTRAINT environment_site_foreign FOREIGN KEY (site) REFERENCES site(name)
);

CREATE TABLE event (
  id bigint GENERATED ALWAYS AS IDENTITY NOT NULL,
  at timestamp with time zone NOT NULL,
  data jsonb NOT NULL,
  CONSTRAINT event_pkey PRIMARY KEY (id)
);

CREATE TABLE forecast (
  id text NOT NULL,
  state text NOT NULL,
  from_path text NOT NULL,
  onto_path text NOT NULL,
  snapshot text,
  person text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  failure jsonb,
  result jsonb,
  method text DEFAULT 'merge'::text NOT NULL,
  wishes jsonb DEFAULT '{"only": [], "rest": null, "except": [], "settlements": {}}'::jsonb NOT NULL,
  undoes text,
  request text,
  request_by text,
  follows boolean DEFAULT false NOT NULL,
  person_id text,
  tries integer DEFAULT 0 NOT NULL,
  kept_by integer,
  CONSTRAINT forecast_pkey PRIMARY KEY (id)
);
CREATE INDEX forecast_person_id_index ON public.forecast USING btree (person_id);

CREATE TABLE forecast_item (
  forecast_id text NOT NULL,
  "position" integer NOT NULL,
  item jsonb NOT NULL,
  fields text,
  CONSTRAINT forecast_item_pkey PRIMARY KEY (forecast_id, "position"),
  CONSTRAINT forecast_item_forecast_id_foreign FOREIGN KEY (forecast_id) REFERENCES forecast(id) ON DELETE CASCADE
);

CREATE TABLE freeze (
  id text NOT NULL,
  reason text NOT NULL,
  scope text NOT NULL,
  "time" jsonb NOT NULL,
  person_id text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  CONSTRAINT freeze_pkey PRIMARY KEY (id),
  CONSTRAINT freeze_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id)
);

CREATE TABLE guest_link (
  id text NOT NULL,
  site text NOT NULL,
  name text NOT NULL,
  mail text,
  words text NOT NULL,
  passcode_hash text,
  person_id text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  expires_at timestamp with time zone NOT NULL,
  ended_at timestamp with time zone,
  last_seen_at timestamp with time zone,
  choice integer,
  chosen_at timestamp with time zone,
  CONSTRAINT guest_link_pkey PRIMARY KEY (id),
  CONSTRAINT guest_link_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id),
  CONSTRAINT guest_link_site_foreign FOREIGN KEY (site) REFERENCES site(name) ON DELETE CASCADE
);
CREATE INDEX guest_link_site_index ON public.guest_link USING btree (site);

CREATE TABLE guest_look (
  link_id text NOT NULL,
  "position" integer NOT NULL,
  title text NOT NULL,
  request_id text,
  environment text,
  CONSTRAINT guest_look_pkey PRIMARY KEY (link_id, "position"),
  CONSTRAINT guest_look_check CHECK (((request_id IS NULL) <> (environment IS NULL))),
  CONSTRAINT guest_look_link_id_foreign FOREIGN KEY (link_id) REFERENCES guest_link(id) ON DELETE CASCADE,
  CONSTRAINT guest_look_request_id_foreign FOREIGN KEY (request_id) REFERENCES change_request(id) ON DELETE CASCADE
);
CREATE INDEX guest_look_environment_index ON public.guest_look USING btree (environment);
CREATE INDEX guest_look_request_id_index ON public.guest_look USING btree (request_id);

CREATE TABLE guest_word (
  id text NOT NULL,
  link_id text NOT NULL,
  "position" integer NOT NULL,
  thread text NOT NULL,
  person_id text,
  text text NOT NULL,
  at timestamp with time zone NOT NULL,
  CONSTRAINT guest_word_pkey PRIMARY KEY (id),
  CONSTRAINT guest_word_link_id_foreign FOREIGN KEY (link_id) REFERENCES guest_link(id) ON DELETE CASCADE,
  CONSTRAINT guest_word_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id)
);
CREATE INDEX guest_word_link_id_at_id_index ON public.guest_word USING btree (link_id, at, id);

CREATE TABLE idempotency (
  key text NOT NULL,
  person text NOT NULL,
  request text NOT NULL,
  status integer NOT NULL,
  response text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  run text NOT NULL,
  CONSTRAINT idempotency_pkey PRIMARY KEY (key, person)
);

CREATE TABLE identity (
  issuer text NOT NULL,
  subject text NOT NULL,
  person_id text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  CONSTRAINT identity_pkey PRIMARY KEY (issuer, subject),
  CONSTRAINT identity_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE
);
CREATE INDEX identity_person_id_index ON public.identity USING btree (person_id);

CREATE TABLE installation (
  name text NOT NULL,
  value text NOT NULL,
  CONSTRAINT installation_pkey PRIMARY KEY (name)
);

CREATE TABLE invitation (
  hash text NOT NULL,
  person_id text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  expires_at timestamp with time zone NOT NULL,
  CONSTRAINT invitation_pkey PRIMARY KEY (hash),
  CONSTRAINT invitation_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE
);

CREATE TABLE journal_entry (
  id text NOT NULL,
  at timestamp with time zone NOT NULL,
  actor text NOT NULL,
  act text NOT NULL,
  outcome text NOT NULL,
  thing text NOT NULL,
  details text NOT NULL,
  side text NOT NULL,
  stamp text NOT NULL,
  "position" bigint,
  seal text,
  is_foreign boolean DEFAULT false NOT NULL,
  CONSTRAINT journal_entry_pkey PRIMARY KEY (id),
  CONSTRAINT journal_entry_position_unique UNIQUE ("position")
);
CREATE INDEX journal_entry_act_at_id_index ON public.journal_entry USING btree (act, at, id);
CREATE INDEX journal_entry_actor_at_id_index ON public.journal_entry USING btree (actor, at, id);
CREATE INDEX journal_entry_at_id_index ON public.journal_entry USING btree (at, id);
CREATE INDEX journal_entry_thing_at_id_index ON public.journal_entry USING btree (thing, at, id);
CREATE INDEX journal_unsealed ON public.journal_entry USING btree (at, id) WHERE (("position" IS NULL) AND (NOT is_foreign));

CREATE TABLE journal_side (
  entry_id text NOT NULL,
  person_id text,
  salt text NOT NULL,
  text text NOT NULL,
  CONSTRAINT journal_side_pkey PRIMARY KEY (entry_id)
);
CREATE INDEX journal_side_person_id_index ON public.journal_side USING btree (person_id);

CREATE TABLE lane_rule (
  site text NOT NULL,
  onto text NOT NULL,
  approvals integer NOT NULL,
  teams jsonb NOT NULL,
  threads_block boolean NOT NULL,
  guests integer DEFAULT 0 NOT NULL,
  CONSTRAINT lane_rule_pkey PRIMARY KEY (site, onto),
  CONSTRAINT lane_rule_site_foreign FOREIGN KEY (site) REFERENCES site(name) ON DELETE CASCADE
);

CREATE TABLE letter (
  id text NOT NULL,
  content text NOT NULL,
  at timestamp with time zone NOT NULL,
  due_at timestamp with time zone NOT NULL,
  tries integer DEFAULT 0 NOT NULL,
  problem text,
  CONSTRAINT letter_pkey PRIMARY KEY (id)
);
CREATE INDEX letter_due_at_index ON public.letter USING btree (due_at);

CREATE TABLE measure (
  environment text NOT NULL,
  day date NOT NULL,
  up integer,
  down integer,
  bytes bigint,
  CONSTRAINT measure_pkey PRIMARY KEY (environment, day),
  CONSTRAINT measure_environment_foreign FOREIGN KEY (environment) REFERENCES environment(path) ON UPDATE CASCADE ON DELETE CASCADE
);

CREATE TABLE notice (
  id text NOT NULL,
  person_id text NOT NULL,
  kind text NOT NULL,
  request_id text,
  by text,
  words text NOT NULL,
  item text,
  at timestamp with time zone NOT NULL,
  seen_at timestamp with time zone,
  mail_due_at timestamp with time zone,
  mailed_at timestamp with time zone,
  mail_tries integer DEFAULT 0 NOT NULL,
  mail_problem text,
  is_digest boolean DEFAULT false NOT NULL,
  guest_id text,
  environment text,
  transfer_id text,
  CONSTRAINT notice_pkey PRIMARY KEY (id),
  CONSTRAINT notice_by_foreign FOREIGN KEY (by) REFERENCES person(id),
  CONSTRAINT notice_guest_id_foreign FOREIGN KEY (guest_id) REFERENCES guest_link(id) ON DELETE CASCADE,
  CONSTRAINT notice_is_about_one CHECK ((num_nonnulls(request_id, guest_id, transfer_id) =
CASE
    WHEN ((guest_id IS NULL) AND (environment IS NOT NULL)) THEN 0
    ELSE 1
END)),
  CONSTRAINT notice_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE,
  CONSTRAINT notice_request_id_foreign FOREIGN KEY (request_id) REFERENCES change_request(id) ON DELETE CASCADE,
  CONSTRAINT notice_transfer_id_foreign FOREIGN KEY (transfer_id) REFERENCES transfer(id) ON DELETE CASCADE
);
CREATE INDEX notice_person_id_at_id_index ON public.notice USING btree (person_id, at, id);
CREATE INDEX notice_to_mail ON public.notice USING btree (mail_due_at) WHERE ((mailed_at IS NULL) AND (mail_due_at IS NOT NULL));

CREATE TABLE notice_wish (
  person_id text NOT NULL,
  kind text NOT NULL,
  mail text NOT NULL,
  CONSTRAINT notice_wish_pkey PRIMARY KEY (person_id, kind),
  CONSTRAINT notice_wish_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE
);

CREATE TABLE person (
  id text NOT NULL,
  name text NOT NULL,
  mail text NOT NULL,
  password_hash text,
  created_at timestamp with time zone NOT NULL,
  state text DEFAULT 'active'::text NOT NULL,
  last_seen_at timestamp with time zone,
  digest_at text DEFAULT '06:00'::text NOT NULL,
  digest_zone text DEFAULT 'UTC'::text NOT NULL,
  CONSTRAINT person_pkey PRIMARY KEY (id),
  CONSTRAINT person_mail_unique UNIQUE (mail)
);

CREATE TABLE profile (
  name text NOT NULL,
  version integer NOT NULL,
  title text NOT NULL,
  text text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  person text NOT NULL,
  person_id text,
  CONSTRAINT profile_pkey PRIMARY KEY (name, version)
);
CREATE INDEX profile_person_id_index ON public.profile USING btree (person_id);

CREATE TABLE recovery_code (
  person_id text NOT NULL,
  hash text NOT NULL,
  CONSTRAINT recovery_code_pkey PRIMARY KEY (person_id, hash),
  CONSTRAINT recovery_code_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE
);

CREATE TABLE request_comment (
  id text NOT NULL,
  request_id text NOT NULL,
  thread text NOT NULL,
  item text,
  field text,
  revision integer NOT NULL,
  person_id text,
  text text NOT NULL,
  at timestamp with time zone NOT NULL,
  edited_at timestamp with time zone,
  removed_at timestamp with time zone,
  former jsonb DEFAULT '[]'::jsonb NOT NULL,
  resolved_at timestamp with time zone,
  resolved_by text,
  guest text,
  CONSTRAINT request_comment_pkey PRIMARY KEY (id),
  CONSTRAINT request_comment_author CHECK (((person_id IS NULL) <> (guest IS NULL))),
  CONSTRAINT request_comment_guest_foreign FOREIGN KEY (guest) REFERENCES guest_link(id),
  CONSTRAINT request_comment_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id),
  CONSTRAINT request_comment_request_id_foreign FOREIGN KEY (request_id) REFERENCES change_request(id) ON DELETE CASCADE,
  CONSTRAINT request_comment_resolved_by_foreign FOREIGN KEY (resolved_by) REFERENCES person(id)
);
CREATE INDEX request_comment_request_id_index ON public.request_comment USING btree (request_id);

CREATE TABLE request_event (
  id bigint GENERATED ALWAYS AS IDENTITY NOT NULL,
  request_id text NOT NULL,
  at timestamp with time zone NOT NULL,
  person_id text,
  act text NOT NULL,
  words text NOT NULL,
  guest text,
  CONSTRAINT request_event_pkey PRIMARY KEY (id),
  CONSTRAINT request_event_guest_foreign FOREIGN KEY (guest) REFERENCES guest_link(id),
  CONSTRAINT request_event_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id),
  CONSTRAINT request_event_request_id_foreign FOREIGN KEY (request_id) REFERENCES change_request(id) ON DELETE CASCADE
);
CREATE INDEX request_event_request_id_index ON public.request_event USING btree (request_id);

CREATE TABLE request_reviewer (
  request_id text NOT NULL,
  person_id text,
  team text,
  CONSTRAINT request_reviewer_check CHECK (((person_id IS NULL) <> (team IS NULL))),
  CONSTRAINT request_reviewer_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id),
  CONSTRAINT request_reviewer_request_id_foreign FOREIGN KEY (request_id) REFERENCES change_request(id) ON DELETE CASCADE,
  CONSTRAINT request_reviewer_team_foreign FOREIGN KEY (team) REFERENCES team(name) ON DELETE CASCADE
);
CREATE INDEX request_reviewer_person_id_index ON public.request_reviewer USING btree (person_id);
CREATE INDEX request_reviewer_request_id_index ON public.request_reviewer USING btree (request_id);
CREATE INDEX request_reviewer_team_index ON public.request_reviewer USING btree (team);

CREATE TABLE request_revision (
  request_id text NOT NULL,
  number integer NOT NULL,
  forecast text NOT NULL,
  at timestamp with time zone NOT NULL,
  person_id text NOT NULL,
  items jsonb NOT NULL,
  CONSTRAINT request_revision_pkey PRIMARY KEY (request_id, number),
  CONSTRAINT request_revision_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id),
  CONSTRAINT request_revision_request_id_foreign FOREIGN KEY (request_id) REFERENCES change_request(id) ON DELETE CASCADE
);

CREATE TABLE request_seen (
  request_id text NOT NULL,
  person_id text NOT NULL,
  item text NOT NULL,
  hash text NOT NULL,
  CONSTRAINT request_seen_pkey PRIMARY KEY (request_id, person_id, item),
  CONSTRAINT request_seen_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id),
  CONSTRAINT request_seen_request_id_foreign FOREIGN KEY (request_id) REFERENCES change_request(id) ON DELETE CASCADE
);

CREATE TABLE request_step (
  id text NOT NULL,
  request_id text NOT NULL,
  "position" integer NOT NULL,
  phase text NOT NULL,
  text text NOT NULL,
  done_by text,
  done_at timestamp with time zone,
  CONSTRAINT request_step_pkey PRIMARY KEY (id),
  CONSTRAINT request_step_done_by_foreign FOREIGN KEY (done_by) REFERENCES person(id),
  CONSTRAINT request_step_request_id_foreign FOREIGN KEY (request_id) REFERENCES change_request(id) ON DELETE CASCADE
);
CREATE INDEX request_step_request_id_index ON public.request_step USING btree (request_id);

CREATE TABLE request_verdict (
  id bigint GENERATED ALWAYS AS IDENTITY NOT NULL,
  request_id text NOT NULL,
  person_id text,
  says text NOT NULL,
  words text NOT NULL,
  revision integer NOT NULL,
  at timestamp with time zone NOT NULL,
  is_answered boolean DEFAULT false NOT NULL,
  guest text,
  CONSTRAINT request_verdict_pkey PRIMARY KEY (id),
  CONSTRAINT request_verdict_author CHECK (((person_id IS NULL) <> (guest IS NULL))),
  CONSTRAINT request_verdict_guest_foreign FOREIGN KEY (guest) REFERENCES guest_link(id),
  CONSTRAINT request_verdict_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id),
  CONSTRAINT request_verdict_request_id_foreign FOREIGN KEY (request_id) REFERENCES change_request(id) ON DELETE CASCADE
);
CREATE INDEX request_verdict_request_id_guest_index ON public.request_verdict USING btree (request_id, guest);
CREATE INDEX request_verdict_request_id_index ON public.request_verdict USING btree (request_id);

CREATE TABLE role (
  name text NOT NULL,
  title text NOT NULL,
  permissions jsonb NOT NULL,
  CONSTRAINT role_pkey PRIMARY KEY (name)
);

CREATE TABLE role_grant (
  id text NOT NULL,
  person_id text,
  team text,
  role text NOT NULL,
  scope text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  CONSTRAINT role_grant_pkey PRIMARY KEY (id),
  CONSTRAINT role_grant_check CHECK (((person_id IS NULL) <> (team IS NULL))),
  CONSTRAINT role_grant_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE,
  CONSTRAINT role_grant_person_id_team_role_scope_unique UNIQUE (person_id, team, role, scope),
  CONSTRAINT role_grant_team_foreign FOREIGN KEY (team) REFERENCES team(name) ON DELETE CASCADE
);
CREATE INDEX role_grant_person_id_index ON public.role_grant USING btree (person_id);
CREATE INDEX role_grant_team_index ON public.role_grant USING btree (team);

CREATE TABLE saved_view (
  id text NOT NULL,
  person_id text NOT NULL,
  room text NOT NULL,
  name text NOT NULL,
  query text NOT NULL,
  CONSTRAINT saved_view_pkey PRIMARY KEY (id),
  CONSTRAINT saved_view_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE,
  CONSTRAINT saved_view_person_id_room_name_unique UNIQUE (person_id, room, name)
);

CREATE TABLE second_factor (
  person_id text NOT NULL,
  secret text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  confirmed_at timestamp with time zone,
  last_step bigint DEFAULT '0'::bigint NOT NULL,
  CONSTRAINT second_factor_pkey PRIMARY KEY (person_id),
  CONSTRAINT second_factor_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE
);

CREATE TABLE server (
  name text NOT NULL,
  machine text NOT NULL,
  folder text NOT NULL,
  base_domain text NOT NULL,
  web_host jsonb NOT NULL,
  database jsonb NOT NULL,
  database_password text NOT NULL,
  ssh jsonb,
  ssh_key text,
  CONSTRAINT server_pkey PRIMARY KEY (name)
);

CREATE TABLE session (
  hash text NOT NULL,
  person_id text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  expires_at timestamp with time zone NOT NULL,
  id text NOT NULL,
  last_seen_at timestamp with time zone,
  address text,
  CONSTRAINT session_pkey PRIMARY KEY (hash),
  CONSTRAINT session_id_unique UNIQUE (id),
  CONSTRAINT session_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE
);

CREATE TABLE site (
  name text NOT NULL,
  client text NOT NULL,
  time_zone text NOT NULL,
  profile text,
  server text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  "position" bigint GENERATED ALWAYS AS IDENTITY NOT NULL,
  tags jsonb DEFAULT '[]'::jsonb NOT NULL,
  CONSTRAINT site_pkey PRIMARY KEY (name),
  CONSTRAINT site_server_foreign FOREIGN KEY (server) REFERENCES server(name)
);

CREATE TABLE snapshot (
  id text NOT NULL,
  site text NOT NULL,
  environment text NOT NULL,
  kind text NOT NULL,
  taken_at timestamp with time zone NOT NULL,
  reason text NOT NULL,
  files bigint NOT NULL,
  rows bigint NOT NULL,
  bytes bigint NOT NULL,
  added_bytes bigint NOT NULL,
  verified_at timestamp with time zone,
  damage jsonb DEFAULT '[]'::jsonb NOT NULL,
  CONSTRAINT snapshot_pkey PRIMARY KEY (id)
);
CREATE INDEX snapshot_site_index ON public.snapshot USING btree (site);

CREATE TABLE team (
  name text NOT NULL,
  title text NOT NULL,
  CONSTRAINT team_pkey PRIMARY KEY (name)
);

CREATE TABLE team_member (
  team text NOT NULL,
  person_id text NOT NULL,
  CONSTRAINT team_member_pkey PRIMARY KEY (team, person_id),
  CONSTRAINT team_member_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE,
  CONSTRAINT team_member_team_foreign FOREIGN KEY (team) REFERENCES team(name) ON DELETE CASCADE
);

CREATE TABLE token (
  id text NOT NULL,
  person_id text NOT NULL,
  name text NOT NULL,
  hash text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  expires_at timestamp with time zone,
  last_used_at timestamp with time zone,
  permissions jsonb,
  scope text DEFAULT 'everything'::text NOT NULL,
  CONSTRAINT token_pkey PRIMARY KEY (id),
  CONSTRAINT token_hash_unique UNIQUE (hash),
  CONSTRAINT token_person_id_foreign FOREIGN KEY (person_id) REFERENCES person(id) ON DELETE CASCADE
);

CREATE TABLE traffic_hour (
  environment text NOT NULL,
  at timestamp with time zone NOT NULL,
  requests bigint NOT NULL,
  CONSTRAINT traffic_hour_pkey PRIMARY KEY (environment, at)
);

CREATE TABLE transfer (
  id text NOT NULL,
  kind text NOT NULL,
  state text NOT NULL,
  from_path text,
  onto_path text NOT NULL,
  site text NOT NULL,
  sentence jsonb NOT NULL,
  person text NOT NULL,
  created_at timestamp with time zone NOT NULL,
  started_at timestamp with time zone,
  ended_at timestamp with time zone,
  progress jsonb,
  failure jsonb,
  undo_of text,
  undone_by text,
  acknowledged boolean DEFAULT false NOT NULL,
  stop_asked boolean DEFAULT false NOT NULL,
  input text NOT NULL,
  data text NOT NULL,
  checks jsonb DEFAULT '[]'::jsonb NOT NULL,
  warnings jsonb DEFAULT '[]'::jsonb NOT NULL,
  written jsonb DEFAULT '[]'::jsonb NOT NULL,
  items jsonb DEFAULT '[]'::jsonb NOT NULL,
  remains jsonb DEFAULT '[]'::jsonb NOT NULL,
  totals jsonb DEFAULT '{"rows": 0, "bytes": 0, "files": 0}'::jsonb NOT NULL,
  forecast text,
  worker text,
  proof jsonb DEFAULT '[]'::jsonb NOT NULL,
  request text,
  urgent text,
  override text,
  person_id text,
  CONSTRAINT transfer_pkey PRIMARY KEY (id)
);
CREATE INDEX transfer_created_at_index ON public.transfer USING btree (created_at);
CREATE INDEX transfer_onto_path_index ON public.transfer USING btree (onto_path);
CREATE INDEX transfer_person_id_index ON public.transfer USING btree (person_id);
CREATE INDEX transfer_site_created_at_index ON public.transfer USING btree (site, created_at);
CREATE INDEX transfer_site_index ON public.transfer USING btree (site);
CREATE INDEX transfer_state_index ON public.transfer USING btree (state);

CREATE TABLE transfer_item (
  transfer_id text NOT NULL,
  onto_path text NOT NULL,
  item text NOT NULL,
  source_item text NOT NULL,
  kind text NOT NULL,
  title text NOT NULL,
  change text NOT NULL,
  former_title text,
  CONSTRAINT transfer_item_transfer_id_foreign FOREIGN KEY (transfer_id) REFERENCES transfer(id) ON DELETE CASCADE
);
CREATE INDEX transfer_item_former_title ON public.transfer_item USING btree (onto_path, lower(former_title));
CREATE INDEX transfer_item_onto_path_item_index ON public.transfer_item USING btree (onto_path, item);
CREATE INDEX transfer_item_title ON public.transfer_item USING btree (onto_path, lower(title));
CREATE INDEX transfer_item_transfer_id_index ON public.transfer_item USING btree (transfer_id);

CREATE TABLE transfer_log (
  id bigint GENERATED ALWAYS AS IDENTITY NOT NULL,
  transfer_id text NOT NULL,
  at timestamp with time zone NOT NULL,
  text text NOT NULL,
  CONSTRAINT transfer_log_pkey PRIMARY KEY (id),
  CONSTRAINT transfer_log_transfer_id_foreign FOREIGN KEY (transfer_id) REFERENCES transfer(id) ON DELETE CASCADE
);
CREATE INDEX transfer_log_transfer_id_index ON public.transfer_log USING btree (transfer_id);

CREATE TABLE transfer_step (
  transfer_id text NOT NULL,
  "position" integer NOT NULL,
  name text NOT NULL,
  title text NOT NULL,
  state text NOT NULL,
  started_at timestamp with time zone,
  ended_at timestamp with time zone,
  detail text,
  CONSTRAINT transfer_step_pkey PRIMARY KEY (transfer_id, "position"),
  CONSTRAINT transfer_step_transfer_id_foreign FOREIGN KEY (transfer_id) REFERENCES transfer(id) ON DELETE CASCADE
);

CREATE TABLE webhook (
  id text NOT NULL,
  url text NOT NULL,
  secret text NOT NULL,
  types jsonb NOT NULL,
  scope text NOT NULL,
  allows_private boolean NOT NULL,
  created_at timestamp with time zone NOT NULL,
  CONSTRAINT webhook_pkey PRIMARY KEY (id)
);

CREATE TABLE webhook_delivery (
  id text NOT NULL,
  webhook_id text NOT NULL,
  type text NOT NULL,
  subject text NOT NULL,
  body text NOT NULL,
  at timestamp with time zone NOT NULL,
  due_at timestamp with time zone,
  delivered_at timestamp with time zone,
  tries integer DEFAULT 0 NOT NULL,
  status integer,
  problem text,
  CONSTRAINT webhook_delivery_pkey PRIMARY KEY (id),
  CONSTRAINT webhook_delivery_webhook_id_foreign FOREIGN KEY (webhook_id) REFERENCES webhook(id) ON DELETE CASCADE
);
CREATE INDEX webhook_delivery_webhook_id_at_id_index ON public.webhook_delivery USING btree (webhook_id, at, id);
CREATE INDEX webhook_due ON public.webhook_delivery USING btree (due_at) WHERE (due_at IS NOT NULL);

CREATE TABLE worker (
  id integer GENERATED ALWAYS AS IDENTITY NOT NULL,
  name text NOT NULL,
  machine text NOT NULL,
  started_at timestamp with time zone NOT NULL,
  CONSTRAINT worker_pkey PRIMARY KEY (id)
);
