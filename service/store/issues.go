package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/document"
	"proudsieve/core/waiver"
)

// The states of an issue.
const (
	IssueOpen   = "open"
	IssueAsked  = "asked"  // the owner of the data was asked, and has not answered
	IssueWaived = "waived" // accepted as it is, for a reason, until a date
	IssueClosed = "closed" // it ended: a later audit no longer found it, or somebody said why it is over
)

// How an issue can end.
const (
	EndedCorrected   = "corrected"    // a later delivery has none of it
	EndedPutRight    = "put_right"    // a table that was made here has none of it
	EndedAccepted    = "accepted"     // it is waived
	EndedWithdrawn   = "withdrawn"    // what it was found in was withdrawn
	EndedRuleChanged = "rule_changed" // nothing asks for it any more
)

const issueColumns = `SELECT i.id, d.name AS dataset, i.dataset_id, i.subject, i.rule, i.about, i.title, i.severity, i.state, p.name AS assignee, i.owner, to_char(i.due, 'YYYY-MM-DD') AS due,
	(` + overdue + `) AS overdue, i.ended, i.holds_audit_id, i.rows, i.audit_id,
	(SELECT table_id FROM audits WHERE id = i.audit_id) AS table_id, (SELECT count(*) FROM waivers w WHERE w.issue_id = i.id AND ` + inForce + `) AS waivers,
	i.version, i.created_at, i.changed_at
	FROM issues i JOIN datasets d ON d.id = i.dataset_id LEFT JOIN people p ON p.id = i.assignee_id`

// overdue holds of issues that are not settled though their day is over.
const overdue = "i.state IN ('open', 'asked') AND coalesce(i.due < (now() AT TIME ZONE 'UTC')::date, false)"

// FindIssue returns an issue by its id.
func FindIssue(ctx context.Context, q Querier, id int64) (*Issue, error) {
	return get[Issue](ctx, q, fmt.Sprintf("issue %d", id), issueColumns+" WHERE i.id = $1", id)
}

// IssueFilter says which issues are wanted; what is empty does not restrict.
type IssueFilter struct {
	Dataset, State, Severity string
	Assignee                 string // a person's name; Nobody for issues without one
	Owner                    string // who can tell what is right, by name
	Overdue                  bool   // only those whose day is over
	Text                     string // that the title, the rule or the dataset contains
	Order                    string // one of IssueOrders; the newest first where it is left out
}

// Nobody is the assignee of issues without one.
const Nobody = "-"

// issueOrders are the numbers that issues are ordered by, the greatest first.
var issueOrders = map[string]string{
	"newest":  "i.id",
	"changed": "(extract(epoch FROM i.changed_at) * 1000000)::bigint",
	"rows":    "i.rows",
	"due":     "coalesce(1000000 - (i.due - '2000-01-01'::date), -1000000)::bigint", // the most urgent first
	"gravest": "(CASE i.severity WHEN 'major' THEN 2 WHEN 'minor' THEN 1 ELSE 0 END) * 1000000000000::bigint + LEAST(i.rows, 999999999999)",
}

// issueRows are the issues that a filter leaves; its values are the first seven arguments.
const issueRows = ` WHERE ($1 = '' OR d.name = $1)
	AND ($2 = '' OR i.state = $2 OR ($2 = 'unsettled' AND i.state IN ('open', 'asked')))
	AND ($3 = '' OR p.name = $3 OR ($3 = '` + Nobody + `' AND i.assignee_id IS NULL))
	AND ($4 = '' OR i.severity = $4)
	AND ($5 = '' OR strpos(lower(i.title || ' ' || i.rule || ' ' || d.name), lower($5)) > 0)
	AND ($6 = '' OR i.owner = $6)
	AND (NOT $7 OR ` + overdue + `)`

func (f IssueFilter) arguments() []any {
	return []any{f.Dataset, f.State, f.Assignee, f.Severity, f.Text, f.Owner, f.Overdue}
}

// Issues lists issues. The state "unsettled" means open or asked.
func Issues(ctx context.Context, q Querier, f IssueFilter, c Cursor) (*Page[Issue], error) {
	key, known := issueOrders[cmp.Or(f.Order, "newest")]
	if !known {
		return nil, fmt.Errorf("%w: issues are not ordered by %q", ErrNotFound, f.Order)
	}
	from, err := c.below()
	if err != nil {
		return nil, err
	}
	type ordered struct {
		Issue
		Key int64 `db:"key"`
	}
	found, err := list[ordered](ctx, q, strings.Replace(issueColumns, "SELECT ", "SELECT "+key+" AS key, ", 1)+issueRows+seen(ctx, "i.dataset_id")+
		" AND ("+key+", i.id) < ($8::bigint, $9::bigint) ORDER BY key DESC, i.id DESC LIMIT $10",
		append(f.arguments(), from.key, from.id, c.limit()+1)...)
	if err != nil {
		return nil, err
	}
	out := &Page[Issue]{Items: []Issue{}}
	for i := range found[:min(len(found), c.limit())] {
		out.Items = append(out.Items, found[i].Issue)
	}
	if len(found) > c.limit() {
		last := found[c.limit()-1]
		out.Next = fmt.Sprintf("%d.%d", last.Key, last.ID)
	}
	return out, nil
}

// CountIssues returns how many issues a filter leaves.
func CountIssues(ctx context.Context, q Querier, f IssueFilter) (int64, error) {
	n, err := get[int64](ctx, q, "issue", `SELECT count(*) FROM issues i JOIN datasets d ON d.id = i.dataset_id
		LEFT JOIN people p ON p.id = i.assignee_id`+issueRows+seen(ctx, "i.dataset_id"), f.arguments()...)
	if err != nil {
		return 0, err
	}
	return *n, nil
}

// IssueEntries lists what happened to an issue, oldest first.
func IssueEntries(ctx context.Context, q Querier, id int64) ([]IssueEntry, error) {
	return list[IssueEntry](ctx, q,
		"SELECT e.id, p.name AS person, e.kind, e.text, e.audit_id, e.at FROM issue_entries e LEFT JOIN people p ON p.id = e.person_id WHERE e.issue_id = $1 ORDER BY e.id", id)
}

// AddIssueEntry adds to the record of an issue; person 0 means an audit.
func AddIssueEntry(ctx context.Context, q Querier, issue, person int64, kind, text string, audit *int64) error {
	_, err := exec(ctx, q,
		"INSERT INTO issue_entries (issue_id, person_id, kind, text, audit_id) VALUES ($1, NULLIF($2::bigint, 0), $3, $4, $5)", issue, person, kind, text, audit)
	return err
}

// IssueChange is what a person changes about an issue; nil leaves it as it is.
type IssueChange struct {
	State      *string
	Ended      *string // how it ended, where State says that it is closed or waived
	AssigneeID *int64  // 0 for nobody
	Owner      *string // empty for nobody
	Due        *string // yyyy-MM-dd; empty for no day
}

// ChangeIssue changes an issue that still has the version the caller saw, else it returns ErrConflict.
func ChangeIssue(ctx context.Context, q Querier, id int64, version int, c IssueChange) error {
	ok, err := changed(exec(ctx, q, `UPDATE issues SET state = COALESCE($3, state),
		ended = CASE WHEN $3::text IS NULL THEN ended ELSE $4 END,
		assignee_id = CASE WHEN $5::bigint IS NULL THEN assignee_id ELSE NULLIF($5, 0) END,
		owner = COALESCE($6, owner), due = CASE WHEN $7::text IS NULL THEN due ELSE NULLIF($7, '')::date END,
		version = version + 1, changed_at = now() WHERE id = $1 AND version = $2`, id, version, c.State, c.Ended, c.AssigneeID, c.Owner, c.Due))
	if err == nil && !ok {
		err = fmt.Errorf("%w: somebody changed issue %d in the meantime; look at it again", ErrConflict, id)
	}
	return err
}

// FoundRule is a finding as far as issues are concerned.
type FoundRule struct {
	Rule, Severity, Title string
	Rows                  int64
}

// Followed is a finished audit as far as issues are concerned.
type Followed struct {
	DatasetID, AuditID, TableID int64
	// Made says how the table was made here, in a sentence; empty for a delivery.
	Made  string
	Found []FoundRule
	Held  []string // rules that were judged and hold
	// Cover tells what waivers in force accept of what was found of an issue.
	Cover func(i *Issue, waivers []Waiver) (*waiver.Covered, error)
	// Told tells what there still is of an issue that a person made of a lead, a text or rows; ok is false where the audit
	// cannot tell.
	Told func(i *Issue) (says string, rows int64, ok bool, err error)
	// CameBack is told of each issue that was settled and is open again; nil for nobody.
	CameBack func(i *Issue)
}

// FollowIssues brings the issues of a dataset up to date with an audit: a finding opens an issue or adds to the one there
// is, and a rule that was judged and holds ends its issue. A waiver in force accepts what it was given for, and no more.
func FollowIssues(ctx context.Context, tx *sqlx.Tx, f Followed) error {
	// Not FOR UPDATE: recording an audit has locked the dataset's key already, for sharing, and two
	// audits that end together would wait for each other.
	if err := LockDataset(ctx, tx, f.DatasetID); err != nil {
		return err
	}
	given, err := WaiversFor(ctx, tx, f.DatasetID, f.TableID)
	if err != nil {
		return err
	}
	w := follower{Followed: f, given: ByIssue(given)}
	for _, found := range f.Found {
		if err := w.found(ctx, tx, found); err != nil {
			return err
		}
	}
	held, err := list[Issue](ctx, tx, issueColumns+
		" WHERE i.dataset_id = $1 AND i.subject = 'rule' AND i.state <> 'closed' AND i.rule = ANY($2) ORDER BY i.id", f.DatasetID, f.Held)
	if err != nil {
		return err
	}
	for i := range held {
		if err := w.gone(ctx, tx, &held[i]); err != nil {
			return err
		}
	}
	return w.others(ctx, tx)
}

// follower brings issues up to date with one audit.
type follower struct {
	Followed
	given map[int64][]Waiver // in force for its table, by issue
}

func setState(ctx context.Context, q Querier, id int64, state string, ended *string) error {
	_, err := exec(ctx, q, "UPDATE issues SET state = $2, ended = $3, version = version + 1, changed_at = now() WHERE id = $1", id, state, ended)
	return err
}

func setIssue(ctx context.Context, q Querier, id int64, state string, ended *string, entry, text string, audit *int64) error {
	if err := setState(ctx, q, id, state, ended); err != nil {
		return err
	}
	return AddIssueEntry(ctx, q, id, 0, entry, text, audit)
}

// found follows a finding of a rule.
func (w *follower) found(ctx context.Context, tx *sqlx.Tx, f FoundRule) error {
	issue, err := get[Issue](ctx, tx, "issue", issueColumns+" WHERE i.dataset_id = $1 AND i.rule = $2 AND i.subject = 'rule'", w.DatasetID, f.Rule)
	if errors.Is(err, ErrNotFound) {
		id, err := get[int64](ctx, tx, "issue",
			"INSERT INTO issues (dataset_id, rule, title, severity, rows, audit_id) VALUES ($1, $2, $3, $4, $5, $6) RETURNING id",
			w.DatasetID, f.Rule, f.Title, f.Severity, f.Rows, w.AuditID)
		if err != nil {
			return err
		}
		return AddIssueEntry(ctx, tx, *id, 0, "opened", f.Title, &w.AuditID)
	}
	if err != nil {
		return err
	}
	return w.still(ctx, tx, issue, f)
}

// still follows an issue that was found again.
func (w *follower) still(ctx context.Context, tx *sqlx.Tx, issue *Issue, f FoundRule) error {
	if _, err := exec(ctx, tx, "UPDATE issues SET title = $2, severity = $3, rows = $4, audit_id = $5, holds_audit_id = NULL WHERE id = $1",
		issue.ID, f.Title, f.Severity, f.Rows, w.AuditID); err != nil {
		return err
	}
	issue.Title, issue.Severity, issue.Rows = f.Title, f.Severity, f.Rows
	set := func(state, entry, text string) error {
		var ended *string
		if state == IssueWaived {
			accepted := EndedAccepted
			ended = &accepted
		}
		if state == IssueOpen && issue.State != IssueOpen && w.CameBack != nil {
			w.CameBack(issue)
		}
		return setIssue(ctx, tx, issue.ID, state, ended, entry, text, &w.AuditID)
	}
	waivers := w.given[issue.ID]
	if len(waivers) == 0 {
		switch issue.State {
		case IssueWaived:
			return set(IssueOpen, "expired", f.Title)
		case IssueClosed:
			return set(IssueOpen, "reopened", f.Title)
		}
		return set(issue.State, "seen", f.Title)
	}
	covered, err := w.Cover(issue, waivers)
	if err != nil {
		return err
	}
	switch text := Beyond(covered, f.Title); {
	case covered.All() && issue.State == IssueAsked:
		return set(IssueAsked, "seen", f.Title)
	case covered.All():
		return set(IssueWaived, "seen", f.Title)
	case issue.State == IssueClosed || issue.State == IssueWaived:
		return set(IssueOpen, "reopened", text)
	default:
		return set(issue.State, "seen", text)
	}
}

// Beyond says what of a finding is beyond what was waived; the finding itself where nothing is.
func Beyond(c *waiver.Covered, found string) string {
	switch {
	case c.Otherwise:
		return "It says something else than what was waived. " + found
	case c.Beyond > 0:
		return fmt.Sprintf("%s more than %s waived. %s", document.Grouped(c.Beyond), document.Plural(c.Covered, "was", "were"), found)
	}
	return found
}

// gone follows an issue of which the audit found nothing. Where the table was made here, and the owner of the data was asked
// and has not answered, the question stays open.
func (w *follower) gone(ctx context.Context, tx *sqlx.Tx, issue *Issue) error {
	switch {
	case w.Made == "":
		return w.end(ctx, tx, issue, EndedCorrected, "")
	case issue.State != IssueAsked:
		return w.end(ctx, tx, issue, EndedPutRight, w.Made)
	}
	if _, err := exec(ctx, tx, "UPDATE issues SET holds_audit_id = $2, changed_at = now() WHERE id = $1", issue.ID, w.AuditID); err != nil {
		return err
	}
	return AddIssueEntry(ctx, tx, issue.ID, 0, "put_right", w.Made, &w.AuditID)
}

func (w *follower) end(ctx context.Context, tx *sqlx.Tx, issue *Issue, ended, text string) error {
	return setIssue(ctx, tx, issue.ID, IssueClosed, &ended, "closed", text, &w.AuditID)
}

// others follows the issues that people made of leads, of texts and of rows.
func (w *follower) others(ctx context.Context, tx *sqlx.Tx) error {
	issues, err := list[Issue](ctx, tx, issueColumns+
		" WHERE i.dataset_id = $1 AND i.subject <> 'rule' AND i.state <> 'closed' ORDER BY i.id", w.DatasetID)
	if err != nil {
		return err
	}
	for i := range issues {
		says, rows, ok, err := w.Told(&issues[i])
		if err != nil {
			return err
		}
		switch {
		case !ok:
		case rows == 0:
			err = w.gone(ctx, tx, &issues[i])
		default:
			err = w.still(ctx, tx, &issues[i], FoundRule{Rule: issues[i].Rule, Severity: issues[i].Severity, Title: says, Rows: rows})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Lost lists the issues of a dataset that are not settled, or waived, and whose rules are not among some.
func Lost(ctx context.Context, q Querier, dataset int64, rules []string) ([]Issue, error) {
	return list[Issue](ctx, q, issueColumns+
		" WHERE i.dataset_id = $1 AND i.subject = 'rule' AND i.state <> 'closed' AND NOT i.rule = ANY($2) ORDER BY i.id", dataset, rules)
}

// LoseRule ends an issue whose rule is gone, or moves it to another rule, in the name of who decided that.
func LoseRule(ctx context.Context, q Querier, i *Issue, to string, version int, reason string, person int64) error {
	text := fmt.Sprintf("Version %d of the rulebook has no rule %s any more: %s", version, i.Rule, reason)
	ended := EndedRuleChanged
	if to == "" {
		if err := setState(ctx, q, i.ID, IssueClosed, &ended); err != nil {
			return err
		}
		return AddIssueEntry(ctx, q, i.ID, person, "closed", text, nil)
	}
	other, err := OrNil(get[Issue](ctx, q, "issue", issueColumns+" WHERE i.dataset_id = $1 AND i.subject = 'rule' AND i.rule = $2", i.DatasetID, to))
	if err != nil {
		return err
	}
	if other != nil { // that one goes on, with what became of this one told in both
		if err := AddIssueEntry(ctx, q, other.ID, person, "moved", fmt.Sprintf("Issue %d, of the rule %s, goes on here. %s", i.ID, i.Rule, text), nil); err != nil {
			return err
		}
		if other.State == IssueClosed {
			if err := setState(ctx, q, other.ID, i.State, i.Ended); err != nil {
				return err
			}
		}
		if _, err := exec(ctx, q, "UPDATE waivers w SET issue_id = $2 WHERE w.issue_id = $1 AND "+inForce, i.ID, other.ID); err != nil {
			return err
		}
		if err := setState(ctx, q, i.ID, IssueClosed, &ended); err != nil {
			return err
		}
		return AddIssueEntry(ctx, q, i.ID, person, "moved", fmt.Sprintf("It goes on as issue %d, of the rule %s. %s", other.ID, to, text), nil)
	}
	if _, err := exec(ctx, q, "UPDATE issues SET rule = $2, version = version + 1, changed_at = now() WHERE id = $1", i.ID, to); err != nil {
		return err
	}
	return AddIssueEntry(ctx, q, i.ID, person, "moved", fmt.Sprintf("It is of the rule %s now. %s", to, text), nil)
}

// NewIssue is an issue that a person makes.
type NewIssue struct {
	DatasetID, AuditID, PersonID   int64
	Subject, Rule, Title, Severity string
	About                          json.RawMessage
	Rows                           int64
}

// AddIssue records an issue that a person makes, and returns its number.
func AddIssue(ctx context.Context, q Querier, n NewIssue) (int64, error) {
	id, err := get[int64](ctx, q, "issue",
		"INSERT INTO issues (dataset_id, subject, rule, about, title, severity, rows, audit_id) VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id",
		n.DatasetID, n.Subject, n.Rule, string(n.About), n.Title, n.Severity, n.Rows, n.AuditID)
	if err != nil {
		return 0, err
	}
	return *id, AddIssueEntry(ctx, q, *id, n.PersonID, "opened", n.Title, &n.AuditID)
}

// AskedQuestion is what the owner of the data was asked about a rule.
type AskedQuestion struct {
	Rule   string    `db:"rule"`
	Text   string    `db:"text"`
	Person string    `db:"person"`
	At     time.Time `db:"at"`
}

// QuestionsOf lists what the owner of a dataset was asked and has not answered, the oldest
// first: what was last said about the issue, or its title.
func QuestionsOf(ctx context.Context, q Querier, dataset int64) ([]AskedQuestion, error) {
	return list[AskedQuestion](ctx, q, `SELECT i.rule, p.name AS person, e.at,
		coalesce((SELECT text FROM issue_entries WHERE issue_id = i.id AND kind = 'comment' ORDER BY id DESC LIMIT 1), i.title) AS text FROM issues i
		JOIN LATERAL (SELECT * FROM issue_entries WHERE issue_id = i.id AND kind = 'asked' ORDER BY id DESC LIMIT 1) e ON true
		JOIN people p ON p.id = e.person_id WHERE i.dataset_id = $1 AND i.state = 'asked' ORDER BY e.id`, dataset)
}
