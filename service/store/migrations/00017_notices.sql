-- +goose Up

-- What people and programs are told of. The key says what it is about, so that one thing is told once, whichever node sees it.
CREATE TABLE notices (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    key        text NOT NULL UNIQUE,
    event      uuid NOT NULL UNIQUE DEFAULT gen_random_uuid(), -- by which those who are sent it know it again
    kind       text NOT NULL,
    dataset_id bigint NOT NULL REFERENCES datasets,
    says       text NOT NULL,
    path       text NOT NULL, -- of the page that shows it
    facts      json NOT NULL DEFAULT '{}',
    person_id  bigint REFERENCES people, -- whose deed it was; null for the service's own
    at         timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE INDEX ON notices (dataset_id, id);
CREATE TRIGGER notices_are_append_only BEFORE UPDATE OR DELETE ON notices FOR EACH ROW EXECUTE FUNCTION refuse_change();

-- What a person wants to be told of, and how. Of a kind without a line, it is in the list alone.
CREATE TABLE notice_choices (
    person_id bigint NOT NULL REFERENCES people,
    kind      text NOT NULL,
    listed    boolean NOT NULL,
    mailed    boolean NOT NULL,
    PRIMARY KEY (person_id, kind)
);
-- Of which datasets; of all where there is none.
CREATE TABLE notice_datasets (
    person_id  bigint NOT NULL REFERENCES people,
    dataset_id bigint NOT NULL REFERENCES datasets,
    PRIMARY KEY (person_id, dataset_id)
);
ALTER TABLE people ADD COLUMN address text NOT NULL DEFAULT ''; -- an e-mail address; empty for none
ALTER TABLE people ADD COLUMN notices_seen bigint NOT NULL DEFAULT 0; -- the last notice that was seen

-- Programs that are told. The secret that they know the sender by is worked out from the serial and a secret of the service.
CREATE TABLE receivers (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL CHECK (name <> ''),
    address    text NOT NULL,
    kinds      jsonb NOT NULL DEFAULT '[]', -- empty for all
    serial     integer NOT NULL DEFAULT 1,
    created_by bigint NOT NULL REFERENCES people,
    created_at timestamptz NOT NULL DEFAULT now(),
    removed_at timestamptz
);
CREATE UNIQUE INDEX ON receivers (name) WHERE removed_at IS NULL;

-- What is sent to whom: a notice to a person by mail or to a receiver, or a sheet of questions to who is asked.
CREATE TABLE sendings (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    key         uuid NOT NULL UNIQUE DEFAULT gen_random_uuid(),
    notice_id   bigint REFERENCES notices,
    person_id   bigint REFERENCES people,
    receiver_id bigint REFERENCES receivers,
    sheet_id    bigint REFERENCES sheets,
    link_serial integer, -- of the sheet's link
    again       boolean NOT NULL DEFAULT false, -- the sheet is asked once more
    state       text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'sent', 'given_up')),
    attempts    integer NOT NULL DEFAULT 0,
    problem     text NOT NULL DEFAULT '', -- what went wrong last
    task_id     bigint,
    created_at  timestamptz NOT NULL DEFAULT now(),
    ended_at    timestamptz,
    CHECK (num_nonnulls(person_id, receiver_id, sheet_id) = 1 AND (sheet_id IS NULL) = (notice_id IS NOT NULL)),
    UNIQUE (notice_id, person_id),
    UNIQUE (notice_id, receiver_id),
    UNIQUE (sheet_id, link_serial, again)
);
CREATE INDEX ON sendings (receiver_id);
CREATE INDEX ON sendings (id) WHERE state = 'waiting';
