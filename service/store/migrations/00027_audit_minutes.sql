-- +goose Up

-- How long all questions of one audit of a table may take together, that is judged where it lies; 0 for no end.
ALTER TABLE databases ADD COLUMN audit_minutes integer NOT NULL DEFAULT 0 CHECK (audit_minutes >= 0);
