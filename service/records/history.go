package records

import (
	"encoding/json"
	"time"
)

// Deed is who did what when.
type Deed struct {
	ID      int64           `db:"id" json:"id"`
	At      time.Time       `db:"at" json:"at"`
	Person  *string         `db:"person" json:"person"`
	Action  string          `db:"action" json:"action"`
	Subject string          `db:"subject" json:"subject"`
	Detail  json.RawMessage `db:"detail" json:"detail"`
}
