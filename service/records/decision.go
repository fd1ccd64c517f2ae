package records

import (
	"encoding/json"
	"time"
)

// Decision is that a rulebook becomes weaker: by what, why, and who agreed.
type Decision struct {
	ID          int64           `db:"id" json:"id"`
	Dataset     string          `db:"dataset" json:"dataset"`
	DatasetID   int64           `db:"dataset_id" json:"-"`
	FromVersion int             `db:"from_version" json:"from_version" doc:"The version of the rulebook before"`
	Source      string          `db:"source" json:"source" doc:"The text that becomes the next version"`
	Digest      string          `db:"digest" json:"digest"`
	Weaker      json.RawMessage `db:"weaker" json:"weaker" doc:"The differences by which less is asked, or may be"`
	Lost        json.RawMessage `db:"lost" json:"lost" doc:"What becomes of open issues whose rules are gone"`
	Reason      string          `db:"reason" json:"reason"`
	AskedBy     string          `db:"asked_by" json:"asked_by"`
	AskedByID   int64           `db:"asked_by_id" json:"-"`
	AskedAt     time.Time       `db:"asked_at" json:"asked_at"`
	Outcome     *string         `db:"outcome" json:"outcome" enum:"agreed,refused" doc:"Null while it waits for a second person"`
	DecidedBy   *string         `db:"decided_by" json:"decided_by"`
	DecidedAt   *time.Time      `db:"decided_at" json:"decided_at"`
	Remark      string          `db:"remark" json:"remark"`
	Version     *int            `db:"version" json:"version" doc:"The version that the text became"`
}

// LostRule says what becomes of the open issue of a rule that is gone: it is closed by the decision, or goes on as that of
// another rule.
type LostRule struct {
	Rule string `json:"rule"`
	To   string `json:"to,omitempty" doc:"The rule that it goes on with; closed where this is left out"`
}
