-- +goose Up

-- By what the service is let in where deliveries are fetched from. What they are is a secret of the nodes, which is named here.
CREATE TABLE credentials (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    host        text NOT NULL CHECK (host <> ''), -- with its port where it has one in addresses
    header      text NOT NULL DEFAULT '',
    secret      text NOT NULL DEFAULT '', -- what the header says
    certificate text NOT NULL DEFAULT '', -- of the service, with its key
    authority   text NOT NULL DEFAULT '', -- whose certificates the host has; empty for those that the machine trusts
    created_by  bigint NOT NULL REFERENCES people,
    created_at  timestamptz NOT NULL DEFAULT now(),
    removed_at  timestamptz,
    CHECK ((header = '') = (secret = '')),
    CHECK (header <> '' OR certificate <> '' OR authority <> '')
);
CREATE UNIQUE INDEX ON credentials (host) WHERE removed_at IS NULL;
