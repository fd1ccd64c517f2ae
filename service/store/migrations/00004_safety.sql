-- +goose Up

-- Somebody who left: their tokens let nobody in, and what they did stays.
ALTER TABLE people ADD COLUMN disabled_at timestamptz;

-- A waiver covers as many rows as it was given for. Those of before keep what was found last.
ALTER TABLE issues ADD COLUMN waiver_rows bigint;
UPDATE issues SET waiver_rows = rows WHERE waiver_until IS NOT NULL;

-- A delivery that was taken in by mistake. Its record stays; its bytes may be let go.
CREATE TABLE withdrawals (
    table_id     bigint PRIMARY KEY REFERENCES tables,
    person_id    bigint REFERENCES people,
    reason       text NOT NULL CHECK (reason <> ''),
    bytes_let_go boolean NOT NULL DEFAULT false,
    at           timestamptz NOT NULL DEFAULT now()
);

-- How many deliveries of a dataset are kept; null for all of them.
ALTER TABLE datasets ADD COLUMN keep_deliveries integer CHECK (keep_deliveries >= 1);

-- The queue's own number of the task that stands for the job's present attempt.
ALTER TABLE jobs ADD COLUMN task_id bigint;

-- The same bytes may come again after they were withdrawn; AddTable keeps them from being there twice.
DROP INDEX one_delivery_per_content;
CREATE INDEX ON tables (dataset_id, digest) WHERE origin = 'delivery';

CREATE INDEX ON tables (digest);
CREATE INDEX ON tables (parent_id) WHERE parent_id IS NOT NULL;
CREATE INDEX ON table_inputs (input_id);
CREATE INDEX ON certificates (table_id);
CREATE INDEX ON tables (change_log_digest) WHERE change_log_digest IS NOT NULL;
CREATE INDEX ON audits (rows_digest);
CREATE INDEX ON sessions (expires_at);
