-- +goose Up

-- Which cells of a table are estimates, and their draws beyond the one that the table has.
ALTER TABLE tables ADD COLUMN marks_digest text, ADD COLUMN draws_digest text;
CREATE INDEX ON tables (marks_digest) WHERE marks_digest IS NOT NULL;
CREATE INDEX ON tables (draws_digest) WHERE draws_digest IS NOT NULL;
ALTER TABLE previews ADD COLUMN marks_digest text;
CREATE INDEX ON previews (marks_digest) WHERE marks_digest IS NOT NULL;
