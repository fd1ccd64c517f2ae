package records

import (
	"time"
)

// Issue is a finding as a matter that people follow across deliveries: one per dataset and rule.
type Issue struct {
	ID           int64     `db:"id" json:"id"`
	Dataset      string    `db:"dataset" json:"dataset"`
	DatasetID    int64     `db:"dataset_id" json:"-"`
	Rule         string    `db:"rule" json:"rule"`
	Title        string    `db:"title" json:"title" doc:"What was found when it was last found"`
	Severity     string    `db:"severity" json:"severity" enum:"major,minor,note"`
	State        string    `db:"state" json:"state" enum:"open,asked,waived,closed"`
	Assignee     *string   `db:"assignee" json:"assignee"`
	Rows         int64     `db:"rows" json:"rows"`
	AuditID      *int64    `db:"audit_id" json:"audit_id" doc:"The audit that last found it"`
	TableID      *int64    `db:"table_id" json:"table_id" doc:"The table in which it was last found"`
	WaiverReason *string   `db:"waiver_reason" json:"waiver_reason"`
	WaiverBy     *string   `db:"waiver_by" json:"waiver_by"`
	WaiverUntil  *string   `db:"waiver_until" json:"waiver_until" doc:"The last day of the waiver, yyyy-MM-dd"`
	WaiverRows   *int64    `db:"waiver_rows" json:"waiver_rows" doc:"How many rows the waiver was given for; with more of them the issue opens again"`
	Version      int       `db:"version" json:"version" doc:"Changes with every change; the ETag"`
	CreatedAt    time.Time `db:"created_at" json:"created_at"`
	ChangedAt    time.Time `db:"changed_at" json:"changed_at"`
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
