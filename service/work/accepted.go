package work

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/relation"
	"proudsieve/core/table"
	"proudsieve/core/waiver"
	"proudsieve/service/records"
)

// Accepted tells what waivers accept of what an audit found, and what there still is of the issues that people made.
type Accepted struct {
	Result *audit.Result
	// There says that the table was judged where it lies: no rows or texts of it can be looked for, so that waivers which name some accept nothing.
	There bool
	// Open opens the table; it is called where texts or rows are looked for.
	Open func() (*relation.Table, error)
	// Rows returns the rows of a finding.
	Rows func(rule string) (*table.RowSet, error)

	known map[string]*waiver.Covered
}

// Of tells what waivers accept of what was found of their issue; nil where nothing of it was found.
func (a *Accepted) Of(ctx context.Context, subject, rule string, about json.RawMessage, waivers []records.Waiver) (*waiver.Covered, error) {
	key := ""
	scopes := make([]waiver.Scope, len(waivers))
	for i, w := range waivers {
		key += fmt.Sprintf("%d ", w.ID)
		if err := json.Unmarshal(w.Scope, &scopes[i]); err != nil {
			return nil, err
		}
	}
	if c, known := a.known[key]; known {
		return c, nil
	}
	c, err := a.By(ctx, subject, rule, about, scopes)
	if err != nil || c == nil {
		return nil, err
	}
	if a.known == nil {
		a.known = map[string]*waiver.Covered{}
	}
	a.known[key] = c
	return c, nil
}

// By tells what scopes would accept of what was found of an issue; nil where nothing of it was found.
func (a *Accepted) By(ctx context.Context, subject, rule string, about json.RawMessage, scopes []waiver.Scope) (*waiver.Covered, error) {
	f, err := a.finding(ctx, subject, rule, about)
	if err != nil || f == nil {
		return nil, err
	}
	if a.There {
		scopes = slices.DeleteFunc(slices.Clone(scopes), func(s waiver.Scope) bool { return len(s.Texts) > 0 || len(s.Rows) > 0 })
	}
	return waiver.Cover(ctx, a.Open, *f, scopes)
}

// finding is what was found of the subject of an issue; nil where nothing was.
func (a *Accepted) finding(ctx context.Context, subject, rule string, about json.RawMessage) (*waiver.Finding, error) {
	if subject == "rule" {
		f := a.Result.Finding(rule)
		if f == nil {
			return nil, nil
		}
		return &waiver.Finding{Says: f.Found, Rows: f.Rows, Of: a.Result.Rows, Set: func() (*table.RowSet, error) { return a.Rows(rule) }}, nil
	}
	says, rows, ok, err := a.Still(ctx, subject, rule, about)
	if err != nil || !ok || rows == 0 {
		return nil, err
	}
	return &waiver.Finding{Says: says, Rows: rows, Of: a.Result.Rows, Set: func() (*table.RowSet, error) { return table.NewRowSet(), nil }}, nil
}

// Still tells what there is of an issue that a person made of a lead, of a text or of rows, and in how many rows; ok is false
// where the audit cannot tell.
func (a *Accepted) Still(ctx context.Context, subject, rule string, raw json.RawMessage) (says string, rows int64, ok bool, err error) {
	var about records.IssueSubject
	if err := json.Unmarshal(raw, &about); err != nil {
		return "", 0, false, err
	}
	switch subject {
	case "lead":
		at := slices.IndexFunc(a.Result.Leads, func(l audit.Lead) bool { return l.Kind == rule && l.Column == about.Column })
		if at < 0 {
			return "", 0, true, nil
		}
		l := a.Result.Leads[at]
		return l.Says, max(l.Rows, 1), true, nil
	case "text":
		if a.There {
			return "", 0, false, nil
		}
		f := a.Result.Finding(rule)
		if f == nil {
			return "", 0, a.Result.Judges(rule), nil
		}
		if f.Rows > 0 {
			set, err := a.Rows(rule)
			if err != nil {
				return "", 0, false, err
			}
			if rows, err = a.count(ctx, set, waiver.Scope{Column: textColumn(&about), Texts: []string{about.Text}}); err != nil {
				return "", 0, false, err
			}
		}
		return fmt.Sprintf("%q stands in %s of %s.", about.Text, document.Counted(rows, "row", "rows"), strings.Join(about.Columns, ", ")), rows, true, nil
	}
	if len(about.Named) == 0 || a.There { // of earlier versions, which did not say which rows those were
		return "", 0, false, nil
	}
	var scope waiver.Scope
	if err := json.Unmarshal(about.Named, &scope); err != nil {
		return "", 0, false, err
	}
	rows, err = a.count(ctx, waiver.EveryRow(), scope)
	return document.Counted(rows, "row is", "rows are") + " in question.", rows, true, err
}

// textColumn is the column in which the text of an issue stands.
func textColumn(about *records.IssueSubject) string {
	if about.Column == "" && len(about.Columns) > 0 {
		return about.Columns[0]
	}
	return about.Column
}

// count counts the rows of a set that a scope names.
func (a *Accepted) count(ctx context.Context, set *table.RowSet, scope waiver.Scope) (int64, error) {
	t, err := a.Open()
	if err != nil {
		return 0, err
	}
	return waiver.Count(ctx, t, set, scope)
}
