package records

import (
	"encoding/json"
	"time"
)

// Issue is a finding as a matter that people follow across deliveries, one per dataset and rule; or what a person made
// one of: a lead, one text of a finding, chosen rows.
type Issue struct {
	ID           int64           `db:"id" json:"id"`
	Dataset      string          `db:"dataset" json:"dataset"`
	DatasetID    int64           `db:"dataset_id" json:"-"`
	Subject      string          `db:"subject" json:"subject" enum:"rule,lead,text,rows" doc:"What it is of"`
	Rule         string          `db:"rule" json:"rule" doc:"The rule; the kind of lead, of one that is of a lead"`
	About        json.RawMessage `db:"about" json:"about" doc:"What a person made it of: the columns, the text, the rows"`
	Title        string          `db:"title" json:"title" doc:"What was found when it was last found"`
	Severity     string          `db:"severity" json:"severity" enum:"major,minor,note"`
	State        string          `db:"state" json:"state" enum:"open,asked,waived,closed"`
	Assignee     *string         `db:"assignee" json:"assignee"`
	Rows         int64           `db:"rows" json:"rows"`
	AuditID      *int64          `db:"audit_id" json:"audit_id" doc:"The audit that last found it"`
	TableID      *int64          `db:"table_id" json:"table_id" doc:"The table in which it was last found"`
	WaiverReason *string         `db:"waiver_reason" json:"waiver_reason"`
	WaiverBy     *string         `db:"waiver_by" json:"waiver_by"`
	WaiverUntil  *string         `db:"waiver_until" json:"waiver_until" doc:"The last day of the waiver, yyyy-MM-dd"`
	WaiverRows   *int64          `db:"waiver_rows" json:"waiver_rows" doc:"How many rows the waiver was given for; with more of them the issue opens again"`
	Version      int             `db:"version" json:"version" doc:"Changes with every change; the ETag"`
	CreatedAt    time.Time       `db:"created_at" json:"created_at"`
	ChangedAt    time.Time       `db:"changed_at" json:"changed_at"`
}

// IssueSubject is what a person makes an issue of: a lead by its kind and column, one text of a finding, or rows.
type IssueSubject struct {
	Lead    string   `json:"lead,omitempty" doc:"The kind of a lead of the audit"`
	Rule    string   `json:"rule,omitempty" doc:"A rule that the audit found broken"`
	Column  string   `json:"column,omitempty" doc:"The column of the lead, or of the text"`
	Columns []string `json:"columns,omitempty"`
	Text    string   `json:"text,omitempty" doc:"One of the texts that offend"`
	Rows    []uint32 `json:"rows,omitempty" maxItems:"10000" minimum:"1" maximum:"4294967294" doc:"Numbers of rows"`
}

// IssueEntry is one thing that happened to an issue, or was said about it.
type IssueEntry struct {
	ID      int64     `db:"id" json:"id"`
	Person  *string   `db:"person" json:"person" doc:"Null where an audit did it"`
	Kind    string    `db:"kind" json:"kind" enum:"opened,seen,reopened,closed,asked,waived,assigned,comment,expired"`
	Text    string    `db:"text" json:"text"`
	AuditID *int64    `db:"audit_id" json:"audit_id"`
	At      time.Time `db:"at" json:"at"`
}

// IssueShown is an issue with all that happened to it.
type IssueShown struct {
	Issue
	Entries []IssueEntry `json:"entries"`
}
