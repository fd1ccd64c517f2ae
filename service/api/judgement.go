package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/propose"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/report"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// GroupsPage is some groups of rows that share the values of columns.
type GroupsPage struct {
	relation.Groups
	Names  []string         `json:"names" doc:"The table's columns"`
	Kind   string           `json:"kind"`
	Page   []relation.Group `json:"page"`
	Offset int              `json:"offset"`
	Listed int              `json:"listed" doc:"How many groups of the kind can be paged through"`
}

// ComparisonShown is a comparison with the audits that were compared.
type ComparisonShown struct {
	Before records.Audit `json:"before"`
	After  records.Audit `json:"after"`
	audit.Comparison
}

// judgement adds the operations that look into what an audit found.
func (s *Server) judgement() {
	type groupsAsked struct {
		ByID
		Columns []string `query:"columns,explode" required:"true" doc:"The columns that a group has in common"`
		Kind    string   `query:"kind" enum:"equal,conflicting,near" default:"conflicting"`
		Offset  int      `query:"offset" minimum:"0" maximum:"4294967294"`
		Limit   int      `query:"limit" minimum:"1" maximum:"100" default:"20"`
	}
	operation(s, access.Read, http.MethodGet, "/tables/{id}/groups", "show-groups", "Rows that share the values of columns, side by side: equal ones, conflicting ones, and those that are near once spellings are levelled", func(ctx context.Context, in *groupsAsked) (*body[GroupsPage], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		found, err := recall(ctx, &s.remembered, t.key+"groups "+strings.Join(in.Columns, "\x00"), func(ctx context.Context) (*relation.Groups, error) {
			return asked(relation.FindGroups(ctx, t.Table, in.Columns))
		})
		if err != nil {
			return nil, err
		}
		out := &GroupsPage{Groups: *found, Names: t.Source.Columns(), Kind: in.Kind, Offset: in.Offset}
		out.Page, out.Listed, err = found.Page(ctx, t.Table, relation.GroupKind(in.Kind), in.Offset, in.Limit)
		return answer(out, err)
	})
	type codesAsked struct {
		ByID
		Column string `query:"column" required:"true"`
	}
	operation(s, access.Read, http.MethodGet, "/tables/{id}/codes", "show-codes", "What the texts of a column stand for: codes, other spellings of them with how sure that is, codes of other columns, or nothing known", func(ctx context.Context, in *codesAsked) (*body[relation.Codes], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return answer(recall(ctx, &s.remembered, t.key+"codes "+in.Column, func(ctx context.Context) (*relation.Codes, error) {
			return asked(relation.Recognise(ctx, t.Table, in.Column))
		}))
	})
	type comparisonAsked struct {
		ByID
		With int64 `query:"with" minimum:"0" maximum:"9007199254740991" doc:"The earlier audit; 0 for the one before, of a table of the same origin"`
	}
	operation(s, access.Read, http.MethodGet, "/audits/{id}/comparison", "compare-audits", "What is new, gone, worse and better since an earlier audit", func(ctx context.Context, in *comparisonAsked) (*body[ComparisonShown], error) {
		return answer(s.compared(ctx, in.ID, in.With))
	})
	operation(s, access.Read, http.MethodGet, "/audits/{id}/report", "show-report", "An audit as one HTML page for the owner of the data, who needs no account to read it", func(ctx context.Context, in *ByID) (*huma.StreamResponse, error) {
		r, err := s.report(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			out.SetHeader("Content-Type", "text/html; charset=utf-8")
			out.SetHeader("Content-Disposition", fmt.Sprintf("inline; filename=%q", fmt.Sprintf("audit_%d.html", in.ID)))
			if err := report.Write(out.BodyWriter(), r); err != nil {
				s.Log.Info("a report was cut off", "audit", in.ID, "error", err)
			}
		}}, nil
	})
	operation(s, access.Read, http.MethodGet, "/audits/{id}/findings", "download-findings", "Every cell that was caught, as CSV for whoever delivered the table. A text that a spreadsheet would run as a formula gets an apostrophe before it", func(ctx context.Context, in *findingsAsked) (*huma.StreamResponse, error) {
		return s.findingsFile(ctx, in)
	})
	s.trials()
	s.proposals()
	s.forms()
}

// Outlined is a rulebook's text by its items, with what forms and the editor can offer.
type Outlined struct {
	Outline   rulebook.Outline       `json:"outline"`
	Forms     []rulebook.SectionForm `json:"forms"`
	Functions []string               `json:"functions" doc:"What a condition may call"`
}

// forms adds what changes the text of a rulebook without writing it.
func (s *Server) forms() {
	operation(s, access.Read, http.MethodPost, "/rulebooks/outline", "outline-rulebook", "The text of a rulebook by its items, and the fields that each kind of item has", func(_ context.Context, in *declared) (*body[Outlined], error) {
		outline, err := rulebook.OutlineOf(in.Body.Source)
		if err != nil {
			return nil, err
		}
		return answer(&Outlined{*outline, rulebook.Sections(), condition.FunctionNames()}, nil)
	})
	type edits struct {
		Body struct {
			Source  string            `json:"source" minLength:"1" maxLength:"1048576" doc:"The text of a rulebook, in YAML"`
			Changes []rulebook.Change `json:"changes" maxItems:"2000"`
		}
	}
	operation(s, access.Read, http.MethodPost, "/rulebooks/edit", "edit-rulebook", "Change the text of a rulebook by its items; comments and order stay, and nothing is saved", func(_ context.Context, in *edits) (*body[Carried], error) {
		if len(in.Body.Changes)*len(in.Body.Source) > editedMost {
			return nil, invalid("%d changes of a text of %d bytes are too many at once; make fewer of them.", len(in.Body.Changes), len(in.Body.Source))
		}
		source, err := rulebook.Edit(in.Body.Source, in.Body.Changes)
		var mistakes document.Problems
		if err != nil && !errors.As(err, &mistakes) {
			return nil, invalid("%s", sentence(err))
		}
		return answer(&Carried{Source: source, Left: []string{}}, err)
	})
}

// editedMost bounds the work of changes by forms, each of which takes the text apart anew.
const editedMost = 64 << 20

func (s *Server) compared(ctx context.Context, id, with int64) (*ComparisonShown, error) {
	after, err := store.FindAudit(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	var before *records.Audit
	if with == 0 {
		before, err = store.AuditBefore(ctx, s.Store.DB, after)
	} else {
		before, err = store.FindAudit(ctx, s.Store.DB, with)
	}
	if err != nil {
		return nil, err
	}
	if before.DatasetID != after.DatasetID {
		return nil, invalid("Audit %d is of the dataset %s and audit %d of %s; only audits of one dataset are compared.", before.ID, before.Dataset, after.ID, after.Dataset)
	}
	then, err := s.resultOf(ctx, before)
	if err != nil {
		return nil, err
	}
	now, err := s.resultOf(ctx, after)
	if err != nil {
		return nil, err
	}
	return &ComparisonShown{*before, *after, *audit.Compare(then, now)}, nil
}

// ofAudit opens the table of an audit with the rulebook it was judged by.
func (s *Server) ofAudit(ctx context.Context, id int64) (*records.Audit, *records.Table, *audit.Result, *intake.File, *rulebook.Rulebook, error) {
	fail := func(err error) (*records.Audit, *records.Table, *audit.Result, *intake.File, *rulebook.Rulebook, error) {
		return nil, nil, nil, nil, nil, err
	}
	a, err := store.FindAudit(ctx, s.Store.DB, id)
	if err != nil {
		return fail(err)
	}
	t, err := store.FindTable(ctx, s.Store.DB, a.TableID)
	if err != nil {
		return fail(err)
	}
	result, err := s.resultOf(ctx, a)
	if err != nil {
		return fail(err)
	}
	var book *rulebook.Rulebook
	if a.RulebookID != nil {
		d, err := store.FindDeclaration(ctx, s.Store.DB, *a.RulebookID)
		if err != nil {
			return fail(err)
		}
		if book, err = rulebook.Parse([]byte(d.Source)); err != nil {
			return fail(err)
		}
	}
	file, book, err := work.OpenTable(ctx, s.Files, t, book)
	return a, t, result, file, book, err
}

func (s *Server) report(ctx context.Context, id int64) (*report.Report, error) {
	a, t, result, file, _, err := s.ofAudit(ctx, id)
	if err != nil {
		return nil, err
	}
	rows, done, err := s.auditRows(ctx, a)
	defer done()
	if err != nil {
		return nil, err
	}
	examples, err := report.Examples(ctx, file, rows.Marks, result)
	if err != nil {
		return nil, err
	}
	d, err := store.FindDataset(ctx, s.Store.DB, a.Dataset)
	if err != nil {
		return nil, err
	}
	out := &report.Report{Dataset: a.Dataset, Title: d.Title, FileName: a.FileName, Digest: t.Digest, When: a.CreatedAt, Result: result, Examples: examples, Source: map[string]string{}}
	if a.Rulebook != nil {
		out.Rulebook = fmt.Sprintf("rulebook, version %d", *a.Rulebook)
	}
	if err := json.Unmarshal(t.Source, &out.Source); err != nil {
		out.Source = nil // it is told elsewhere
	}
	questions, err := store.QuestionsOf(ctx, s.Store.DB, a.DatasetID)
	if err != nil {
		return nil, err
	}
	for _, q := range questions {
		out.Questions = append(out.Questions, report.Question{About: q.Rule, Text: q.Text, Asked: q.At.Format("2 January 2006") + ", by " + q.Person})
	}
	return out, nil
}

// findingsAsked asks for findings as CSV.
type findingsAsked struct {
	ByID
	Exact bool `query:"exact" doc:"Write the texts as they are, also those that a spreadsheet would run"`
}

func (s *Server) findingsFile(ctx context.Context, in *findingsAsked) (*huma.StreamResponse, error) {
	a, t, result, file, book, err := s.ofAudit(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	rows, done, err := s.auditRows(ctx, a)
	if err != nil {
		done()
		return nil, err
	}
	if err := store.Record(ctx, s.Store.DB, caller(ctx).ID, "downloaded findings", subject(t), map[string]any{"audit": a.ID}); err != nil {
		done()
		return nil, err
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		defer done()
		out.SetHeader("Content-Type", "text/csv; charset=utf-8")
		out.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", fmt.Sprintf("%s_findings_%d.csv", t.Dataset, a.ID)))
		of := func(f *audit.Finding) (*table.RowSet, error) { return rows.Where(f.Rule, "", "") }
		if err := audit.WriteFindings(out.Context(), file, book, result, of, s.Pool.Workers, in.Exact, out.BodyWriter()); err != nil {
			s.Log.Info("findings were cut off", "audit", a.ID, "error", err)
		}
	}}, nil
}

// trials adds what tries a rulebook before it is saved.
func (s *Server) trials() {
	type tried struct {
		ByID
		Body struct {
			Source string `json:"source" minLength:"1" doc:"A rulebook in YAML, which is not saved"`
		}
	}
	operation(s, access.Work, http.MethodPost, "/tables/{id}/trials", "try-rulebook", "Audit a table by a rulebook that is not saved; the job's result is what it found, and nothing else is recorded", func(ctx context.Context, in *tried) (*body[records.Job], error) {
		t, err := store.FindTable(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		book, err := rulebook.Parse([]byte(in.Body.Source))
		if err != nil {
			return nil, err
		}
		if book.Dataset != t.Dataset {
			return nil, invalid("The rulebook is for the dataset %s, and table %d belongs to %s.", book.Dataset, t.ID, t.Dataset)
		}
		var job *records.Job
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if job, err = s.Pool.AddTrial(ctx, tx, t, in.Body.Source, caller(ctx).ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "tried a rulebook", subject(t), map[string]any{"sha256": book.Digest})
		})
		return answer(job, err)
	})
	type versions struct {
		Dataset string `path:"dataset"`
		From    int    `query:"from" minimum:"1" maximum:"2147483647" doc:"The earlier version; the one before to where it is left out"`
		To      int    `query:"to" minimum:"0" maximum:"2147483647" doc:"The later version; 0 for the newest"`
	}
	operation(s, access.Read, http.MethodGet, "/rulebooks/{dataset}/comparison", "compare-rulebooks", "In what a version of a rulebook differs from an earlier one, in words", func(ctx context.Context, in *versions) (*body[[]rulebook.Difference], error) {
		later, err := s.declaration(ctx, store.KindRulebook, in.Dataset, in.Dataset, in.To)
		if err != nil {
			return nil, err
		}
		if in.From == 0 {
			in.From = later.Version - 1
		}
		if in.From == 0 {
			return answer(&[]rulebook.Difference{}, nil) // there is but one
		}
		earlier, err := s.declaration(ctx, store.KindRulebook, in.Dataset, in.Dataset, in.From)
		if err != nil {
			return nil, err
		}
		a, err := rulebook.Parse([]byte(earlier.Source))
		if err != nil {
			return nil, err
		}
		b, err := rulebook.Parse([]byte(later.Source))
		if err != nil {
			return nil, err
		}
		differences := rulebook.Compare(a, b)
		return answer(&differences, nil)
	})
}

// Carried is what became of a rulebook or metadata on their way into the other form.
type Carried struct {
	Source   string          `json:"source,omitempty" doc:"A rulebook in YAML"`
	Metadata json.RawMessage `json:"metadata,omitempty" doc:"CSVW metadata"`
	Left     []string        `json:"left" doc:"What could not be carried over"`
}

// proposedFrom is the most deliveries that a proposal looks at.
const proposedFrom = 12

// proposals adds what drafts rulebooks, and carries them to and from CSVW.
func (s *Server) proposals() {
	type proposal struct {
		ByName
		Last int `query:"last" minimum:"1" maximum:"12" default:"3" doc:"How many of the newest deliveries are looked at"`
	}
	operation(s, access.Work, http.MethodGet, "/datasets/{name}/proposal", "propose-rulebook", "A draft of a rulebook from the newest deliveries, with the evidence for each line", func(ctx context.Context, in *proposal) (*body[Carried], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		newest, err := store.Deliveries(ctx, s.Store.DB, d.ID, min(in.Last, proposedFrom))
		if err != nil {
			return nil, err
		}
		if len(newest) == 0 {
			return nil, invalid("Nothing of the dataset %s has arrived yet; a proposal needs a delivery.", d.Name)
		}
		var deliveries []propose.Delivery
		key := "proposal "
		for _, t := range newest {
			deliveries = append(deliveries, propose.Delivery{Name: t.FileName, Open: s.Files.At(t.Digest)})
			key += t.Digest + " "
		}
		source, err := recall(ctx, &s.remembered, key, func(ctx context.Context) (string, error) {
			return asked(propose.Rulebook(ctx, d.Name, deliveries, intake.Reading{}, s.Pool.Workers))
		})
		return answer(&Carried{Source: source, Left: []string{}}, err)
	})
	type version struct {
		Dataset string `path:"dataset"`
		Version int    `query:"version" minimum:"0" maximum:"2147483647" doc:"0 for the newest"`
	}
	operation(s, access.Read, http.MethodGet, "/rulebooks/{dataset}/csvw", "export-csvw", "A rulebook as CSVW metadata, with what could not be carried over", func(ctx context.Context, in *version) (*body[Carried], error) {
		d, err := s.declaration(ctx, store.KindRulebook, in.Dataset, in.Dataset, in.Version)
		if err != nil {
			return nil, err
		}
		book, err := rulebook.Parse([]byte(d.Source))
		if err != nil {
			return nil, err
		}
		out := &Carried{}
		out.Metadata, out.Left = book.CSVW(in.Dataset + ".csv")
		return answer(out, nil)
	})
	type metadata struct {
		ByName
		Body json.RawMessage `doc:"CSVW metadata"`
	}
	operation(s, access.Work, http.MethodPost, "/datasets/{name}/csvw", "import-csvw", "A rulebook made of CSVW metadata, which is not saved, with what could not be carried over", func(_ context.Context, in *metadata) (*body[Carried], error) {
		source, left, err := rulebook.FromCSVW(in.Name, in.Body)
		if err != nil {
			return nil, invalid("%s", sentence(err))
		}
		return answer(&Carried{Source: source, Left: append([]string{}, left...)}, nil)
	})
}

// bound gives the rulebook of an open table the codes that it takes from other datasets.
// The answer tells which tables these came from, for remembering.
func (s *Server) bound(ctx context.Context, t *records.Table, book *rulebook.Rulebook) (*rulebook.Rulebook, string, error) {
	if book == nil || !takesCodes(book) {
		return book, "", nil
	}
	if err := work.Beside(ctx, s.Store, s.Files, t, book, t.CreatedAt); err != nil {
		return nil, "", err
	}
	whole, err := audit.Bound(ctx, book, s.Pool.Workers)
	return whole, fmt.Sprint(book.Beside.Used), err
}

// takesCodes reports whether a rulebook takes codes from other datasets.
func takesCodes(book *rulebook.Rulebook) bool {
	return slices.ContainsFunc(book.Columns, func(c rulebook.Column) bool {
		l := book.CodeLists[c.CodeList]
		return l != nil && l.From != nil
	})
}
