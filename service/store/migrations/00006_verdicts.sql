-- +goose Up

-- Where nothing was declared there is no verdict.
ALTER TABLE audits ALTER COLUMN passed DROP NOT NULL;
UPDATE audits SET passed = NULL, result = jsonb_set(result::jsonb, '{passed}', 'null')::json WHERE rulebook_id IS NULL;
