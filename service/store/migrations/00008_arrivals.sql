-- +goose Up

-- A file that somebody sent and looks at before it becomes a delivery. It is kept for a day.
CREATE TABLE arrivals (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    digest     text NOT NULL,
    bytes      bigint NOT NULL,
    file_name  text NOT NULL,
    created_by bigint NOT NULL REFERENCES people,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON arrivals (digest);
CREATE INDEX ON arrivals (created_at);

-- How a person said that a delivery is read; a rulebook's reading counts once there is one.
ALTER TABLE tables ADD COLUMN reading json;
