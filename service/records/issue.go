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
	Owner        string          `db:"owner" json:"owner" doc:"Who can tell what is right: a person's name, with or without an account; empty for nobody"`
	Due          *string         `db:"due" json:"due" doc:"Until when it is to be settled, yyyy-MM-dd"`
	Overdue      bool            `db:"overdue" json:"overdue" doc:"It is not settled, and that day is over"`
	Ended        *string         `db:"ended" json:"ended" enum:"corrected,put_right,accepted,withdrawn,rule_changed" doc:"How it ended: corrected by who delivers, put right here, accepted as it is, withdrawn with what it was found in, or the rule was changed. Null where it has not ended, or ended before that was told"`
	HoldsAuditID *int64          `db:"holds_audit_id" json:"holds_audit_id" doc:"The audit of a cleaned or merged table in which it was found no more, though its owner has not answered yet"`
	Rows         int64           `db:"rows" json:"rows"`
	AuditID      *int64          `db:"audit_id" json:"audit_id" doc:"The audit that last found it"`
	TableID      *int64          `db:"table_id" json:"table_id" doc:"The table in which it was last found"`
	Waivers      int64           `db:"waivers" json:"waivers" doc:"How many waivers of it are in force"`
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
	// Named says which rows those are, by what stands in them.
	Named json.RawMessage `json:"named,omitempty" readOnly:"true" doc:"By what stands in them the rows are known again; the service says it"`
	Rows  []uint32        `json:"rows,omitempty" maxItems:"10000" minimum:"1" maximum:"4294967294" doc:"Numbers of rows"`
}

// IssueEntry is one thing that happened to an issue, or was said about it.
type IssueEntry struct {
	ID      int64     `db:"id" json:"id"`
	Person  *string   `db:"person" json:"person" doc:"Null where an audit did it"`
	Kind    string    `db:"kind" json:"kind" enum:"opened,seen,reopened,closed,asked,waived,assigned,comment,expired,put_right,waiver_ended,moved,owned,due,answered"`
	Text    string    `db:"text" json:"text"`
	AuditID *int64    `db:"audit_id" json:"audit_id"`
	At      time.Time `db:"at" json:"at"`
}

// IssueShown is an issue with all that happened to it.
type IssueShown struct {
	Issue
	Given   []Waiver     `json:"given" doc:"Its waivers, the newest first, those too that are in force no more"`
	Asked   []Question   `json:"asked" doc:"What its owner was asked, the newest first; without the right to work, personal data are masked"`
	Entries []IssueEntry `json:"entries"`
}

// Waiver says what of an issue is accepted as it is, by whom, why, and for how long.
type Waiver struct {
	ID      int64           `db:"id" json:"id"`
	IssueID int64           `db:"issue_id" json:"issue_id"`
	Dataset string          `db:"dataset" json:"dataset"`
	Rule    string          `db:"rule" json:"rule"`
	Subject string          `db:"subject" json:"subject" enum:"rule,lead,text,rows" doc:"What the issue is of"`
	About   json.RawMessage `db:"about" json:"-"`
	Scope   json.RawMessage `db:"scope" json:"scope" doc:"What is accepted: texts of a column, rows by what stands in some columns, a number of rows of a table of a size, or a sentence"`
	Covers  string          `db:"covers" json:"covers" doc:"The same in words"`
	Reason  string          `db:"reason" json:"reason"`
	By      string          `db:"by" json:"by"`
	At      time.Time       `db:"at" json:"at"`
	Until   *string         `db:"until" json:"until" doc:"The last day on which it holds, yyyy-MM-dd; null for no end"`
	TableID *int64          `db:"table_id" json:"table_id" doc:"The only delivery that it holds for, by one of its tables; null for all"`
	InForce bool            `db:"in_force" json:"in_force"`
	EndedAt *time.Time      `db:"ended_at" json:"ended_at" doc:"When somebody ended it"`
	EndedBy *string         `db:"ended_by" json:"ended_by"`
}
