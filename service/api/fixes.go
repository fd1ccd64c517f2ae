package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/fix/estimate"
	"proudsieve/core/propose"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/edit"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// ChangesPage is a page of a change log, an entry for each cell and row.
type ChangesPage struct {
	Items []fix.LogEntry `json:"items"`
	// Next is the cursor of the next page; null on the last one.
	Next *string `json:"next" doc:"The cursor of the next page; null on the last one"`
	// Columns are those of the rows that left.
	Columns []string `json:"columns" doc:"The columns of the table that arrived, in their order"`
}

type planned struct {
	ByID
	Body struct {
		FixPlan string `json:"fix_plan" minLength:"1" doc:"The name of a fix plan of the table's dataset"`
		Version int    `json:"version,omitempty" minimum:"0" maximum:"2147483647" doc:"0 for the newest"`
		Looked  bool   `json:"looked,omitempty" doc:"You have looked at what the plan does far more than on the delivery before"`
	}
}

type previewed struct {
	ByID
	Body struct {
		FixPlan string `json:"fix_plan,omitempty" doc:"The name of a fix plan of the table's dataset; left out where its text is given"`
		Version int    `json:"version,omitempty" minimum:"0" maximum:"2147483647" doc:"0 for the newest"`
		Source  string `json:"source,omitempty" maxLength:"1000000" doc:"The text of a fix plan, which is not saved"`
	}
}

type weighed struct {
	ByID
	Body struct {
		Source string `json:"source" minLength:"1" maxLength:"1000000" doc:"The text of a fix plan, which is not saved"`
		Step   int    `json:"step" minimum:"1" maximum:"500" doc:"Which of its steps estimates, from 1"`
	}
}

type changesAsked struct {
	ByID
	Step   int    `query:"step" minimum:"0" maximum:"500" doc:"Only what this step changed; 0 for all"`
	Column string `query:"column" doc:"Only cells of this column"`
	What   string `query:"what" enum:"all,cells,rows" default:"all" doc:"Cells that were changed, rows that left, or both"`
	Cursor string `query:"cursor" maxLength:"60" doc:"As a page before said; the beginning where it is left out"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// PlanOutlined is a fix plan's text by its steps, with the forms of all kinds of steps.
type PlanOutlined struct {
	Source  string                 `json:"source" doc:"The text, with the changes made"`
	Outline edit.PlanOutline       `json:"outline"`
	Kinds   []fix.KindForm         `json:"kinds" doc:"What each kind of step does, and the fields that it takes"`
	Forms   []rulebook.SectionForm `json:"forms"`
	// Columns are those that each step finds, and last those that the plan leaves.
	Columns [][]string `json:"columns" doc:"The columns that each step finds, and last those that the plan leaves, as far as the rulebook tells"`
}

type planEdits struct {
	Body struct {
		Source  string            `json:"source" minLength:"1" maxLength:"1048576" doc:"The text of a fix plan or merge, in YAML"`
		Changes []edit.StepChange `json:"changes" maxItems:"500" doc:"What is changed, one after the other; none to see the text by its steps"`
	}
}

// edited is a text of some kind with the changes made.
func edited(kind edit.List, in *planEdits) (string, error) {
	if len(in.Body.Changes)*len(in.Body.Source) > editedMost {
		return "", invalid("%d changes of a text of %d bytes are too many at once; make fewer of them.", len(in.Body.Changes), len(in.Body.Source))
	}
	source, err := kind.Apply(in.Body.Source, in.Body.Changes)
	var mistakes document.Problems
	if err != nil && !errors.As(err, &mistakes) {
		return "", invalid("%s", sentence(err))
	}
	return source, err
}

// editPlan changes the text of a fix plan, and lays it out.
func (s *Server) editPlan(ctx context.Context, in *planEdits) (*PlanOutlined, error) {
	source, err := edited(edit.Plans, in)
	if err != nil {
		return nil, err
	}
	outline, err := edit.Plans.Outline(source)
	if err != nil {
		return nil, err
	}
	out := &PlanOutlined{Source: source, Outline: *outline, Kinds: fix.KindForms(), Forms: fix.Forms(), Columns: [][]string{}}
	// A plan with mistakes has its columns all the same.
	switch _, book, plan, _ := s.planOf(ctx, source); {
	case plan != nil:
		out.Columns = plan.Found
	case book != nil:
		for range len(outline.Steps) + 1 {
			out.Columns = append(out.Columns, columnsOf(book))
		}
	}
	return out, nil
}

// fixes adds what is done with fix plans.
func (s *Server) fixes() {
	register(s, operation{
		Right: access.Read, ID: "edit-fix-plan", Method: http.MethodPost, Path: "/fix-plans/edit",
		Summary: "Change the text of a fix plan by its steps, and see it by them; comments stay, and nothing is saved",
	}, func(ctx context.Context, in *planEdits) (*body[PlanOutlined], error) {
		return answer(s.editPlan(ctx, in))
	})
	register(s, operation{
		Right: access.Work, ID: "preview-fix", Method: http.MethodPost, Path: "/tables/{id}/previews",
		Summary: "Work out what a fix plan would do, saved or not; the job's result is the preview, and all changes can be looked at for a day",
	}, func(ctx context.Context, in *previewed) (*body[records.Job], error) {
		return answer(s.startPreview(ctx, in))
	})
	register(s, operation{
		Right: access.Work, ID: "weigh-estimates", Method: http.MethodPost, Path: "/tables/{id}/estimates",
		Summary: "Compare the methods by which a step of a fix plan could estimate, on the table as the step finds it: the job's result is the comparison",
	}, func(ctx context.Context, in *weighed) (*body[records.Job], error) {
		return answer(s.startWeighing(ctx, in))
	})
	register(s, operation{
		Right: access.Read, ID: "show-comparison-of-estimates", Method: http.MethodGet, Path: "/jobs/{id}/estimates",
		Summary: "What a job has found that compared methods of estimating",
	}, func(ctx context.Context, in *ByID) (*body[estimate.Comparison], error) {
		job, err := store.FindJob(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		if job.Kind != work.WeighKind || job.Result == nil {
			return nil, invalid("Job %d has compared no methods of estimating.", in.ID)
		}
		out := &estimate.Comparison{}
		return answer(out, json.Unmarshal(*job.Result, out))
	})
	register(s, operation{
		Right: access.Work, ID: "apply-fix", Method: http.MethodPost, Path: "/tables/{id}/fixes",
		Summary: "Apply a fix plan: the job makes a cleaned table, and the delivery stays as it is",
	}, func(ctx context.Context, in *planned) (*body[records.Job], error) {
		return answer(s.startFix(ctx, in))
	})
	register(s, operation{
		Right: access.Read, ID: "list-changes", Method: http.MethodGet, Path: "/tables/{id}/changes",
		Summary: "What a fix plan changed to make this table, step by step",
	}, func(ctx context.Context, in *changesAsked) (*body[ChangesPage], error) {
		t, ledger, err := s.cleaned(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return answer(s.changes(in, *t.ChangeLog, ledger))
	})
	register(s, operation{
		Right: access.Read, ID: "list-previewed-changes", Method: http.MethodGet, Path: "/jobs/{id}/changes",
		Summary: "What a previewed fix plan would change, step by step",
	}, func(ctx context.Context, in *changesAsked) (*body[ChangesPage], error) {
		preview, err := store.FindPreview(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		job, err := store.FindJob(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		var shown struct {
			Ledger fix.Ledger `json:"ledger"`
		}
		if err := json.Unmarshal(*job.Result, &shown); err != nil {
			return nil, err
		}
		return answer(s.changes(in, preview.ChangeLog, &shown.Ledger))
	})
	register(s, operation{
		Right: access.Read, ID: "list-steps", Method: http.MethodGet, Path: "/tables/{id}/steps",
		Summary: "Steps of a fix plan that would put right what the newest audit of the table found, filled in; those in doubt say why",
	}, func(ctx context.Context, in *ByID) (*body[[]propose.Step], error) {
		steps, err := s.steps(ctx, in.ID)
		return answer(&steps, err)
	})
	type pointed struct {
		ByID
		Rows   []int64 `query:"rows,explode" required:"true" minItems:"1" maxItems:"20" minimum:"1" maximum:"4294967294" doc:"Rows of the table, from 1"`
		Column string  `query:"column" doc:"A column, where it is about one cell"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-row-steps", Method: http.MethodGet, Path: "/tables/{id}/row-steps",
		Summary: "Steps of a fix plan for rows that somebody points at, or for one cell, filled in but for what only a person knows",
	}, func(ctx context.Context, in *pointed) (*body[[]propose.Step], error) {
		steps, err := s.rowSteps(ctx, in.ID, in.Rows, in.Column)
		return answer(&steps, err)
	})
	type standing struct {
		ByName
		Body struct {
			FixPlan *string `json:"fix_plan" doc:"A fix plan of the dataset that is saved; null for none"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "set-standing-plan", Method: http.MethodPut, Path: "/datasets/{name}/standing-plan",
		Summary: "Say which fix plan is applied to every delivery of a dataset once it was audited. A plan that is refused, or does far more than before, stops for a look",
	}, func(ctx context.Context, in *standing) (*body[records.Dataset], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		if in.Body.FixPlan != nil {
			if _, err := store.NewestDeclaration(ctx, s.Store.DB, store.KindFixPlan, d.ID, *in.Body.FixPlan); err != nil {
				return nil, err
			}
		}
		return s.changeDataset(ctx, d, "set the standing fix plan", map[string]any{"fix_plan": in.Body.FixPlan},
			func(tx *sqlx.Tx) error { return store.SetStandingPlan(ctx, tx, d.ID, in.Body.FixPlan) })
	})
	type drafted struct {
		ByID
		Body struct {
			Name string `json:"name" pattern:"^[a-z][a-z0-9_]{0,59}$" doc:"What the plan is called"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "draft-fix-plan", Method: http.MethodPost, Path: "/tables/{id}/drafts",
		Summary: "Draft a fix plan for the table; the job's result is its text, which was tried and is not saved. What is doubtful in it is a comment",
	}, func(ctx context.Context, in *drafted) (*body[records.Job], error) {
		t, err := s.fixable(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		var job *records.Job
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if job, err = s.Pool.AddDraft(ctx, tx, t, in.Body.Name, caller(ctx).ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "had a fix plan drafted", subject(t), nil)
		})
		return answer(job, err)
	})
}

// steps proposes steps from the newest audit of a table.
func (s *Server) steps(ctx context.Context, id int64) ([]propose.Step, error) {
	t, err := store.FindTable(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	newest, err := store.OrNil(store.NewestDeclaration(ctx, s.Store.DB, store.KindRulebook, t.DatasetID, t.Dataset))
	if err != nil || newest == nil || t.AuditID == nil {
		return []propose.Step{}, err
	}
	book, err := s.rulebook(ctx, newest.ID)
	if err != nil {
		return nil, err
	}
	result, err := s.resultOf(ctx, *t.AuditID)
	if err != nil {
		return nil, err
	}
	return propose.Steps(result, book), nil
}

// rowSteps proposes steps for rows, or a cell, of a delivery.
func (s *Server) rowSteps(ctx context.Context, id int64, rows []int64, column string) ([]propose.Step, error) {
	if _, err := s.fixable(ctx, id); err != nil {
		return nil, err
	}
	t, err := s.inside(ctx, id)
	if err != nil {
		return nil, err
	}
	if t.audit == nil || t.audit.RulebookID == nil {
		return nil, invalid("A fix plan needs a rulebook, and table %d was not judged by one yet.", id)
	}
	p := propose.Pointed{Book: t.Book, Names: t.Source.Columns(), Column: column,
		Count: func(where string) (int64, error) {
			met, err := s.selected(ctx, t, where, "", "")
			if err != nil {
				return 0, err
			}
			return int64(met.GetCardinality()), nil
		}}
	if column != "" && !slices.Contains(p.Names, column) {
		return nil, invalid("Table %d has no column %q.", id, column)
	}
	known, done, err := s.auditRows(ctx, t.audit)
	defer done()
	if err != nil {
		return nil, err
	}
	var wanted []uint32
	for _, row := range rows {
		if row < 1 || row > t.audit.Rows {
			return nil, invalid("Table %d has %d rows, and no row %d.", id, t.audit.Rows, row)
		}
		wanted = append(wanted, uint32(row))
	}
	slices.Sort(wanted)
	picked, err := t.pick(ctx, known, slices.Compact(wanted))
	if err != nil {
		return nil, err
	}
	for _, one := range picked {
		p.Rows = append(p.Rows, one.Cells)
	}
	return p.Steps()
}

// cleaned returns a cleaned table with its ledger.
func (s *Server) cleaned(ctx context.Context, id int64) (*records.Table, *fix.Ledger, error) {
	t, err := store.FindTable(ctx, s.Store.DB, id)
	if err != nil {
		return nil, nil, err
	}
	if t.ChangeLog == nil || t.Accounting == nil {
		return nil, nil, huma.NewError(http.StatusNotFound, fmt.Sprintf("Table %d is a %s table; only a cleaned one has a change log.", t.ID, t.Origin))
	}
	ledger := &fix.Ledger{}
	if err := json.Unmarshal(*t.Accounting, ledger); err != nil {
		return nil, nil, err
	}
	if ledger.Columns == nil { // an earlier version made it, whose steps left the columns as they were
		source, err := s.inside(ctx, id)
		if err != nil {
			return nil, nil, err
		}
		ledger.Columns, ledger.Arrived = source.Source.Columns(), source.Source.Columns()
	}
	return t, ledger, nil
}

func (s *Server) changes(in *changesAsked, digest string, ledger *fix.Ledger) (*ChangesPage, error) {
	from, err := fix.ParseLogCursor(in.Cursor)
	if err != nil {
		return nil, invalid("%v", err)
	}
	q := fix.LogQuery{Step: in.Step, Column: in.Column}
	if in.What != "all" {
		gone := in.What == "rows"
		q.Gone = &gone
	}
	log, err := s.Files.Open(digest)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	found, next, err := fix.Log{In: log, At: ledger.LogAt}.Changes(q, from, in.Limit)
	if err != nil {
		return nil, err
	}
	out := &ChangesPage{Items: found, Columns: ledger.Arrived}
	if out.Columns == nil {
		out.Columns = []string{}
	}
	if next != nil {
		text := next.String()
		out.Next = &text
	}
	return out, nil
}

// fixable returns a table that a fix plan can be applied to.
func (s *Server) fixable(ctx context.Context, id int64) (*records.Table, error) {
	t, err := store.FindTable(ctx, s.Store.DB, id)
	switch {
	case err != nil:
		return nil, err
	case t.WithdrawnAt != nil:
		return nil, invalid("Table %d was withdrawn: %s", t.ID, *t.Withdrawn)
	case t.Origin != store.OriginDelivery:
		return nil,
			invalid("Table %d is a %s table; fix plans are applied to deliveries. Change the plan and apply it to the delivery again.", t.ID, t.Origin)
	}
	return t, nil
}

func (s *Server) startPreview(ctx context.Context, in *previewed) (job *records.Job, err error) {
	t, err := s.fixable(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	source, earlier, of := in.Body.Source, false, map[string]any{"fix_plan": "a text that is not saved"}
	if (source == "") == (in.Body.FixPlan == "") {
		return nil, invalid("A preview is of a fix plan that is saved (fix_plan), or of a text (source): give one of them.")
	}
	if source == "" {
		plan, err := s.declaration(ctx, store.KindFixPlan, t.Dataset, in.Body.FixPlan, in.Body.Version)
		if err != nil {
			return nil, err
		}
		source, earlier, of = plan.Source, plan.Earlier, map[string]any{"fix_plan": plan.Name, "version": plan.Version}
	} else if _, _, _, err := s.planOf(ctx, source); err != nil {
		return nil, err
	}
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
		if job, err = s.Pool.AddPreview(ctx, tx, t, source, earlier, caller(ctx).ID); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, "previewed a fix plan", subject(t), of)
	})
	return job, err
}

func (s *Server) startWeighing(ctx context.Context, in *weighed) (job *records.Job, err error) {
	t, err := s.fixable(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if _, _, _, err := s.planOf(ctx, in.Body.Source); err != nil {
		return nil, err
	}
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
		if job, err = s.Pool.AddWeigh(ctx, tx, t, in.Body.Source, in.Body.Step, caller(ctx).ID); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, "compared methods of estimating", subject(t), map[string]any{"step": in.Body.Step})
	})
	return job, err
}

func (s *Server) startFix(ctx context.Context, in *planned) (job *records.Job, err error) {
	t, err := s.fixable(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	plan, err := s.declaration(ctx, store.KindFixPlan, t.Dataset, in.Body.FixPlan, in.Body.Version)
	if err != nil {
		return nil, err
	}
	_, makes, err := fix.DatasetsOf([]byte(plan.Source))
	if err != nil {
		return nil, err
	}
	if err := s.mayName(ctx, access.Work, makes, nil, nil); err != nil {
		return nil, err
	}
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
		if job, err = s.Pool.AddFix(ctx, tx, t, plan, in.Body.Looked, caller(ctx).ID); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, "asked for a fix plan to be applied", subject(t),
			map[string]any{"fix_plan": plan.Name, "version": plan.Version})
	})
	return job, err
}
