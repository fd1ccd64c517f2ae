-- +goose Up

-- Databases from which tables are taken. A password is no record: the secret names a file or a variable that each node has.
CREATE TABLE databases (
    id              bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name            text NOT NULL CHECK (name <> ''),
    engine          text NOT NULL,
    host            text NOT NULL,
    port            integer NOT NULL,
    database        text NOT NULL,
    login           text NOT NULL,
    secret          text NOT NULL DEFAULT '', -- empty for no password
    tls             boolean NOT NULL DEFAULT false,
    timeout_minutes integer NOT NULL CHECK (timeout_minutes >= 1),
    row_limit       bigint NOT NULL DEFAULT 0, -- 0 for none, as in the next
    byte_limit      bigint NOT NULL DEFAULT 0,
    created_by      bigint NOT NULL REFERENCES people,
    created_at      timestamptz NOT NULL DEFAULT now(),
    removed_at      timestamptz
);
CREATE UNIQUE INDEX ON databases (name) WHERE removed_at IS NULL;

-- What is fetched from a database: a table, or what a query gives.
ALTER TABLE fetches ADD COLUMN database_id bigint REFERENCES databases;
ALTER TABLE fetches ADD COLUMN schema_name text NOT NULL DEFAULT '';
ALTER TABLE fetches ADD COLUMN table_name text NOT NULL DEFAULT '';
ALTER TABLE fetches ADD COLUMN query text NOT NULL DEFAULT '';
