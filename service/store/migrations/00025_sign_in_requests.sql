-- +goose Up

-- Command lines that ask to come in as somebody, until that person answers them: RFC 8628.
CREATE TABLE sign_in_requests (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	code text NOT NULL UNIQUE,
	secret_hash bytea NOT NULL UNIQUE,
	machine text NOT NULL,
	address text NOT NULL,
	until timestamptz NOT NULL,
	person_id bigint REFERENCES people,
	let_in boolean
);
