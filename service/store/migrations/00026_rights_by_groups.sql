-- +goose Up

-- Whether somebody is confined to datasets by their groups, which say so anew with each sign-in, and not by an administrator.
ALTER TABLE people ADD COLUMN confined_by_groups boolean NOT NULL DEFAULT false;
