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

	"proudsieve/service/records"
)

// The states of an issue.
const (
	IssueOpen   = "open"
	IssueAsked  = "asked"  // the owner of the data was asked, and has not answered
	IssueWaived = "waived" // accepted as it is, for a reason, until a date
	IssueClosed = "closed" // a later audit no longer found it
)

const issueColumns = `SELECT i.id, d.name AS dataset, i.dataset_id, i.subject, i.rule, i.about, i.title, i.severity, i.state, p.name AS assignee, i.rows, i.audit_id,
	(SELECT table_id FROM audits WHERE id = i.audit_id) AS table_id, i.waiver_reason, w.name AS waiver_by,
	to_char(i.waiver_until, 'YYYY-MM-DD') AS waiver_until, i.waiver_rows, i.version, i.created_at, i.changed_at
	FROM issues i JOIN datasets d ON d.id = i.dataset_id LEFT JOIN people p ON p.id = i.assignee_id LEFT JOIN people w ON w.id = i.waiver_by`

// FindIssue returns an issue by its id.
func FindIssue(ctx context.Context, q Querier, id int64) (*Issue, error) {
	return get[Issue](ctx, q, fmt.Sprintf("issue %d", id), issueColumns+" WHERE i.id = $1", id)
}

// IssueFilter says which issues are wanted; what is empty does not restrict.
type IssueFilter struct {
	Dataset, State, Severity string
	Assignee                 string // a person's name; Nobody for issues without one
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
	"gravest": "(CASE i.severity WHEN 'major' THEN 2 WHEN 'minor' THEN 1 ELSE 0 END) * 1000000000000::bigint + LEAST(i.rows, 999999999999)",
}

// issueRows are the issues that a filter leaves; its values are the first five arguments.
const issueRows = ` WHERE ($1 = '' OR d.name = $1)
	AND ($2 = '' OR i.state = $2 OR ($2 = 'unsettled' AND i.state IN ('open', 'asked')))
	AND ($3 = '' OR p.name = $3 OR ($3 = '` + Nobody + `' AND i.assignee_id IS NULL))
	AND ($4 = '' OR i.severity = $4)
	AND ($5 = '' OR strpos(lower(i.title || ' ' || i.rule || ' ' || d.name), lower($5)) > 0)`

func (f IssueFilter) arguments() []any {
	return []any{f.Dataset, f.State, f.Assignee, f.Severity, f.Text}
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
	found, err := list[ordered](ctx, q, strings.Replace(issueColumns, "SELECT ", "SELECT "+key+" AS key, ", 1)+issueRows+
		" AND ("+key+", i.id) < ($6::bigint, $7::bigint) ORDER BY key DESC, i.id DESC LIMIT $8",
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
		LEFT JOIN people p ON p.id = i.assignee_id`+issueRows, f.arguments()...)
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
	State        *string
	AssigneeID   *int64 // 0 for nobody
	WaiverReason *string
	WaiverUntil  *time.Time
	WaiverBy     *int64
	WaiverRows   *int64
}

// ChangeIssue changes an issue that still has the version the caller saw, else it returns ErrConflict.
func ChangeIssue(ctx context.Context, q Querier, id int64, version int, c IssueChange) error {
	ok, err := changed(exec(ctx, q, `UPDATE issues SET state = COALESCE($3, state),
		assignee_id = CASE WHEN $4::bigint IS NULL THEN assignee_id ELSE NULLIF($4, 0) END,
		waiver_reason = COALESCE($5, waiver_reason), waiver_until = COALESCE($6, waiver_until), waiver_by = COALESCE($7, waiver_by), waiver_rows = COALESCE($8, waiver_rows),
		version = version + 1, changed_at = now() WHERE id = $1 AND version = $2`, id, version, c.State, c.AssigneeID, c.WaiverReason, c.WaiverUntil, c.WaiverBy, c.WaiverRows))
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

// FollowIssues brings the issues of a dataset up to date with an audit: a finding
// opens an issue or adds to the one there is, and a rule that was judged and holds
// closes its issue. A waiver in force stays with the rule.
func FollowIssues(ctx context.Context, tx *sqlx.Tx, dataset, audit int64, found []FoundRule, held []string) error {
	// Not FOR UPDATE: recording an audit has locked the dataset's key already, for sharing, and two
	// audits that end together would wait for each other.
	if _, err := exec(ctx, tx, "SELECT id FROM datasets WHERE id = $1 FOR NO KEY UPDATE", dataset); err != nil {
		return err
	}
	for _, f := range found {
		if err := followFinding(ctx, tx, dataset, audit, f); err != nil {
			return err
		}
	}
	for _, rule := range held {
		issue, err := get[Issue](ctx, tx, "issue", issueColumns+
			" WHERE i.dataset_id = $1 AND i.rule = $2 AND i.subject = 'rule' AND i.state <> 'closed'", dataset, rule)
		if errors.Is(err, ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		if err := setIssue(ctx, tx, issue.ID, IssueClosed, "closed", "", &audit); err != nil {
			return err
		}
	}
	return nil
}

func setIssue(ctx context.Context, tx *sqlx.Tx, id int64, state, entry, text string, audit *int64) error {
	if _, err := exec(ctx, tx, "UPDATE issues SET state = $2, version = version + 1, changed_at = now() WHERE id = $1",
		id, state); err != nil {
		return err
	}
	return AddIssueEntry(ctx, tx, id, 0, entry, text, audit)
}

func followFinding(ctx context.Context, tx *sqlx.Tx, dataset, audit int64, f FoundRule) error {
	issue, err := get[Issue](ctx, tx, "issue", issueColumns+" WHERE i.dataset_id = $1 AND i.rule = $2 AND i.subject = 'rule'", dataset, f.Rule)
	if errors.Is(err, ErrNotFound) {
		id, err := get[int64](ctx, tx, "issue",
			"INSERT INTO issues (dataset_id, rule, title, severity, rows, audit_id) VALUES ($1, $2, $3, $4, $5, $6) RETURNING id",
			dataset, f.Rule, f.Title, f.Severity, f.Rows, audit)
		if err != nil {
			return err
		}
		return AddIssueEntry(ctx, tx, *id, 0, "opened", f.Title, &audit)
	}
	if err != nil {
		return err
	}
	if _, err := exec(ctx, tx, "UPDATE issues SET title = $2, severity = $3, rows = $4, audit_id = $5 WHERE id = $1",
		issue.ID, f.Title, f.Severity, f.Rows, audit); err != nil {
		return err
	}
	waived := issue.WaiverUntil != nil && *issue.WaiverUntil >= time.Now().UTC().Format(time.DateOnly)
	beyond := int64(0) // rows beyond those that the waiver was given for
	if waived && issue.WaiverRows != nil {
		beyond = max(0, f.Rows-*issue.WaiverRows)
	}
	switch {
	case waived && beyond > 0 && (issue.State == IssueClosed || issue.State == IssueWaived):
		return setIssue(ctx, tx, issue.ID, IssueOpen, "reopened",
			fmt.Sprintf("%d more than the %d rows that were waived. %s", beyond, *issue.WaiverRows, f.Title), &audit)
	case issue.State == IssueClosed && waived:
		return setIssue(ctx, tx, issue.ID, IssueWaived, "seen", f.Title, &audit)
	case issue.State == IssueClosed:
		return setIssue(ctx, tx, issue.ID, IssueOpen, "reopened", f.Title, &audit)
	case issue.State == IssueWaived && !waived:
		return setIssue(ctx, tx, issue.ID, IssueOpen, "expired", f.Title, &audit)
	}
	return setIssue(ctx, tx, issue.ID, issue.State, "seen", f.Title, &audit)
}

// CloseGone closes the issues of a dataset whose rules are not in its rulebook any more, in the
// name of who saved the version without them, and returns their rules.
func CloseGone(ctx context.Context, q Querier, dataset int64, rules []string, version int,
	person int64) ([]string, error) {
	gone, err := list[Issue](ctx, q, issueColumns+
		" WHERE i.dataset_id = $1 AND i.subject = 'rule' AND i.state <> 'closed' AND NOT i.rule = ANY($2) ORDER BY i.id", dataset, rules)
	if err != nil {
		return nil, err
	}
	closed := []string{}
	for _, i := range gone {
		if _, err := exec(ctx, q,
			"UPDATE issues SET state = 'closed', version = version + 1, changed_at = now() WHERE id = $1",
			i.ID); err != nil {
			return nil, err
		}
		if err := AddIssueEntry(ctx, q, i.ID, person, "closed",
			fmt.Sprintf("Version %d of the rulebook has no rule %s any more.", version, i.Rule), nil); err != nil {
			return nil, err
		}
		closed = append(closed, i.Rule)
	}
	return closed, nil
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

// FollowLeads brings the issues that were made of leads up to date with an audit: told says what is still told of a
// lead, by its kind and column, and for how many rows.
func FollowLeads(ctx context.Context, tx *sqlx.Tx, dataset, audit int64,
	told func(kind, column string) (says string, rows int64, ok bool)) error {
	issues, err := list[Issue](ctx, tx, issueColumns+
		" WHERE i.dataset_id = $1 AND i.subject = 'lead' AND i.state <> 'closed' ORDER BY i.id", dataset)
	if err != nil {
		return err
	}
	for _, i := range issues {
		var about records.IssueSubject
		if err := json.Unmarshal(i.About, &about); err != nil {
			return err
		}
		says, rows, ok := told(i.Rule, about.Column)
		if !ok {
			if err := setIssue(ctx, tx, i.ID, IssueClosed, "closed", "", &audit); err != nil {
				return err
			}
			continue
		}
		if _, err := exec(ctx, tx, "UPDATE issues SET title = $2, rows = $3, audit_id = $4 WHERE id = $1", i.ID, says, rows,
			audit); err != nil {
			return err
		}
		if err := setIssue(ctx, tx, i.ID, i.State, "seen", says, &audit); err != nil {
			return err
		}
	}
	return nil
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
