-- +goose Up

-- How an issue ended, who owns the data that it is about, until when it is due, and the audit in which it was not found any
-- more though nobody had settled it.
ALTER TABLE issues
    ADD COLUMN ended text CHECK (ended IN ('corrected', 'put_right', 'accepted', 'withdrawn', 'rule_changed')),
    ADD COLUMN owner text NOT NULL DEFAULT '',
    ADD COLUMN due date,
    ADD COLUMN holds_audit_id bigint REFERENCES audits;
CREATE INDEX ON issues (due) WHERE due IS NOT NULL AND state IN ('open', 'asked');

-- The kinds of entries are those that the program knows.
ALTER TABLE issue_entries DROP CONSTRAINT issue_entries_kind_check;

-- What somebody accepts of what was found: the scope says of what, and until, table_id or neither for how long.
CREATE TABLE waivers (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    issue_id   bigint NOT NULL REFERENCES issues,
    scope      json NOT NULL,
    covers     text NOT NULL, -- the scope in words
    reason     text NOT NULL CHECK (reason <> ''),
    person_id  bigint NOT NULL REFERENCES people,
    until      date,
    table_id   bigint REFERENCES tables, -- holds for this table, what it is made of and what is made of it
    at         timestamptz NOT NULL DEFAULT now(),
    ended_at   timestamptz,
    ended_by   bigint REFERENCES people,
    CHECK (until IS NULL OR table_id IS NULL)
);
CREATE INDEX ON waivers (issue_id);

-- A waiver of before was given for so many rows; where the size of its table is not known, for any size.
INSERT INTO waivers (issue_id, scope, covers, reason, person_id, until, at)
    SELECT i.id, json_build_object('count', greatest(coalesce(i.waiver_rows, i.rows), 1), 'of', greatest(coalesce(a.rows, 0), coalesce(i.waiver_rows, i.rows), 1)),
        greatest(coalesce(i.waiver_rows, i.rows), 1) || ' rows', i.waiver_reason, i.waiver_by, i.waiver_until,
        coalesce((SELECT max(e.at) FROM issue_entries e WHERE e.issue_id = i.id AND e.kind = 'waived'), i.changed_at)
    FROM issues i LEFT JOIN audits a ON a.id = i.audit_id WHERE i.waiver_reason <> '' AND i.waiver_by IS NOT NULL AND i.waiver_until IS NOT NULL;
UPDATE issues SET ended = 'accepted' WHERE state = 'waived';
ALTER TABLE issues DROP CONSTRAINT issues_check;
ALTER TABLE issues DROP COLUMN waiver_reason, DROP COLUMN waiver_by, DROP COLUMN waiver_until, DROP COLUMN waiver_rows;

-- A rulebook that becomes weaker is decided on: by who saves it, or where a dataset asks for that by a second person.
ALTER TABLE datasets ADD COLUMN second_person boolean NOT NULL DEFAULT false;
CREATE TABLE decisions (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    dataset_id     bigint NOT NULL REFERENCES datasets,
    from_version   integer NOT NULL,
    source         text NOT NULL,
    digest         text NOT NULL,
    weaker         json NOT NULL, -- the differences by which it asks less, or may
    lost           json NOT NULL, -- what becomes of open issues whose rules are gone
    reason         text NOT NULL CHECK (reason <> ''),
    asked_by       bigint NOT NULL REFERENCES people,
    asked_at       timestamptz NOT NULL DEFAULT now(),
    outcome        text CHECK (outcome IN ('agreed', 'refused')),
    decided_by     bigint REFERENCES people,
    decided_at     timestamptz,
    remark         text NOT NULL DEFAULT '',
    declaration_id bigint REFERENCES declarations, -- the version that it became
    CHECK ((outcome IS NULL) = (decided_by IS NULL) AND (outcome = 'agreed') = (declaration_id IS NOT NULL))
);
CREATE INDEX ON decisions (dataset_id, id DESC);
CREATE INDEX ON decisions (declaration_id);
