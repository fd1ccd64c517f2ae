package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/table"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

func (s *Server) merges() {
	type run struct {
		ByName
		Body struct {
			Version int                `json:"version,omitempty" minimum:"0" maximum:"2147483647" doc:"0 for the newest"`
			Tables  map[string][]int64 `json:"tables,omitempty" doc:"Which tables of a dataset take part, by their numbers; those that the merge declares where they are not given"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "run-merge", Method: http.MethodPost, Path: "/merges/{name}/runs",
		Summary: "Run a merge on cleaned tables; the job makes the merged table",
	}, func(ctx context.Context, in *run) (*body[records.Job], error) {
		d, err := s.declaration(ctx, store.KindMerge, in.Name, in.Name, in.Body.Version)
		if err != nil {
			return nil, err
		}
		plan, err := merge.Parse([]byte(d.Source))
		if err != nil {
			return nil, err
		}
		inputs, err := s.mergeTables(ctx, plan, in.Body.Tables)
		if err != nil {
			return nil, err
		}
		var job *records.Job
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			job, err = s.Pool.AddMerge(ctx, tx, d, inputs, caller(ctx).ID)
			if err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "asked for a merge", d.Name,
				map[string]any{"version": d.Version, "tables": inputs})
		})
		return answer(job, err)
	})
	register(s, operation{
		Right: access.Read, ID: "edit-merge", Method: http.MethodPost, Path: "/merges/edit",
		Summary: "Change the text of a merge by its joins, which are its steps, and see it by them; comments stay, and nothing is saved",
	}, func(ctx context.Context, in *planEdits) (*body[MergeOutlined], error) {
		return answer(s.editMerge(ctx, in))
	})
	type kept struct {
		ByName
		Body struct {
			Kept bool `json:"kept" doc:"Whether it runs again by itself"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "keep-merged", Method: http.MethodPut, Path: "/merges/{name}/kept",
		Summary: "Say whether a merge runs again by itself once a table that it takes was made and passed its audit, or had none to pass",
	}, func(ctx context.Context, in *kept) (*body[records.Dataset], error) {
		d, err := s.declaration(ctx, store.KindMerge, in.Name, in.Name, 0)
		if err != nil {
			return nil, err
		}
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			if err := store.KeepMerged(ctx, tx, d.DatasetID, in.Body.Kept); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, map[bool]string{true: "had a merge kept up", false: "had a merge kept up no more"}[in.Body.Kept], "merge "+in.Name, nil)
		})
		if err != nil {
			return nil, err
		}
		return answer(store.FindDataset(ctx, s.Store.DB, in.Name))
	})
	type mergePreviewed struct {
		Body struct {
			Source string             `json:"source" minLength:"1" maxLength:"1048576" doc:"The text of a merge, saved or not"`
			Tables map[string][]int64 `json:"tables,omitempty" doc:"Which tables of a dataset take part, by their numbers; those that the merge declares where they are not given"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "preview-merge", Method: http.MethodPost, Path: "/merges/previews",
		Summary: "Work out what a merge would do, saved or not; the job's result has its accounting, and what the rulebook of the merged dataset would find",
	}, func(ctx context.Context, in *mergePreviewed) (*body[records.Job], error) {
		plan, err := merge.Parse([]byte(in.Body.Source))
		if err != nil {
			return nil, err
		}
		inputs, err := s.mergeTables(ctx, plan, in.Body.Tables)
		if err != nil {
			return nil, err
		}
		first, err := store.FindDataset(ctx, s.Store.DB, plan.Stack[0])
		if err != nil {
			return nil, err
		}
		var job *records.Job
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if job, err = s.Pool.AddMergePreview(ctx, tx, first.ID, in.Body.Source, inputs, caller(ctx).ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "previewed a merge", plan.Name, map[string]any{"tables": inputs})
		})
		return answer(job, err)
	})
	type meetingAsked struct {
		Body struct {
			Source string `json:"source" minLength:"1" maxLength:"1048576" doc:"The text of a merge, saved or not"`
			Join   int    `json:"join" minimum:"1" maximum:"500" doc:"Which of its joins is meant, from 1"`
		}
	}
	register(s, operation{
		Right: access.Read, ID: "show-meeting", Method: http.MethodPost, Path: "/merges/meeting",
		Summary: "How many rows find a partner in a join of a merge, saved or not, and why others do not; of large tables as a sample tells it",
	}, func(ctx context.Context, in *meetingAsked) (*body[Meeting], error) {
		return answer(s.meeting(ctx, in.Body.Source, in.Body.Join))
	})
	register(s, operation{
		Right: access.Read, ID: "list-inputs", Method: http.MethodGet, Path: "/tables/{id}/inputs",
		Summary: "The tables that a merged one was made of",
	}, func(ctx context.Context, in *ByID) (*body[[]records.Table], error) {
		if _, err := store.FindTable(ctx, s.Store.DB, in.ID); err != nil {
			return nil, err
		}
		inputs, err := store.InputsOf(ctx, s.Store.DB, in.ID)
		return answer(&inputs, err)
	})
}

// MergeOutlined is a merge's text by its joins, with what its forms can offer.
type MergeOutlined struct {
	Source   string                 `json:"source" doc:"The text, with the changes made"`
	Outline  edit.PlanOutline       `json:"outline" doc:"Its own fields, and its joins as steps"`
	Forms    []rulebook.SectionForm `json:"forms"`
	Datasets []string               `json:"datasets" doc:"Those that could take part"`
	Columns  map[string][]string    `json:"columns" doc:"The columns of the newest cleaned table of each dataset that takes part; none where there is no such table"`
	// Meets suggests, for a stacked dataset, which of its columns the stack may call otherwise, and for a joined one which of
	// its columns may be what rows are matched by.
	Meets map[string][]merge.Suggestion `json:"meets"`
}

// editMerge changes the text of a merge, and lays it out.
func (s *Server) editMerge(ctx context.Context, in *planEdits) (*MergeOutlined, error) {
	source, err := edited(edit.Merges, in)
	if err != nil {
		return nil, err
	}
	outline, err := edit.Merges.Outline(source)
	if err != nil {
		return nil, err
	}
	out := &MergeOutlined{Source: source, Outline: *outline, Forms: merge.Forms(), Datasets: []string{}, Columns: map[string][]string{}, Meets: map[string][]merge.Suggestion{}}
	all, err := store.Datasets(ctx, s.Store.DB, store.Cursor{Limit: offeredDatasets})
	if err != nil {
		return nil, err
	}
	plan, _ := merge.Parse([]byte(source)) // one with mistakes names its datasets all the same
	taking := plan.Datasets()
	known := map[string][]audit.Column{}
	for _, d := range all.Items {
		out.Datasets = append(out.Datasets, d.Name)
		if !slices.Contains(taking, d.Name) {
			continue
		}
		if out.Columns[d.Name], known[d.Name], err = s.mergedColumns(ctx, d.ID, d.Name); err != nil {
			return nil, err
		}
	}
	var before []audit.Column
	for i, name := range plan.Stack {
		theirs := called(known[name], plan.Columns[name])
		if i > 0 {
			out.Meets[name] = merge.Suggest(before, theirs)
		}
		before = append(before, theirs...)
	}
	for _, j := range plan.Joins {
		out.Meets[j.With] = merge.SuggestKeys(before, known[j.With])
		for _, c := range known[j.With] {
			if slices.Contains(j.Take, c.Name) {
				before = append(before, c)
			}
		}
	}
	return out, nil
}

// Meeting is how many rows find a partner in a join.
type Meeting struct {
	Rows    int64       `json:"rows"`
	Matched int64       `json:"matched"`
	Blank   int64       `json:"blank" doc:"Rows with nothing in a part of their key"`
	Why     []merge.Why `json:"why" doc:"What would have to be levelled for others to meet; not looked into where the tables are large"`
	OneIn   int         `json:"one_in" doc:"1 where all rows were counted; else one of so many stretches of the stacked tables was"`
	// Large says that the tables are too large even for a sample.
	Large bool `json:"large"`
}

const (
	// meetingBytes is how large the tables may be together of which all rows are counted at once.
	meetingBytes = 64 << 20
	// sampleBytes is about how much of the stacked tables is looked at where they are larger.
	sampleBytes = 8 << 20
	// metBytes is how large the joined tables may be, which are read as a whole even for a sample.
	metBytes = 512 << 20
)

// meeting counts the rows that find a partner in a join, whatever becomes of the others: all of them, or those of a sample
// of the stacked tables where they are large.
func (s *Server) meeting(ctx context.Context, source string, join int) (*Meeting, error) {
	plan, err := merge.Parse([]byte(source))
	if err != nil {
		return nil, err
	}
	if join > len(plan.Joins) {
		return nil, invalid("The merge has %d joins.", len(plan.Joins))
	}
	plan = plan.Whatever()
	plan.Joins = plan.Joins[:join]
	ids, err := s.mergeTables(ctx, plan, nil)
	if err != nil {
		return nil, err
	}
	var inputs merge.Inputs
	var stacked, joined int64
	key := fmt.Sprintf("meeting %d %s ", join, plan.Digest)
	for _, name := range plan.Datasets() {
		for _, id := range ids[name] {
			t, err := store.FindTable(ctx, s.Store.DB, id)
			if err != nil {
				return nil, err
			}
			opened, err := s.inside(ctx, id)
			if err != nil {
				return nil, err
			}
			if slices.Contains(plan.Stack, name) {
				stacked += t.Bytes
			} else {
				joined += t.Bytes
			}
			key += opened.key
			inputs = append(inputs, merge.Input{Dataset: name, Table: id, Source: opened.Source, Book: opened.Book, Digest: t.Digest})
		}
	}
	oneIn := 1
	if stacked+joined > meetingBytes {
		// Rows that are made of others are not those of a sample of these.
		grained := slices.ContainsFunc(plan.Stack, func(name string) bool {
			_, ok := plan.Grains[name]
			return ok
		})
		if joined > metBytes || grained {
			return &Meeting{Why: []merge.Why{}, Large: true}, nil
		}
		oneIn, plan = int(max(stacked/sampleBytes, 1)), plan.Counting()
	}
	for i := range inputs {
		if slices.Contains(plan.Stack, inputs[i].Dataset) {
			inputs[i].Source = table.OneIn(inputs[i].Source, oneIn)
		}
	}
	return recall(ctx, &s.remembered, key, func(ctx context.Context) (*Meeting, error) {
		a, err := asked(merge.Run(ctx, plan, inputs, s.Pool.Workers, merge.Outputs{Table: io.Discard}))
		if err != nil {
			return nil, err
		}
		j := a.Joins[join-1]
		return &Meeting{Rows: j.RowsIn, Matched: j.Matched, Blank: j.Blank, Why: j.Why, OneIn: oneIn}, nil
	})
}

// called are columns by the names that the stack has for them.
func called(columns []audit.Column, names map[string]string) []audit.Column {
	out := slices.Clone(columns)
	for i := range out {
		if name, ok := names[out[i].Name]; ok {
			out[i].Name = name
		}
	}
	return out
}

// mergedColumns are the columns that a dataset would bring to a merge, and what is known of them where they were audited; none
// where nothing of it is cleaned.
func (s *Server) mergedColumns(ctx context.Context, id int64, name string) ([]string, []audit.Column, error) {
	t, err := store.NewestCleaned(ctx, s.Store.DB, id, name)
	if errors.Is(err, store.ErrNotFound) {
		return []string{}, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	opened, err := s.inside(ctx, t.ID)
	if err != nil {
		return nil, nil, err
	}
	names := slices.Clone(opened.Source.Columns())
	if t.AuditID == nil {
		return names, nil, nil
	}
	raw, err := store.AuditResult(ctx, s.Store.DB, *t.AuditID)
	if err != nil {
		return nil, nil, err
	}
	var result audit.Result
	err = json.Unmarshal(raw, &result)
	return names, result.Columns, err
}

// mergeTables settles which tables of each dataset take part.
func (s *Server) mergeTables(ctx context.Context, plan *merge.Plan, given map[string][]int64) (work.MergeTables, error) {
	tables, err := work.TablesFor(ctx, s.Store.DB, plan, given)
	var unfit *work.UnfitError
	if errors.As(err, &unfit) {
		return nil, invalid("%s", unfit.Error())
	}
	return tables, err
}
