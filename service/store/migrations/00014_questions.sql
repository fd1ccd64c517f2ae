-- +goose Up

-- Questions that somebody is asked together, as a page behind a link, a workbook or CSV. The link is signed with the sheet's
-- number, its serial and its end, so that no secret is kept: a new serial makes all links of before worthless.
CREATE TABLE sheets (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    recipient    text NOT NULL CHECK (recipient <> ''),
    address      text NOT NULL DEFAULT '', -- an e-mail address; empty for none
    title        text NOT NULL,
    says         text NOT NULL DEFAULT '',
    due          date NOT NULL,
    days         integer NOT NULL CHECK (days >= 1), -- that there were to answer; as many again when it is asked again
    asked_again_at timestamptz,
    link_serial  integer NOT NULL DEFAULT 1,
    link_ends    timestamptz NOT NULL,
    link_revoked boolean NOT NULL DEFAULT false,
    created_by   bigint NOT NULL REFERENCES people,
    created_at   timestamptz NOT NULL DEFAULT now(),
    closed_at    timestamptz -- nothing of it is waited for any more
);
CREATE INDEX ON sheets (due) WHERE closed_at IS NULL;

CREATE TABLE questions (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    sheet_id   bigint NOT NULL REFERENCES sheets,
    issue_id   bigint NOT NULL REFERENCES issues,
    audit_id   bigint NOT NULL REFERENCES audits,
    code       text NOT NULL UNIQUE,
    found      text NOT NULL,
    reason     text NOT NULL DEFAULT '',
    item       json NOT NULL,
    supposes   text NOT NULL DEFAULT '',
    outcome    text CHECK (outcome IN ('taken_up', 'left')), -- what a steward made of its answer
    settled_by bigint REFERENCES people,
    settled_at timestamptz,
    became     text NOT NULL DEFAULT '' -- what it was taken up as
);
CREATE INDEX ON questions (sheet_id, id);
CREATE INDEX ON questions (issue_id);

-- Every answer that was given; the last one counts.
CREATE TABLE answers (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    question_id bigint NOT NULL REFERENCES questions,
    answer      text NOT NULL CHECK (answer IN ('wrong', 'meant_so', 'unknown', 'comes_again')),
    "right"     json NOT NULL DEFAULT '{}',
    note        text NOT NULL DEFAULT '',
    by          text NOT NULL,
    person_id   bigint REFERENCES people, -- who entered it; null for the link
    via         text NOT NULL CHECK (via IN ('link', 'file', 'entry')),
    came_from   text NOT NULL DEFAULT '', -- the address of the network
    at          timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON answers (question_id, id DESC);
CREATE TRIGGER answers_are_append_only BEFORE UPDATE OR DELETE ON answers FOR EACH ROW EXECUTE FUNCTION refuse_change();
