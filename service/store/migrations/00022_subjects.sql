-- +goose Up

-- By what a provider of identities tells somebody from everybody else; null for who comes in by tokens alone.
ALTER TABLE people ADD COLUMN subject text UNIQUE;
