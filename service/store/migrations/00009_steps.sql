-- +goose Up

-- Fix plans that were saved when every cleaned table was put in standard form without a step: all that there are now, and
-- none from now on. (Declarations are only ever added to, so that the default has to say it.)
ALTER TABLE declarations ADD COLUMN earlier boolean NOT NULL DEFAULT true;
ALTER TABLE declarations ALTER COLUMN earlier SET DEFAULT false;

-- Of which rows each row of a cleaned table was made, where steps make other rows.
ALTER TABLE tables ADD COLUMN row_map_digest text;
CREATE INDEX ON tables (row_map_digest) WHERE row_map_digest IS NOT NULL;

-- What a preview made, kept for a day so that all of it can be looked at.
CREATE TABLE previews (
    job_id            bigint PRIMARY KEY REFERENCES jobs ON DELETE CASCADE,
    digest            text NOT NULL,
    change_log_digest text NOT NULL,
    row_map_digest    text,
    created_at        timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON previews (digest);
CREATE INDEX ON previews (change_log_digest);
CREATE INDEX ON previews (row_map_digest);
CREATE INDEX ON previews (created_at);

-- The fix plan that is applied to every delivery of a dataset as it arrives; null for none.
ALTER TABLE datasets ADD COLUMN standing_plan text;
