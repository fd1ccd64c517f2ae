-- +goose Up

-- Severities have the words that audits of other things have.
ALTER TABLE issues DROP CONSTRAINT issues_severity_check;
UPDATE issues SET severity = CASE severity WHEN 'stop' THEN 'major' WHEN 'warn' THEN 'minor' ELSE severity END;
ALTER TABLE issues ADD CONSTRAINT issues_severity_check CHECK (severity IN ('major', 'minor', 'note'));

-- The kinds of jobs are those that the program knows.
ALTER TABLE jobs DROP CONSTRAINT jobs_kind_check;
