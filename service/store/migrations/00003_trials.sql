-- +goose Up

-- A trial audits a table by a rulebook that is not saved.
ALTER TABLE jobs DROP CONSTRAINT jobs_kind_check;
ALTER TABLE jobs ADD CONSTRAINT jobs_kind_check CHECK (kind IN ('audit', 'preview', 'fix', 'merge', 'fetch', 'trial'));
