-- +goose Up

-- The public halves of the keys that certificates were ever signed with; the private one is a file.
CREATE TABLE signing_keys (
    id       text PRIMARY KEY,
    key      json NOT NULL,
    added_at timestamptz NOT NULL DEFAULT now()
);

-- Who signed a certificate besides who made it; whole is the certificate with all signatures so far.
CREATE TABLE certificate_signatures (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    certificate_id bigint NOT NULL REFERENCES certificates,
    person_id      bigint NOT NULL REFERENCES people,
    whole          text NOT NULL,
    at             timestamptz NOT NULL DEFAULT now(),
    UNIQUE (certificate_id, person_id)
);

-- A certificate that counts no more, and the one that stands in for it, if any.
CREATE TABLE revocations (
    certificate_id bigint PRIMARY KEY REFERENCES certificates,
    person_id      bigint NOT NULL REFERENCES people,
    reason         text NOT NULL CHECK (reason <> ''),
    replaced_by    bigint REFERENCES certificates,
    at             timestamptz NOT NULL DEFAULT now()
);
CREATE TRIGGER certificate_signatures_are_append_only BEFORE UPDATE OR DELETE ON certificate_signatures FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER revocations_are_append_only BEFORE UPDATE OR DELETE ON revocations FOR EACH ROW EXECUTE FUNCTION refuse_change();
