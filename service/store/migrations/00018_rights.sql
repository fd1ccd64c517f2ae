-- +goose Up

-- What a person may do with a dataset. It counts for those who are confined to datasets; all others may do with every one of them
-- what their role allows.
CREATE TABLE dataset_rights (
    person_id  bigint NOT NULL REFERENCES people,
    dataset_id bigint NOT NULL REFERENCES datasets,
    may        text NOT NULL CHECK (may IN ('read', 'work', 'certify')),
    personal   boolean NOT NULL DEFAULT false, -- sees the columns with personal data as they are
    PRIMARY KEY (person_id, dataset_id)
);
ALTER TABLE people ADD COLUMN confined boolean NOT NULL DEFAULT false;
