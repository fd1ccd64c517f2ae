-- +goose Up

-- Whether a table is judged where it lies, instead of taken as a delivery.
ALTER TABLE fetches ADD COLUMN in_place boolean NOT NULL DEFAULT false;
