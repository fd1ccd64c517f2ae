// Package certify decides whether a table may be certified, states what was
// checked and changed, and signs and verifies the statement.
//
// A certificate is a JSON Web Signature (RFC 7515, JSON serialization, so that several
// people can sign) with Ed25519 (RFC 8037) over the statement in canonical JSON
// (RFC 8785). The statement names the table by the SHA-256 of its bytes, so that one
// changed byte is enough to tell the two apart, and tells the whole chain: every table
// that it rests on, down to each delivery, with what was found, changed, accepted and
// answered. Those of earlier versions, in compact form and without the chain, are read.
//
//	statement.go    what a certificate says
//	obstacles.go    what has to hold before it is signed
//	sign.go         keys, and signing
//	verify.go       holding a certificate against keys, a table and revocations
//	revocations.go  what counts no more
package certify

import (
	"encoding/json"
	"fmt"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/question"
	"proudsieve/core/rulebook"
)

// Statement is what a certificate says.
type Statement struct {
	Kind        string         `json:"kind"` // StatementKind
	Dataset     string         `json:"dataset"`
	Table       TableFacts     `json:"table"`
	Rulebook    Version        `json:"rulebook"`
	Audit       AuditFacts     `json:"audit"`
	Inputs      []InputFacts   `json:"inputs"`
	Merge       *MergeFacts    `json:"merge,omitempty"`
	Waivers     []Waiver       `json:"waivers"`
	Accepted    []AcceptedFact `json:"accepted"` // findings that stand and do not stop the table
	Eased       []Eased        `json:"eased,omitempty"`
	CertifiedBy string         `json:"certified_by"`
	CertifiedAt string         `json:"certified_at"` // RFC 3339, UTC

	// Chain are all tables that the certified one rests on, and itself, each after those that it was made of.
	Chain []Link `json:"chain,omitempty"`
	// Questions are what the owners of the data were asked about these tables, with what they said.
	Questions []QuestionFact `json:"questions,omitempty"`
	// Conditions says in words under which conditions the table may be used.
	Conditions string `json:"conditions,omitempty"`
	// ValidUntil is the last day on which the certificate counts, yyyy-MM-dd; empty for no end.
	ValidUntil string `json:"valid_until,omitempty"`
	// Replaces is the digest of the earlier certificate that this one stands in for.
	Replaces string `json:"replaces,omitempty"`
}

// The kinds of statements, by their version.
const (
	StatementKind        = "proudsieve certificate 2"
	earlierStatementKind = "proudsieve certificate 1"
)

// Link is one table of the chain: how it came to be, by what it was judged, and what became of what was found.
type Link struct {
	Number   int64  `json:"number"` // by which its service knows it
	SHA256   string `json:"sha256"`
	Dataset  string `json:"dataset"`
	Origin   string `json:"origin"` // delivery, cleaned or merged
	FileName string `json:"file_name"`
	Bytes    int64  `json:"bytes"`
	By       string `json:"by"` // who took it in, or made it
	At       string `json:"at"` // RFC 3339
	// Source is what is known of where a delivery comes from; Reading how somebody said that it is read, or how texts of a
	// table made here are read that are not in standard form.
	Source  json.RawMessage `json:"source,omitempty"`
	Reading json.RawMessage `json:"reading,omitempty"`
	// Of are the digests of the tables that it was made of, by the declaration Plan.
	Of   []string `json:"of,omitempty"`
	Plan *Version `json:"plan,omitempty"`
	// Ruled are the rulebooks that counted when it was made: of the datasets of what it was made of, and of the one that a fix
	// plan makes where that is another.
	Ruled []Version `json:"plan_rulebooks,omitempty"`
	// Ledger accounts for a cleaned table, step by step, Accounting for a merged one.
	Ledger     json.RawMessage `json:"ledger,omitempty"`
	Accounting json.RawMessage `json:"accounting,omitempty"`
	ChangeLog  string          `json:"change_log_sha256,omitempty"`
	RowMap     string          `json:"row_map_sha256,omitempty"`
	Marks      string          `json:"marks_sha256,omitempty"`
	// Judged is its newest audit; nil where it has none.
	Judged *JudgedLink `json:"judged,omitempty"`
	// Certificate is its own, where it has one, whole.
	Certificate string `json:"certificate,omitempty"`
}

// JudgedLink is what an audit found of a table of the chain.
type JudgedLink struct {
	Rulebook *Version          `json:"rulebook,omitempty"` // nil where nothing was declared
	At       string            `json:"at"`                 // RFC 3339
	Rows     int64             `json:"rows"`
	Score    string            `json:"score"`
	Passed   *bool             `json:"passed"`
	Sums     map[string]string `json:"sums"`
	Findings []FindingFact     `json:"findings"`
	// Beside are the tables of other datasets that it was held against, and Past the digests of the profiles of earlier tables.
	Beside []BesideFact `json:"beside,omitempty"`
	Past   []string     `json:"past,omitempty"`
}

// BesideFact is a table of another dataset that one was held against, with how it is read.
type BesideFact struct {
	Dataset  string          `json:"dataset"`
	SHA256   string          `json:"sha256"`
	Origin   string          `json:"origin"`
	Reading  json.RawMessage `json:"reading,omitempty"`
	Rulebook *Version        `json:"rulebook,omitempty"`
}

// FindingFact is a finding, and what became of it.
type FindingFact struct {
	Rule     string            `json:"rule"`
	Severity rulebook.Severity `json:"severity"`
	Rows     int64             `json:"rows"`
	Found    string            `json:"found"`
	Became   string            `json:"became,omitempty"` // how its issue stands or ended
}

// QuestionFact is a question with its answer; what it is about is told with personal data masked.
type QuestionFact struct {
	Code    string            `json:"code"`
	Dataset string            `json:"dataset"`
	Found   string            `json:"found"`
	About   string            `json:"about,omitempty"`
	Answer  string            `json:"answer,omitempty"` // empty where there is none
	Right   map[string]string `json:"right,omitempty"`
	Note    string            `json:"note,omitempty"`
	By      string            `json:"by,omitempty"`
	At      string            `json:"at,omitempty"` // RFC 3339
	Became  string            `json:"became,omitempty"`
}

// TableFacts name the table.
type TableFacts struct {
	SHA256  string            `json:"sha256"`
	Bytes   int64             `json:"bytes"`
	Rows    int64             `json:"rows"`
	Columns []ColumnFacts     `json:"columns"`
	Sums    map[string]string `json:"sums"`
	// Marks is the SHA-256 of the file that says which cells are estimates, and Estimates how many are; left out where none
	// are.
	Marks     string `json:"marks_sha256,omitempty"`
	Estimates int64  `json:"estimates,omitempty"`
	// Are says whether the audit counted them as missing or as values.
	Are string `json:"estimates_are,omitempty"`
	// There is where the table lies, where it was judged in a database and none of its rows were taken. SHA256 and Bytes are then those of the note of what
	// it was, which is in no file but that.
	There *ThereFacts `json:"there,omitempty"`
}

// ThereFacts name a table in a database as it was when it was judged.
type ThereFacts struct {
	Address  string `json:"address"` // host, port and database
	Server   string `json:"server"`  // what it is, and its version
	Relation string `json:"relation"`
	Query    string `json:"query,omitempty"`
	// Digest is one of all rows, without regard to their order, and DigestBy says how the server worked it out.
	Digest   string `json:"digest"`
	DigestBy string `json:"digest_by"`
	At       string `json:"at"` // when it was judged, RFC 3339
	// Notes say what of its audit is not exact, or not told.
	Notes []string `json:"notes,omitempty"`
}

// ThereOf says where the table lies that an audit judged there, at an address and a time; nil where it was at hand.
func ThereOf(r *audit.Result, address string, at time.Time) *ThereFacts {
	if r.There == nil {
		return nil
	}
	return &ThereFacts{Address: address, Server: r.There.Server, Relation: r.There.Relation, Query: r.There.Query, Digest: r.There.Digest, DigestBy: r.There.DigestBy, At: at.UTC().Format(time.RFC3339), Notes: r.There.Notes}
}

// Says tells in words where the table lies.
func (t *ThereFacts) Says() string {
	return fmt.Sprintf("%s at %s (%s), as it was at %s: the digest of its rows, without regard to their order, was %s (%s)", t.Relation, t.Address, t.Server, t.At, t.Digest, t.DigestBy)
}

// ColumnFacts are a column's scores, as text with four digits after the point, so that the signed bytes are plain.
type ColumnFacts struct {
	Name    string `json:"name"`
	Type    string `json:"type"`
	Score   string `json:"score"`
	Filled  int64  `json:"filled"`
	Missing int64  `json:"missing"`
	// Estimated is how many of the filled cells are estimates.
	Estimated int64 `json:"estimated,omitempty"`
}

// Version names a declaration by its number and bytes.
type Version struct {
	Name    string `json:"name"`
	Version int    `json:"version"`
	SHA256  string `json:"sha256"`
	// Earlier marks a fix plan that was saved when every cleaned table was put in standard form without a step.
	Earlier bool `json:"earlier,omitempty"`
}

// AuditFacts are the audit's outcome.
type AuditFacts struct {
	Score    string         `json:"score"`
	PassMark string         `json:"pass_mark"`
	Rules    []audit.Judged `json:"rules"`
}

// InputFacts trace one input to the bytes that arrived.
type InputFacts struct {
	Dataset       string            `json:"dataset"`
	TableSHA256   string            `json:"table_sha256"`
	Delivery      string            `json:"delivery_sha256"`
	FileName      string            `json:"file_name"`
	FixPlan       *Version          `json:"fix_plan,omitempty"`
	ChangeLog     string            `json:"change_log_sha256,omitempty"`
	RowsDelivered int64             `json:"rows_delivered"`
	RowsHanded    int64             `json:"rows_handed_over"`
	CellsChanged  int64             `json:"cells_changed"`
	SumsDelivered map[string]string `json:"sums_delivered"`
	SumsHanded    map[string]string `json:"sums_handed_over"`
	FixedBy       string            `json:"fixed_by,omitempty"`
}

// MergeFacts say how the inputs were put together.
type MergeFacts struct {
	Plan       Version         `json:"plan"`
	MergedBy   string          `json:"merged_by"`
	Accounting json.RawMessage `json:"accounting"`
}

// Waiver is what somebody accepted of a finding, for a reason.
type Waiver struct {
	Dataset string `json:"dataset"`
	Rule    string `json:"rule"`
	// Subject is what its issue is of, where that is no rule: a lead, a text, or rows.
	Subject string `json:"subject,omitempty"`
	Reason  string `json:"reason"`
	By      string `json:"by"`
	// Until is the last day on which it holds; empty for one without an end, or of one delivery.
	Until string `json:"until"`
	// Covers says in words what is accepted, Scope exactly, and Only that it holds for this delivery alone.
	Covers string          `json:"covers,omitempty"`
	Scope  json.RawMessage `json:"scope,omitempty"`
	Only   bool            `json:"only_this_delivery,omitempty"`
	At     string          `json:"at,omitempty"` // when it was given, RFC 3339
	// Rows is how many rows of the finding it accepts in Table, with the other waivers of the same finding, where there are any.
	Rows  int64  `json:"rows,omitempty"`
	Table string `json:"table_sha256,omitempty"`
}

// Eased is a decision by which a rulebook asks less than before.
type Eased struct {
	Dataset  string   `json:"dataset"`
	Version  int      `json:"version"` // of the rulebook that asks less
	Says     []string `json:"says"`    // what it asks less
	Reason   string   `json:"reason"`
	By       string   `json:"by"`
	AgreedBy string   `json:"agreed_by"` // a second person, or the same one where none was asked for
	At       string   `json:"at"`        // RFC 3339
}

// AcceptedFact is a finding that stands.
type AcceptedFact struct {
	Rule     string            `json:"rule"`
	Severity rulebook.Severity `json:"severity"`
	Found    string            `json:"found"`
}

// Score writes a score as certificates have it: with four digits after the point.
func Score(v float64) string { return fmt.Sprintf("%.4f", v) }

// ColumnsOf says what a certificate says of the columns of an audit.
func ColumnsOf(r *audit.Result) []ColumnFacts {
	out := []ColumnFacts{}
	for _, c := range r.Columns {
		out = append(out, ColumnFacts{Name: c.Name, Type: string(c.Type), Score: Score(c.Score), Filled: c.Filled, Missing: c.Missing, Estimated: c.Estimated})
	}
	return out
}

// AcceptedOf says which findings of an audit stand in a table that is certified, with personal data masked.
func AcceptedOf(r *audit.Result) []AcceptedFact {
	return AcceptedAsIs(question.Masked(r, question.Personal(r)))
}

// AcceptedAsIs is AcceptedOf with the texts as they are, as certificates had them that were signed before.
func AcceptedAsIs(r *audit.Result) []AcceptedFact {
	out := []AcceptedFact{}
	for _, f := range r.Findings {
		out = append(out, AcceptedFact{Rule: f.Rule, Severity: f.Severity, Found: f.Found})
	}
	return out
}

// FindingsOf says what an audit of the chain found, with personal data masked; what became of each is not among it.
func FindingsOf(r *audit.Result) []FindingFact {
	return FindingsAsIs(question.Masked(r, question.Personal(r)))
}

// FindingsAsIs is FindingsOf with the texts as they are, as certificates had them that were signed before.
func FindingsAsIs(r *audit.Result) []FindingFact {
	out := []FindingFact{}
	for _, f := range r.Findings {
		out = append(out, FindingFact{Rule: f.Rule, Severity: f.Severity, Rows: f.Rows, Found: f.Found})
	}
	return out
}
