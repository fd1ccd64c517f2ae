-- +goose Up

-- Whether the merge of a dataset runs again by itself with every table that it takes.
ALTER TABLE datasets ADD COLUMN kept_merged boolean NOT NULL DEFAULT false;
