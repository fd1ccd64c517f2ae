package api

import (
	"context"
	"errors"
	"net/http"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/edit"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// Checked says what is wrong with a text that is not saved, and what an editor can offer in it.
type Checked struct {
	Good      bool                   `json:"good"`
	Problems  document.Problems      `json:"problems"`
	Sections  []rulebook.SectionForm `json:"sections" doc:"The parts that such a text has, with their fields"`
	Columns   []string               `json:"columns" doc:"What a condition may name"`
	Functions []string               `json:"functions" doc:"What a condition may call"`
	Codes     []string               `json:"codes" doc:"The code lists of a rulebook"`
	Datasets  []string               `json:"datasets" doc:"What a merge may take"`
}

// checked makes the answer to a text that is good, or has mistakes; any other error is returned.
func checked(sections []rulebook.SectionForm, err error) (*Checked, error) {
	out := &Checked{Good: err == nil, Problems: document.Problems{}, Sections: sections, Columns: []string{},
		Functions: condition.FunctionNames(), Codes: []string{}, Datasets: []string{}}
	if err != nil && !errors.As(err, &out.Problems) {
		return nil, err
	}
	return out, nil
}

// checks are the questions that an editor asks while a text is written.
func (s *Server) checks() {
	register(s, operation{
		Right: access.Read, ID: "check-rulebook", Method: http.MethodPost, Path: "/rulebooks/check",
		Summary: "Say what is wrong with a rulebook and what can come in it, without saving it",
	}, func(_ context.Context, in *declared) (*body[Checked], error) {
		_, err := rulebook.Parse([]byte(in.Body.Source))
		out, err := checked(rulebook.Sections(), err)
		if err != nil {
			return nil, err
		}
		// A text with mistakes has columns and code lists all the same, unless it is none that can be taken apart.
		if outline, err := edit.OutlineOf(in.Body.Source); err == nil {
			for _, section := range outline.Sections {
				if section.Name == "columns" {
					for _, item := range section.Items {
						out.Columns = append(out.Columns, item.Name)
					}
				}
			}
			for _, list := range outline.Codes {
				out.Codes = append(out.Codes, list.Name)
			}
		}
		return answer(out, nil)
	})
	register(s, operation{
		Right: access.Read, ID: "check-fix-plan", Method: http.MethodPost, Path: "/fix-plans/check",
		Summary: "Say what is wrong with a fix plan and what can come in it, without saving it",
	}, func(ctx context.Context, in *declared) (*body[Checked], error) {
		_, book, _, err := s.planOf(ctx, in.Body.Source)
		out, err := checked(fix.Forms(), misplaced(err))
		if err == nil && book != nil {
			out.Columns = columnsOf(book)
		}
		return answer(out, err)
	})
	register(s, operation{
		Right: access.Read, ID: "check-merge", Method: http.MethodPost, Path: "/merges/check",
		Summary: "Say what is wrong with a merge and what can come in it, without saving it",
	}, func(ctx context.Context, in *declared) (*body[Checked], error) {
		all, err := store.Datasets(ctx, s.Store.DB, store.Cursor{Limit: offeredDatasets})
		if err != nil {
			return nil, err
		}
		plan, err := merge.Parse([]byte(in.Body.Source))
		if err == nil {
			err = s.knows(ctx, plan)
		}
		out, err := checked(merge.Forms(), misplaced(err))
		if err == nil {
			for _, d := range all.Items {
				out.Datasets = append(out.Datasets, d.Name)
			}
		}
		return answer(out, err)
	})
	type asked struct {
		ByID
		Body struct {
			Condition string `json:"condition" maxLength:"20000" doc:"A condition on the rows of the table"`
		}
	}
	register(s, operation{
		Right: access.Read, ID: "check-condition", Method: http.MethodPost, Path: "/tables/{id}/conditions/check",
		Summary: "Say what is wrong with a condition on the rows of a table and what can come in it",
	}, func(ctx context.Context, in *asked) (*body[Checked], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		out, err := checked([]rulebook.SectionForm{}, nil)
		if err != nil {
			return nil, err
		}
		out.Columns = slices.Clone(t.Source.Columns())
		if in.Body.Condition != "" {
			_, mistakes := condition.Compile(in.Body.Condition, t.Types())
			for _, m := range mistakes {
				place := document.Problem{Line: 1, Column: 1, Message: m.Error()}
				var at *condition.Error
				if errors.As(m, &at) {
					place.Column, place.Message = at.Column, at.Message
				}
				out.Problems = append(out.Problems, place)
			}
		}
		out.Good = len(out.Problems) == 0
		return answer(out, nil)
	})
}

// offeredDatasets is how many datasets an editor offers.
const offeredDatasets = 500

func columnsOf(book *rulebook.Rulebook) []string {
	out := make([]string, len(book.Columns))
	for i, c := range book.Columns {
		out[i] = c.Name
	}
	return out
}

// misplaced makes what a text names in vain a mistake of the text.
func misplaced(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return document.Problems{{Line: 1, Column: 1, Message: err.Error()}}
	}
	return err
}

// planOf reads a fix plan, and returns the dataset that it is for with its rulebook, which may be there though the plan has
// mistakes.
func (s *Server) planOf(ctx context.Context, source string) (*records.Dataset, *rulebook.Rulebook, *fix.Plan, error) {
	of, makes, err := fix.DatasetsOf([]byte(source))
	if err != nil {
		return nil, nil, nil, err
	}
	if err := s.mayName(ctx, access.Work, of, nil, nil); err != nil {
		return nil, nil, nil, err
	}
	if err := s.mayName(ctx, access.Work, makes, nil, nil); err != nil {
		return nil, nil, nil, err
	}
	d, book, err := s.ruled(ctx, of)
	if err != nil {
		return nil, nil, nil, err
	}
	result := book
	if makes != of {
		if result, err = s.madeBy(ctx, makes, book); err != nil {
			return d, book, nil, fix.MisfitOfMakes([]byte(source), err)
		}
	}
	plan, err := fix.ParseFor([]byte(source), book, result)
	if plan != nil {
		if err := s.mayName(ctx, access.Work, of, plan.Others(), nil); err != nil {
			return nil, nil, nil, err
		}
	}
	return d, book, plan, err
}

// madeBy returns the rulebook by which a plan writes tables of a dataset: its newest, or where nothing is declared of it yet,
// that of what the tables are made of.
func (s *Server) madeBy(ctx context.Context, makes string, of *rulebook.Rulebook) (*rulebook.Rulebook, error) {
	d, err := store.FindDataset(ctx, s.Store.DB, makes)
	if err != nil {
		return nil, err
	}
	newest, err := store.OrNil(store.NewestDeclaration(ctx, s.Store.DB, store.KindRulebook, d.ID, d.Name))
	if err != nil || newest == nil {
		return of, err
	}
	return rulebook.Parse([]byte(newest.Source))
}

// ruled returns a dataset with its newest rulebook, which must be there.
func (s *Server) ruled(ctx context.Context, name string) (*records.Dataset, *rulebook.Rulebook, error) {
	d, err := store.FindDataset(ctx, s.Store.DB, name)
	if err != nil {
		return nil, nil, err
	}
	newest, err := store.NewestDeclaration(ctx, s.Store.DB, store.KindRulebook, d.ID, d.Name)
	if err != nil {
		return nil, nil, err
	}
	book, err := rulebook.Parse([]byte(newest.Source))
	return d, book, err
}

// knows returns an error where a merge takes a dataset that there is not.
func (s *Server) knows(ctx context.Context, plan *merge.Plan) error {
	for _, name := range plan.Datasets() {
		if _, err := store.FindDataset(ctx, s.Store.DB, name); err != nil {
			return err
		}
	}
	return nil
}
