-- +goose Up

-- Where deliveries are fetched from, once or again and again.
CREATE TABLE fetches (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    dataset_id    bigint NOT NULL REFERENCES datasets,
    address       text NOT NULL,
    every_minutes integer CHECK (every_minutes >= 1),
    source        json NOT NULL DEFAULT '{}',
    etag          text NOT NULL DEFAULT '',
    last_modified text NOT NULL DEFAULT '',
    next_at       timestamptz,
    checked_at    timestamptz,
    outcome       text NOT NULL DEFAULT '' CHECK (outcome IN ('', 'delivered', 'known', 'unchanged', 'failed')),
    message       text NOT NULL DEFAULT '',
    table_id      bigint REFERENCES tables,
    created_by    bigint NOT NULL REFERENCES people,
    created_at    timestamptz NOT NULL DEFAULT now(),
    ended_at      timestamptz
);
CREATE INDEX ON fetches (next_at) WHERE ended_at IS NULL AND next_at IS NOT NULL;

ALTER TABLE jobs DROP CONSTRAINT jobs_kind_check;
ALTER TABLE jobs ADD CONSTRAINT jobs_kind_check CHECK (kind IN ('audit', 'preview', 'fix', 'merge', 'fetch'));
