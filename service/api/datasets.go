package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/document"
	_ "proudsieve/core/fix/steps" // the kinds of steps
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// ByName names a record by its name.
type ByName struct {
	Name string `path:"name" maxLength:"60"`
}

func (s *Server) datasets() {
	register(s, operation{
		Right: access.Read, ID: "list-datasets", Method: http.MethodGet, Path: "/datasets",
		Summary: "All datasets, with where each stands",
	}, func(ctx context.Context, in *Paging) (*body[records.Page[records.Dataset]], error) {
		return answer(store.Datasets(seen(ctx), s.Store.DB, in.cursor()))
	})
	register(s, operation{
		Right: access.Read, ID: "show-dataset", Method: http.MethodGet, Path: "/datasets/{name}",
		Summary: "One dataset",
	}, func(ctx context.Context, in *ByName) (*body[records.Dataset], error) {
		return answer(store.FindDataset(ctx, s.Store.DB, in.Name))
	})
	type newDataset struct {
		Body struct {
			Name  string `json:"name" pattern:"^[a-z][a-z0-9_]{0,59}$" patternDescription:"lower-case letters, digits and underscores, a letter first"`
			Title string `json:"title,omitempty" maxLength:"200"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "add-dataset", Method: http.MethodPost, Path: "/datasets",
		Summary: "Add a dataset, or change its title",
	}, func(ctx context.Context, in *newDataset) (*body[records.Dataset], error) {
		var made *records.Dataset
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if made, err = store.EnsureDataset(ctx, tx, in.Body.Name, in.Body.Title); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "added a dataset", made.Name, nil)
		})
		return answer(made, err)
	})
	type datasetAudits struct {
		ByName
		Paging
	}
	register(s, operation{
		Right: access.Read, ID: "list-dataset-audits", Method: http.MethodGet, Path: "/datasets/{name}/audits",
		Summary: "The audits of a dataset, newest first",
	}, func(ctx context.Context, in *datasetAudits) (*body[records.Page[records.Audit]], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		return answer(store.Audits(ctx, s.Store.DB, d.ID, 0, in.cursor()))
	})
}

// changeDataset changes something of a dataset, records who did, and answers with it as it is then.
func (s *Server) changeDataset(ctx context.Context, d *records.Dataset, action string, detail map[string]any, change func(tx *sqlx.Tx) error) (*body[records.Dataset], error) {
	err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		if err := change(tx); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, action, "dataset "+d.Name, detail)
	})
	if err != nil {
		return nil, err
	}
	return answer(store.FindDataset(ctx, s.Store.DB, d.Name))
}

// idOfDataset is the id of the dataset of a name; 0 for no name.
func (s *Server) idOfDataset(ctx context.Context, name string) (int64, error) {
	if name == "" {
		return 0, nil
	}
	d, err := store.FindDataset(ctx, s.Store.DB, name)
	if err != nil {
		return 0, err
	}
	return d.ID, nil
}

// declared is the text of a declaration.
type declared struct {
	Body struct {
		Source string `json:"source" minLength:"1" maxLength:"1048576" doc:"YAML"`
	}
}

// Saving is a declaration that is to be saved.
type Saving struct {
	IfMatch string `header:"If-Match" doc:"The ETag of the version that this one was made from; needed where there is one"`
	Body    struct {
		Source string `json:"source" minLength:"1" maxLength:"1048576" doc:"YAML"`
	}
}

// madeFrom is the version that a declaration was made from, by its ETag; 0 for none.
func madeFrom(ifMatch string) (int, error) {
	if ifMatch == "" {
		return 0, nil
	}
	return seenVersion(ifMatch)
}

// versioned is a version of a declaration; the next one is made from its ETag.
type versioned struct {
	ETag string `header:"ETag"`
	Body records.Declaration
}

func asVersion(d *records.Declaration, err error) (*versioned, error) {
	if err != nil {
		return nil, err
	}
	return &versioned{strconv.Quote(strconv.Itoa(d.Version)), *d}, nil
}

// declarations are the operations on rulebooks, fix plans and merges: all are texts with versions.
func (s *Server) declarations() {
	register(s, operation{
		Right: access.Work, ID: "add-rulebook", Method: http.MethodPost, Path: "/rulebooks",
		Summary: "Save a rulebook as the newest version of its dataset's, which is added where it is new",
	}, func(ctx context.Context, in *SavingRulebook) (*versioned, error) {
		return asVersion(s.saveRulebook(ctx, in))
	})
	register(s, operation{
		Right: access.Work, ID: "add-fix-plan", Method: http.MethodPost, Path: "/fix-plans",
		Summary: "Save a fix plan as the newest version of its name",
	}, func(ctx context.Context, in *Saving) (*versioned, error) {
		d, _, plan, err := s.planOf(ctx, in.Body.Source)
		if err != nil {
			return nil, err
		}
		return asVersion(s.declare(ctx, in, newText{store.KindFixPlan, d.Name, "", plan.Name, plan.Digest, plan.Old}))
	})
	register(s, operation{
		Right: access.Work, ID: "add-merge", Method: http.MethodPost, Path: "/merges",
		Summary: "Save a merge as the newest version of its name; the merged tables belong to the dataset of that name",
	}, func(ctx context.Context, in *Saving) (*versioned, error) {
		plan, err := merge.Parse([]byte(in.Body.Source))
		if err != nil {
			return nil, err
		}
		if err := s.knows(ctx, plan); err != nil {
			return nil, err
		}
		return asVersion(s.declare(ctx, in, newText{store.KindMerge, plan.Name, plan.Title, plan.Name, plan.Digest, plan.Old}))
	})
	for kind, path := range map[string]string{store.KindRulebook: "rulebooks", store.KindFixPlan: "fix-plans",
		store.KindMerge: "merges"} {
		s.declarationLists(kind, path)
	}
}

func (s *Server) declarationLists(kind, path string) {
	type inDataset struct {
		Paging
		Dataset string `query:"dataset" doc:"Only those of this dataset"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-" + path, Method: http.MethodGet, Path: "/" + path,
		Summary: "Versions, newest first",
	}, func(ctx context.Context, in *inDataset) (*body[records.Page[records.Declaration]], error) {
		dataset, err := s.idOfDataset(ctx, in.Dataset)
		if err != nil {
			return nil, err
		}
		return answer(store.Declarations(seen(ctx), s.Store.DB, kind, dataset, in.cursor()))
	})
	type version struct {
		Dataset string `path:"dataset"`
		Name    string `path:"name"`
		Version int    `query:"version" minimum:"0" maximum:"2147483647" doc:"0 for the newest"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-" + path, Method: http.MethodGet, Path: "/" + path + "/{dataset}/{name}",
		Summary: "One version",
	}, func(ctx context.Context, in *version) (*versioned, error) {
		return asVersion(s.declaration(ctx, kind, in.Dataset, in.Name, in.Version))
	})
}

// declaration finds a version; 0 means the newest.
func (s *Server) declaration(ctx context.Context, kind, dataset, name string,
	version int) (*records.Declaration, error) {
	d, err := store.FindDataset(ctx, s.Store.DB, dataset)
	if err != nil {
		return nil, err
	}
	if version == 0 {
		return store.NewestDeclaration(ctx, s.Store.DB, kind, d.ID, name)
	}
	return store.DeclarationVersion(ctx, s.Store.DB, kind, d.ID, name, version)
}

// newText is a declaration that was read and is to be saved.
type newText struct {
	kind, dataset, title, name, digest string
	// old tells of words of earlier versions in the text.
	old []document.Problem
}

// declare saves a declaration.
func (s *Server) declare(ctx context.Context, in *Saving, n newText) (*records.Declaration, error) {
	from, err := madeFrom(in.IfMatch)
	if err != nil {
		return nil, err
	}
	var out *records.Declaration
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		d, err := store.EnsureDataset(ctx, tx, n.dataset, n.title)
		if err != nil {
			return err
		}
		made, err := store.AddDeclaration(ctx, tx, store.NewDeclaration{Kind: n.kind, DatasetID: d.ID, Name: n.name,
			Source: in.Body.Source, Digest: n.digest, From: from, AuthorID: caller(ctx).ID})
		if err != nil {
			return err
		}
		out = made
		return recordSaved(ctx, tx, made)
	})
	return s.declared(ctx, n.kind, out, n.old, err)
}

// recordSaved records that the caller saved a version.
func recordSaved(ctx context.Context, tx *sqlx.Tx, d *records.Declaration) error {
	return store.Record(ctx, tx, caller(ctx).ID, "saved a "+strings.ReplaceAll(d.Kind, "_", " "),
		fmt.Sprintf("%s version %d", d.Name, d.Version), map[string]any{"sha256": d.Digest})
}

// declared returns a version that was saved, with what is said of its old words, or tells who saved another one meanwhile.
func (s *Server) declared(ctx context.Context, kind string, out *records.Declaration, old []document.Problem, err error) (*records.Declaration, error) {
	var outdated *store.OutdatedError
	if errors.As(err, &outdated) {
		return nil, s.outdated(ctx, kind, outdated)
	}
	for i := range old {
		if out != nil {
			out.OldWords = append(out.OldWords, old[i].String())
		}
	}
	return out, err
}

// outdated tells somebody who saves from an earlier version who saved what since.
func (s *Server) outdated(ctx context.Context, kind string, e *store.OutdatedError) error {
	status, what := http.StatusPreconditionFailed, strings.ReplaceAll(kind, "_", " ")
	if e.From == 0 {
		status = http.StatusPreconditionRequired
	}
	var details []error
	before := ""
	if e.From > 0 {
		earlier, err := store.DeclarationVersion(ctx, s.Store.DB, kind, e.Newest.DatasetID, e.Newest.Name, e.From)
		if err != nil {
			return err
		}
		before = earlier.Source
	}
	if kind == store.KindRulebook && before != "" {
		then, err := rulebook.Parse([]byte(before))
		now, also := rulebook.Parse([]byte(e.Newest.Source))
		if err == nil && also == nil {
			for _, one := range rulebook.Compare(then, now) {
				details = append(details, &huma.ErrorDetail{Message: one.Says,
					Location: fmt.Sprintf("version %d", e.Newest.Version)})
			}
		}
	}
	if len(details) == 0 && before != "" {
		for _, line := range document.Changes(before, e.Newest.Source) {
			details = append(details, &huma.ErrorDetail{Message: line,
				Location: fmt.Sprintf("version %d", e.Newest.Version)})
		}
	}
	return huma.NewError(status, fmt.Sprintf("The %s was not saved: %s.", what, e), details...)
}
