package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/budget"
	"proudsieve/core/condition"
	"proudsieve/core/guard"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/tally"
	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// inside is a table opened with the rulebook of its newest audit.
type inside struct {
	*relation.Table
	file  *intake.File
	key   string // of the table and its rulebook, for remembering
	audit *records.Audit
	id    int64
	of    int64 // its dataset
}

// parsed is a rulebook that is remembered, which nobody changes.
type parsed struct{ *rulebook.Rulebook }

// size is how many bytes a rulebook takes, at the most: its text has a megabyte at the most.
func (parsed) size() int64 { return 128 << 10 }

// rulebook reads a version of a rulebook, which never changes. One that takes codes from other
// datasets is bound to them, and so is read anew each time.
func (s *Server) rulebook(ctx context.Context, id int64) (*rulebook.Rulebook, error) {
	read := func(ctx context.Context) (parsed, error) {
		d, err := store.FindDeclaration(ctx, s.Store.DB, id)
		if err != nil {
			return parsed{}, err
		}
		book, err := rulebook.Parse([]byte(d.Source))
		return parsed{book}, err
	}
	book, err := recallFor(ctx, &s.remembered, fmt.Sprintf("rulebook %d", id), 0, read)
	if err == nil && takesCodes(book.Rulebook) {
		book, err = read(ctx)
	}
	return book.Rulebook, err
}

// size is how many bytes an open table takes, with its rulebook, at the most.
func (*inside) size() int64 { return 256 << 10 }

func (s *Server) inside(ctx context.Context, id int64) (*inside, error) {
	return s.insideBy(ctx, id, 0)
}

// insideBy opens a table as one of its audits had it; as the newest had, for 0.
func (s *Server) insideBy(ctx context.Context, id, by int64) (*inside, error) {
	t, err := store.FindTable(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	if by != 0 {
		t.AuditID = &by
	}
	var book *rulebook.Rulebook
	var a *records.Audit
	version := int64(0)
	if t.AuditID != nil {
		if a, err = store.FindAudit(ctx, s.Store.DB, *t.AuditID); err != nil {
			return nil, err
		}
		if a.TableID != t.ID {
			return nil, invalid("Audit %d is not one of table %d.", a.ID, t.ID)
		}
		if a.RulebookID != nil {
			version = *a.RulebookID
			if book, err = s.rulebook(ctx, version); err != nil {
				return nil, err
			}
		}
	}
	book, beside, err := s.bound(ctx, t, book)
	if err != nil {
		return nil, err
	}
	key := fmt.Sprintf("%d %d %s", t.ID, version, beside)
	opened, err := recallFor(ctx, &s.remembered, "open "+key, 0, func(ctx context.Context) (*inside, error) {
		file, book, err := work.OpenTable(ctx, s.Files, t, book)
		if err != nil {
			return nil, err
		}
		if book, err = audit.WithOpen(ctx, book, file); err != nil {
			return nil, err
		}
		if a != nil {
			result, err := s.resultOf(ctx, a.ID)
			if err != nil {
				return nil, err
			}
			book = result.Settle(book)
		}
		return &inside{Table: &relation.Table{Source: file, Book: book, Workers: s.Pool.Workers}, file: file,
			key: key + " "}, nil
	})
	if err != nil {
		return nil, err
	}
	out := *opened
	out.audit, out.id, out.of = a, id, t.DatasetID
	return &out, nil
}

// relations adds the operations that look at how columns lie to one another.
func (s *Server) relations() {
	register(s, operation{
		Right: access.Read, ID: "show-reading", Method: http.MethodGet, Path: "/tables/{id}/reading",
		Summary: "How a table is read when nothing is declared, and what that rests on",
	}, func(ctx context.Context, in *ByID) (*body[detect.Detection], error) {
		t, err := store.FindTable(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		return answer(recall(ctx, &s.remembered, fmt.Sprintf("reading %d", t.ID),
			func(ctx context.Context) (*detect.Detection, error) {
				fixed, err := work.ReadingOf(t)
				if err != nil {
					return nil, err
				}
				return detect.Detect(ctx, files.At(s.Files, t.Digest), fixed)
			}))
	})
	type correlationsAsked struct {
		ByID
		Columns []string `query:"columns,explode" doc:"Columns of numbers; all of them where none is named"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-correlations", Method: http.MethodGet, Path: "/tables/{id}/correlations",
		Summary: "Linear and rank correlations between the columns of numbers",
	}, func(ctx context.Context, in *correlationsAsked) (*body[relation.Correlations], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if len(in.Columns) == 0 {
			in.Columns = t.NumberColumns()
		}
		in.Columns = in.Columns[:min(len(in.Columns), mostCorrelated)]
		return answer(recall(ctx, &s.remembered, t.key+"correlations "+strings.Join(in.Columns, "\x00"),
			func(ctx context.Context) (*relation.Correlations, error) {
				return asked(relation.Correlate(ctx, t.Table, in.Columns))
			}))
	})
	type tallyAsked struct {
		ByID
		By      []string `query:"by,explode" maxItems:"2" doc:"Expressions whose values are the groups: columns, or what is made of them, as DATE_TRUNC('month', day)"`
		Measure []string `query:"measure,explode" maxItems:"20" doc:"What is told of each group, as sum flow: rows, filled, distinct, sum, mean, median, first_quartile, third_quartile, lowest or highest, and of what; rows where none is named"`
		Share   string   `query:"share" enum:"all,row,column,before" doc:"Tell rows, filled and sums as shares in percent, or any measure as its change against the period before"`
		Where   string   `query:"where" doc:"Only rows for which this condition holds"`
		Is      string   `query:"is" doc:"Only rows whose cells have these texts: a JSON list of pairs of a column and a text"`
		Find    string   `query:"find" doc:"Only rows with a cell that contains this text"`
		Top     int      `query:"top" minimum:"0" maximum:"1000" doc:"How many groups are told of on their own; 0 for 40"`
		Order   string   `query:"order" doc:"group, rows or a measure"`
		Falling bool     `query:"falling" doc:"The greatest first"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-tally", Method: http.MethodGet, Path: "/tables/{id}/tally",
		Summary: "The rows of a table by group, with what measures say of each",
	}, func(ctx context.Context, in *tallyAsked) (*body[tally.Tally], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		rows, err := s.selected(ctx, t, in.Where, in.Is, in.Find)
		if err != nil {
			return nil, err
		}
		q := tally.Question{By: in.By, Rows: rows, Top: in.Top, Order: tally.Order{By: in.Order, Falling: in.Falling}}
		if len(in.Measure) == 0 {
			in.Measure = []string{tally.MeasureRows}
		}
		for _, text := range in.Measure {
			m := tally.MeasureOf(text)
			m.Share = in.Share
			q.Measures = append(q.Measures, m)
		}
		key := fmt.Sprintf("tally %q %q %q %d %v", in.By, q.Measures, []string{in.Where, in.Is, in.Find}, in.Top, q.Order)
		return answer(recall(ctx, &s.remembered, t.key+key, func(ctx context.Context) (*tally.Tally, error) {
			return asked(tally.Of(ctx, t.Table, q))
		}))
	})
	type columnsAsked struct {
		ByID
		Columns []string `query:"columns,explode" maxItems:"60" doc:"At most 60 columns; those that lack most where none is named"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-missing-together", Method: http.MethodGet, Path: "/tables/{id}/missing-together",
		Summary: "How many rows lack two columns at once, for each pair of columns",
	}, func(ctx context.Context, in *columnsAsked) (*body[relation.Together], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		columns := in.Columns
		if len(columns) == 0 {
			if t.audit == nil {
				return nil, invalid("The table has not been audited yet; name the columns, or wait for its audit.")
			}
			result, err := s.resultOf(ctx, t.audit.ID)
			if err != nil {
				return nil, err
			}
			columns = result.Lacking(pairedColumns)
		}
		return answer(recall(ctx, &s.remembered, t.key+fmt.Sprintf("missing together %q", columns),
			func(ctx context.Context) (*relation.Together, error) {
				return asked(relation.MissTogether(ctx, t.Table, columns))
			}))
	})
	type pointsAsked struct {
		ByID
		X     string `query:"x" required:"true" doc:"A column of numbers"`
		Y     string `query:"y" required:"true" doc:"Another one"`
		Most  int    `query:"most" minimum:"1" maximum:"5000" default:"2000" doc:"How many points at the most; of more rows they are a sample"`
		Where string `query:"where" doc:"Only rows for which this condition holds"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-points", Method: http.MethodGet, Path: "/tables/{id}/points",
		Summary: "Two columns of numbers against one another: rows as points, and the line through all of them",
	}, func(ctx context.Context, in *pointsAsked) (*body[relation.Points], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		rows, err := s.selected(ctx, t, in.Where, "", "")
		if err != nil {
			return nil, err
		}
		return answer(recall(ctx, &s.remembered, t.key+fmt.Sprintf("points %q %q %d %q", in.X, in.Y, in.Most, in.Where),
			func(ctx context.Context) (*relation.Points, error) {
				return asked(relation.PointsOf(ctx, t.Table, in.X, in.Y, in.Most, rows))
			}))
	})
	type gapsAsked struct {
		ByID
		Column string `query:"column" required:"true"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-gaps", Method: http.MethodGet, Path: "/tables/{id}/gaps",
		Summary: "With which other columns the gaps of a column go",
	}, func(ctx context.Context, in *gapsAsked) (*body[[]relation.Gap], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		gaps, err := recall(ctx, &s.remembered, t.key+"gaps "+in.Column,
			func(ctx context.Context) ([]relation.Gap, error) {
				return asked(relation.Gaps(ctx, t.Table, in.Column))
			})
		return answer(&gaps, err)
	})
	register(s, operation{
		Right: access.Read, ID: "list-keys", Method: http.MethodGet, Path: "/tables/{id}/keys",
		Summary: "Which columns, up to three together, name the rows",
	}, func(ctx context.Context, in *ByID) (*body[[]relation.Key], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if t.audit == nil {
			return nil, invalid("The table has not been audited yet; wait for its audit.")
		}
		keys, err := recall(ctx, &s.remembered, t.key+"keys", func(ctx context.Context) ([]relation.Key, error) {
			result, err := s.resultOf(ctx, t.audit.ID)
			if err != nil {
				return nil, err
			}
			return asked(relation.Keys(ctx, t.Table, result.Rows, result.KeyCandidates()))
		})
		return answer(&keys, err)
	})
}

// mostCorrelated bounds how many columns are correlated with one another at once.
const mostCorrelated = 60

// asked turns an error that the question caused into one for who asked it.
func asked[T any](answer T, err error) (T, error) {
	var caught *guard.Panic
	if err != nil && !errors.Is(err, context.Canceled) && !errors.Is(err, context.DeadlineExceeded) &&
		!errors.Is(err, budget.ErrBusy) && !errors.Is(err, budget.ErrTooMuch) && !errors.As(err, &caught) {
		return answer, invalid("%s", sentence(err))
	}
	return answer, err
}

// pairedColumns is how many columns are held against one another for what they lack.
const pairedColumns = 60

func sentence(err error) string {
	text := err.Error()
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// selected returns the rows that a condition and a text leave; nil where they restrict nothing.
func (s *Server) selected(ctx context.Context, t *inside, where, is, find string) (*table.RowSet, error) {
	if where == "" && find == "" && is == "" {
		return nil, nil
	}
	choice := relation.Choice{Find: find}
	var pairs [][2]string
	if is != "" {
		if err := json.Unmarshal([]byte(is), &pairs); err != nil {
			return nil, invalid("%q is no list of columns and texts; write it as [[\"station\", \"AV-7\"]].", is)
		}
	}
	for _, p := range pairs {
		choice.Is = append(choice.Is, relation.Is{Column: p[0], Text: p[1]})
	}
	if where != "" {
		compiled, mistakes := condition.Compile(where, t.Types())
		if len(mistakes) > 0 {
			return nil, invalid("The condition cannot be used: %s", errors.Join(mistakes...))
		}
		choice.Holds = compiled
	}
	return recall(ctx, &s.remembered, t.key+"rows "+strings.Join([]string{where, is, find}, "\x00"),
		func(ctx context.Context) (*table.RowSet, error) {
			return asked(relation.Where(ctx, t.Table, choice))
		})
}

// resultOf returns the result of an audit.
func (s *Server) resultOf(ctx context.Context, id int64) (*audit.Result, error) {
	raw, err := store.AuditResult(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	var result audit.Result
	return &result, json.Unmarshal(raw, &result)
}
