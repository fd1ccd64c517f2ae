package records

import (
	"encoding/json"
	"time"
)

// Certificate is a signed statement about the bytes of a table.
type Certificate struct {
	ID        int64           `db:"id" json:"id"`
	TableID   int64           `db:"table_id" json:"table_id"`
	Dataset   string          `db:"dataset" json:"dataset"`
	Statement json.RawMessage `db:"statement" json:"statement"`
	Signature string          `db:"signature" json:"signature" doc:"The certificate itself: a JSON Web Signature in compact form"`
	CreatedBy string          `db:"created_by" json:"created_by"`
	CreatedAt time.Time       `db:"created_at" json:"created_at"`
	Withdrawn *string         `db:"withdrawn" json:"withdrawn" doc:"Why the table, or one that it rests on, was withdrawn since; null where none was"`
}
