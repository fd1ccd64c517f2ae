-- +goose Up

-- A token may let in for less than its person may do: as a lesser role, and with some datasets alone.
ALTER TABLE tokens ADD COLUMN role text NOT NULL DEFAULT '' CHECK (role IN ('', 'reader', 'steward', 'certifier', 'administrator'));
CREATE TABLE token_datasets (
    token_id   bigint NOT NULL REFERENCES tokens,
    dataset_id bigint NOT NULL REFERENCES datasets,
    PRIMARY KEY (token_id, dataset_id)
);
