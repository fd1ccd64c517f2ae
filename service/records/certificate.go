package records

import (
	"encoding/json"
	"time"
)

// Certificate is a signed statement about the bytes of a table.
type Certificate struct {
	ID         int64           `db:"id" json:"id"`
	TableID    int64           `db:"table_id" json:"table_id"`
	Dataset    string          `db:"dataset" json:"dataset"`
	Statement  json.RawMessage `db:"statement" json:"statement"`
	Signature  string          `db:"signature" json:"signature" doc:"The certificate itself: a JSON Web Signature in its JSON serialization, of earlier versions in compact form"`
	Digest     string          `db:"-" json:"digest" doc:"What it is known by: the SHA-256 of what is signed"`
	CreatedBy  string          `db:"created_by" json:"created_by"`
	CreatedAt  time.Time       `db:"created_at" json:"created_at"`
	Signers    json.RawMessage `db:"signers" json:"signers" doc:"Who signed it besides, by name"`
	Withdrawn  *string         `db:"withdrawn" json:"withdrawn" doc:"Why the table, or one that it rests on, was withdrawn since; null where none was"`
	RevokedAt  *time.Time      `db:"revoked_at" json:"revoked_at" doc:"Since when it counts no more"`
	RevokedBy  *string         `db:"revoked_by" json:"revoked_by"`
	Revoked    *string         `db:"revoked" json:"revoked" doc:"Why it counts no more"`
	ReplacedBy *int64          `db:"replaced_by" json:"replaced_by" doc:"The certificate that stands in for it"`
	Ended      bool            `db:"ended" json:"ended" doc:"Its last day is over"`
}
