-- +goose Up

-- The oldest form whose programs still work with the records as they are, so that nodes of two releases may stand side by side. A
-- migration that takes something away, or gives it another meaning, raises it: see docs/decisions/0012.
CREATE TABLE forms (oldest bigint NOT NULL);
INSERT INTO forms VALUES (23);
