package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/merge"
	"proudsieve/core/propose"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/table"
	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// Outlined is a rulebook's text by its items, with what forms and the editor can offer.
type Outlined struct {
	Outline   edit.Outline           `json:"outline"`
	Forms     []rulebook.SectionForm `json:"forms"`
	Functions []string               `json:"functions" doc:"What a condition may call"`
}

// forms adds what changes the text of a rulebook without writing it.
func (s *Server) forms() {
	register(s, operation{
		Right: access.Read, ID: "outline-rulebook", Method: http.MethodPost, Path: "/rulebooks/outline",
		Summary: "The text of a rulebook by its items, and the fields that each kind of item has",
	}, func(_ context.Context, in *declared) (*body[Outlined], error) {
		outline, err := edit.OutlineOf(in.Body.Source)
		if err != nil {
			return nil, err
		}
		return answer(&Outlined{*outline, rulebook.Sections(), condition.FunctionNames()}, nil)
	})
	type edits struct {
		Body struct {
			Source  string        `json:"source" minLength:"1" maxLength:"1048576" doc:"The text of a rulebook, in YAML"`
			Changes []edit.Change `json:"changes" maxItems:"2000"`
		}
	}
	register(s, operation{
		Right: access.Read, ID: "edit-rulebook", Method: http.MethodPost, Path: "/rulebooks/edit",
		Summary: "Change the text of a rulebook by its items; comments and order stay, and nothing is saved",
	}, func(_ context.Context, in *edits) (*body[Carried], error) {
		if len(in.Body.Changes)*len(in.Body.Source) > editedMost {
			return nil, invalid("%d changes of a text of %d bytes are too many at once; make fewer of them.",
				len(in.Body.Changes), len(in.Body.Source))
		}
		source, err := edit.Apply(in.Body.Source, in.Body.Changes)
		var mistakes document.Problems
		if err != nil && !errors.As(err, &mistakes) {
			return nil, invalid("%s", sentence(err))
		}
		return answer(&Carried{Source: source, Left: []string{}}, err)
	})
}

// editedMost bounds the work of changes by forms, each of which takes the text apart anew.
const editedMost = 64 << 20

// trials adds what tries a rulebook before it is saved.
func (s *Server) trials() {
	type tried struct {
		ByID
		Body struct {
			Source string `json:"source" minLength:"1" doc:"A rulebook in YAML, which is not saved"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "try-rulebook", Method: http.MethodPost, Path: "/tables/{id}/trials",
		Summary: "Audit a table by a rulebook that is not saved; the job's result is what it found, and nothing else is recorded",
	}, func(ctx context.Context, in *tried) (*body[records.Job], error) {
		t, err := store.FindTable(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		book, err := rulebook.Parse([]byte(in.Body.Source))
		if err != nil {
			return nil, err
		}
		if err := s.mayDeclare(ctx, book); err != nil {
			return nil, err
		}
		if book.Dataset != t.Dataset {
			return nil, invalid("The rulebook is for the dataset %s, and table %d belongs to %s.", book.Dataset, t.ID,
				t.Dataset)
		}
		var job *records.Job
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if job, err = s.Pool.AddTrial(ctx, tx, t, in.Body.Source, caller(ctx).ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "tried a rulebook", subject(t),
				map[string]any{"sha256": book.Digest})
		})
		return answer(job, err)
	})
	type versions struct {
		Dataset string `path:"dataset"`
		From    int    `query:"from" minimum:"1" maximum:"2147483647" doc:"The earlier version; the one before to where it is left out"`
		To      int    `query:"to" minimum:"0" maximum:"2147483647" doc:"The later version; 0 for the newest"`
	}
	register(s, operation{
		Right: access.Read, ID: "compare-rulebooks", Method: http.MethodGet, Path: "/rulebooks/{dataset}/comparison",
		Summary: "In what a version of a rulebook differs from an earlier one, in words",
	}, func(ctx context.Context, in *versions) (*body[[]rulebook.Difference], error) {
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

// proposedBeside is how many other datasets, the newest ones, a proposal looks for references to.
const proposedBeside = 50

// otherDatasets lists the declared datasets that one may refer to, and a word for the tables of theirs that count now.
func (s *Server) otherDatasets(ctx context.Context, d *records.Dataset, t *records.Table) (others []propose.Other, tables string, err error) {
	all, err := store.Datasets(seen(ctx), s.Store.DB, store.Cursor{Limit: proposedBeside})
	if err != nil {
		return nil, "", err
	}
	book := &rulebook.Rulebook{}
	if err := work.Beside(ctx, s.Store, s.Files, t, book, time.Now()); err != nil {
		return nil, "", err
	}
	for i := range all.Items {
		other := &all.Items[i]
		if other.ID == d.ID {
			continue
		}
		declared, err := store.NewestDeclaration(ctx, s.Store.DB, store.KindRulebook, other.ID, other.Name)
		var current *records.Table
		if err == nil {
			current, err = work.Current(ctx, s.Store, other)
		}
		if errors.Is(err, store.ErrNotFound) {
			continue // nothing is declared of it, or nothing of it has arrived
		}
		if err != nil {
			return nil, "", err
		}
		others = append(others, propose.Other{Dataset: other.Name, Open: func(ctx context.Context) (table.Source, *rulebook.Rulebook, error) {
			return book.Beside.Open(ctx, other.Name)
		}})
		tables += fmt.Sprintf("beside %s %s by %d ", other.Name, current.Digest, declared.ID)
	}
	return others, tables, nil
}

// ProposalAsked says of what a rulebook is to be drafted.
type ProposalAsked struct {
	ByName
	Last int `query:"last" minimum:"1" maximum:"12" default:"3" doc:"How many of the newest deliveries are looked at"`
}

// Proposed is a draft of a rulebook.
type Proposed struct {
	Source string         `json:"source" doc:"A rulebook in YAML, with the evidence beside each line"`
	Lines  []propose.Line `json:"lines" doc:"What it is made of"`
}

// proposed drafts a rulebook for a dataset from its newest deliveries.
func (s *Server) proposed(ctx context.Context, name string, last int) (*propose.Proposal, error) {
	d, err := store.FindDataset(ctx, s.Store.DB, name)
	if err != nil {
		return nil, err
	}
	newest, err := store.Deliveries(ctx, s.Store.DB, d.ID, min(last, proposedFrom))
	if err != nil {
		return nil, err
	}
	if len(newest) == 0 { // a dataset that fix plans or merges make tables of
		made, err := store.Tables(ctx, s.Store.DB, d.ID, "", store.Cursor{Limit: min(last, proposedFrom)})
		if err != nil {
			return nil, err
		}
		newest = slices.DeleteFunc(made.Items, func(t records.Table) bool { return t.WithdrawnAt != nil })
	}
	if len(newest) == 0 {
		return nil, invalid("There is no table of the dataset %s yet, and a proposal needs one: bring a delivery of it, or run what makes it.", d.Name)
	}
	var deliveries []propose.Delivery
	key := "proposal "
	for _, t := range newest {
		deliveries = append(deliveries, propose.Delivery{Name: t.FileName, Open: files.At(s.Files, t.Digest)})
		key += t.Digest + " "
	}
	others, opened, err := s.otherDatasets(ctx, d, &newest[0])
	if err != nil {
		return nil, err
	}
	fixed, err := work.ReadingOf(&newest[0])
	if err != nil {
		return nil, err
	}
	inherited, err := s.inherited(ctx, &newest[0])
	if err != nil {
		return nil, err
	}
	key += fmt.Sprintf("%s %+v %+v", opened, fixed, inherited)
	return recall(ctx, &s.remembered, key, func(ctx context.Context) (*propose.Proposal, error) {
		p, err := asked(propose.Rulebook(ctx, d.Name, deliveries, others, fixed, s.Pool.Workers))
		if err != nil || len(inherited) == 0 {
			return p, err
		}
		return p.Inherit(inherited)
	})
}

// inherited are the datasets that a merged table is made of which have rulebooks; none of another table.
func (s *Server) inherited(ctx context.Context, t *records.Table) (out []propose.Inherited, err error) {
	if t.Origin != store.OriginMerged || t.DeclarationID == nil {
		return nil, nil
	}
	d, err := store.FindDeclaration(ctx, s.Store.DB, *t.DeclarationID)
	if err != nil {
		return nil, err
	}
	plan, err := merge.Parse([]byte(d.Source))
	if err != nil {
		return nil, err
	}
	var a merge.Accounting
	if err := json.Unmarshal(*t.Accounting, &a); err != nil {
		return nil, err
	}
	for _, one := range a.Heirs(plan) {
		dataset, err := store.FindDataset(ctx, s.Store.DB, one.Dataset)
		if err != nil {
			return nil, err
		}
		book, err := store.OrNil(store.NewestDeclaration(ctx, s.Store.DB, store.KindRulebook, dataset.ID, dataset.Name))
		if err != nil {
			return nil, err
		}
		if book != nil {
			out = append(out, propose.Inherited{Dataset: one.Dataset, Source: book.Source, Columns: one.Columns, Stacked: one.Stacked, Everywhere: one.Everywhere, Unique: one.Unique})
		}
	}
	return out, nil
}

// proposals adds what drafts rulebooks, and carries them to and from CSVW.
func (s *Server) proposals() {
	register(s, operation{
		Right: access.Work, ID: "propose-rulebook", Method: http.MethodGet, Path: "/datasets/{name}/proposal",
		Summary: "A draft of a rulebook from the newest deliveries, with the evidence for each line",
	}, func(ctx context.Context, in *ProposalAsked) (*body[Proposed], error) {
		p, err := s.proposed(ctx, in.Name, in.Last)
		if err != nil {
			return nil, err
		}
		return answer(&Proposed{Source: p.Source(propose.Choice{}), Lines: p.Lines}, nil)
	})
	type chosen struct {
		ProposalAsked
		Body propose.Choice
	}
	register(s, operation{
		Right: access.Work, ID: "choose-proposal", Method: http.MethodPost, Path: "/datasets/{name}/proposal",
		Summary: "The draft as a person chose of it, which is not saved",
	}, func(ctx context.Context, in *chosen) (*body[Proposed], error) {
		p, err := s.proposed(ctx, in.Name, in.Last)
		if err != nil {
			return nil, err
		}
		return answer(&Proposed{Source: p.Source(in.Body), Lines: p.Lines}, nil)
	})
	type version struct {
		Dataset string `path:"dataset"`
		Version int    `query:"version" minimum:"0" maximum:"2147483647" doc:"0 for the newest"`
	}
	register(s, operation{
		Right: access.Read, ID: "export-csvw", Method: http.MethodGet, Path: "/rulebooks/{dataset}/csvw",
		Summary: "A rulebook as CSVW metadata, with what could not be carried over",
	}, func(ctx context.Context, in *version) (*body[Carried], error) {
		d, err := s.declaration(ctx, store.KindRulebook, in.Dataset, in.Dataset, in.Version)
		if err != nil {
			return nil, err
		}
		book, err := rulebook.Parse([]byte(d.Source))
		if err != nil {
			return nil, err
		}
		out := &Carried{}
		out.Metadata, out.Left = csvw.Of(book, in.Dataset+".csv")
		return answer(out, nil)
	})
	type metadata struct {
		ByName
		Body json.RawMessage `doc:"CSVW metadata"`
	}
	register(s, operation{
		Right: access.Work, ID: "import-csvw", Method: http.MethodPost, Path: "/datasets/{name}/csvw",
		Summary: "A rulebook made of CSVW metadata, which is not saved, with what could not be carried over",
	}, func(_ context.Context, in *metadata) (*body[Carried], error) {
		source, left, err := csvw.Read(in.Name, in.Body)
		if err != nil {
			return nil, invalid("%s", sentence(err))
		}
		return answer(&Carried{Source: source, Left: append([]string{}, left...)}, nil)
	})
}
