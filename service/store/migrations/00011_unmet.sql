-- +goose Up

-- The rows of a merge that found no partner in a join, as a table that can be sent back.
ALTER TABLE tables ADD COLUMN unmet_digest text;
CREATE INDEX ON tables (unmet_digest) WHERE unmet_digest IS NOT NULL;
