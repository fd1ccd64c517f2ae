-- +goose Up

-- By when deliveries of a dataset are expected; null where nothing is.
ALTER TABLE datasets ADD COLUMN expects json;
