-- +goose Up

CREATE TABLE people (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE CHECK (name <> ''),
    role       text NOT NULL CHECK (role IN ('reader', 'steward', 'certifier', 'administrator')),
    created_at timestamptz NOT NULL DEFAULT now()
);

-- A token is kept as its SHA-256 alone: it has 256 random bits, so that no slower hash is needed.
CREATE TABLE tokens (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    person_id  bigint NOT NULL REFERENCES people,
    hash       bytea NOT NULL UNIQUE,
    note       text NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz,
    revoked_at timestamptz
);

CREATE TABLE sessions (
    hash       bytea PRIMARY KEY,
    token_id   bigint NOT NULL REFERENCES tokens,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);

CREATE TABLE datasets (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    title      text NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL DEFAULT now()
);

-- Rulebooks, fix plans and merges are declarations: text with versions that only grow.
CREATE TABLE declarations (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind       text NOT NULL CHECK (kind IN ('rulebook', 'fix_plan', 'merge')),
    dataset_id bigint NOT NULL REFERENCES datasets,
    name       text NOT NULL,
    version    integer NOT NULL CHECK (version > 0),
    source     text NOT NULL,
    digest     text NOT NULL,
    author_id  bigint NOT NULL REFERENCES people,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (kind, dataset_id, name, version)
);

-- A delivery, a cleaned table and a merged table are kept alike.
CREATE TABLE tables (
    id                bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    dataset_id        bigint NOT NULL REFERENCES datasets,
    origin            text NOT NULL CHECK (origin IN ('delivery', 'cleaned', 'merged')),
    digest            text NOT NULL,
    bytes             bigint NOT NULL,
    file_name         text NOT NULL,
    source            json NOT NULL DEFAULT '{}',
    parent_id         bigint REFERENCES tables,
    declaration_id    bigint REFERENCES declarations,
    change_log_digest text,
    accounting        json,
    created_by        bigint NOT NULL REFERENCES people,
    created_at        timestamptz NOT NULL DEFAULT now(),
    CHECK (origin <> 'cleaned' OR (parent_id IS NOT NULL AND declaration_id IS NOT NULL AND accounting IS NOT NULL)),
    CHECK (origin <> 'merged' OR (declaration_id IS NOT NULL AND accounting IS NOT NULL))
);
CREATE INDEX ON tables (dataset_id, id DESC);
CREATE UNIQUE INDEX one_delivery_per_content ON tables (dataset_id, digest) WHERE origin = 'delivery';

CREATE TABLE table_inputs (
    table_id bigint NOT NULL REFERENCES tables,
    input_id bigint NOT NULL REFERENCES tables,
    PRIMARY KEY (table_id, input_id)
);

-- What runs in the background. attempt fences a node that was given up from writing late.
CREATE TABLE jobs (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind        text NOT NULL CHECK (kind IN ('audit', 'preview', 'fix', 'merge')),
    table_id    bigint REFERENCES tables,
    dataset_id  bigint NOT NULL REFERENCES datasets,
    declaration_id bigint REFERENCES declarations,
    detail      json NOT NULL DEFAULT '{}',
    state       text NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'running', 'done', 'failed', 'stopped')),
    node        text,
    attempt     integer NOT NULL DEFAULT 0,
    bytes_done  bigint NOT NULL DEFAULT 0,
    bytes_total bigint NOT NULL DEFAULT 0,
    rows_read   bigint NOT NULL DEFAULT 0,
    error       text NOT NULL DEFAULT '',
    result      json,
    result_table_id bigint REFERENCES tables,
    created_by  bigint NOT NULL REFERENCES people,
    created_at  timestamptz NOT NULL DEFAULT now(),
    started_at  timestamptz,
    ended_at    timestamptz
);
CREATE INDEX ON jobs (state) WHERE state IN ('queued', 'running');
CREATE INDEX ON jobs (table_id, id DESC);

CREATE TABLE nodes (
    name    text PRIMARY KEY,
    seen_at timestamptz NOT NULL
);

CREATE TABLE audits (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    table_id    bigint NOT NULL REFERENCES tables,
    dataset_id  bigint NOT NULL REFERENCES datasets,
    rulebook_id bigint REFERENCES declarations,
    job_id      bigint NOT NULL UNIQUE REFERENCES jobs,
    score       double precision NOT NULL,
    pass_mark   double precision NOT NULL,
    passed      boolean NOT NULL,
    rows        bigint NOT NULL,
    result      json NOT NULL,
    rows_digest text NOT NULL,
    created_at  timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON audits (table_id, id DESC);
CREATE INDEX ON audits (dataset_id, id DESC);

CREATE TABLE issues (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    dataset_id  bigint NOT NULL REFERENCES datasets,
    rule        text NOT NULL,
    title       text NOT NULL,
    severity    text NOT NULL CHECK (severity IN ('stop', 'warn', 'note')),
    state       text NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'asked', 'waived', 'closed')),
    assignee_id bigint REFERENCES people,
    rows        bigint NOT NULL DEFAULT 0,
    audit_id    bigint REFERENCES audits,
    waiver_reason text,
    waiver_by   bigint REFERENCES people,
    waiver_until date,
    version     integer NOT NULL DEFAULT 1,
    created_at  timestamptz NOT NULL DEFAULT now(),
    changed_at  timestamptz NOT NULL DEFAULT now(),
    UNIQUE (dataset_id, rule),
    CHECK (state <> 'waived' OR (waiver_reason <> '' AND waiver_by IS NOT NULL AND waiver_until IS NOT NULL))
);

CREATE TABLE issue_entries (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    issue_id  bigint NOT NULL REFERENCES issues,
    person_id bigint REFERENCES people,
    kind      text NOT NULL CHECK (kind IN ('opened', 'seen', 'reopened', 'closed', 'asked', 'waived', 'assigned', 'comment', 'expired')),
    text      text NOT NULL DEFAULT '',
    audit_id  bigint REFERENCES audits,
    at        timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON issue_entries (issue_id, id);

CREATE TABLE certificates (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    table_id   bigint NOT NULL REFERENCES tables,
    audit_id   bigint NOT NULL REFERENCES audits,
    statement  json NOT NULL,
    signature  text NOT NULL,
    created_by bigint NOT NULL REFERENCES people,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- Who did what when; nothing in it is ever changed or removed.
CREATE TABLE history (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at        timestamptz NOT NULL DEFAULT now(),
    person_id bigint REFERENCES people,
    action    text NOT NULL,
    subject   text NOT NULL,
    detail    json NOT NULL DEFAULT '{}'
);

-- +goose StatementBegin
CREATE FUNCTION refuse_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION '% is only ever added to', TG_TABLE_NAME;
END $$;
-- +goose StatementEnd

CREATE TRIGGER history_is_append_only BEFORE UPDATE OR DELETE ON history FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER audits_are_immutable BEFORE UPDATE OR DELETE ON audits FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER tables_are_immutable BEFORE UPDATE OR DELETE ON tables FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER declarations_are_immutable BEFORE UPDATE OR DELETE ON declarations FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER certificates_are_immutable BEFORE UPDATE OR DELETE ON certificates FOR EACH ROW EXECUTE FUNCTION refuse_change();

-- +goose Down
DROP TABLE history, certificates, issue_entries, issues, audits, nodes, jobs, table_inputs, tables, declarations, datasets, sessions, tokens, people;
DROP FUNCTION refuse_change;
