package work

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/engine"
	"proudsieve/inplace"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// There is a table that is judged where it lies. Its delivery holds this in place of bytes, so that it is known by what it is: the same table, unchanged, is
// the same delivery.
type There struct {
	Format   string `json:"format"` // thereFormat
	Database string `json:"database"`
	Engine   string `json:"engine"`
	Server   string `json:"server"` // host, port and name of the database
	Schema   string `json:"schema,omitempty"`
	Table    string `json:"table,omitempty"`
	Query    string `json:"query,omitempty"`
	inplace.Identity
}

// thereFormat names what stands in such a delivery.
const thereFormat = "proudsieve table in place 1"

// ErrThere says that a table lies in a database, so that what needs its rows cannot be done.
var ErrThere = errors.New("none of its rows were taken")

// LiesThere returns where a table lies that is judged there; nil of others.
func LiesThere(t *records.Table) *There {
	var source struct {
		InPlace *There `json:"in_place"`
	}
	if !bytes.Contains(t.Source, []byte(thereFormat)) || json.Unmarshal(t.Source, &source) != nil {
		return nil
	}
	return source.InPlace
}

// elsewhere says what cannot be done with a table that lies elsewhere.
func (w *There) elsewhere(t *records.Table) error {
	return fmt.Errorf("table %d is judged where it lies, %s of the database %s: %w; to look at rows by other questions, to fix, merge or export it, take it as a delivery (proudsieve delivery take %s --database %s, or the page of the dataset)",
		t.ID, w.relation(), w.Database, ErrThere, t.Dataset, w.Database)
}

func (w *There) relation() engine.Relation {
	return engine.Relation{Schema: w.Schema, Table: w.Table, Query: w.Query}
}

// identify makes a delivery of a table that is to be judged where it lies.
func (a *attempt) identify(ctx context.Context, f *records.Fetch) (*store.Fetched, error) {
	d, err := store.FindDatabase(ctx, a.store.DB, f.Database)
	if err != nil {
		return nil, err
	}
	w := &There{Format: thereFormat, Database: d.Name, Engine: d.Engine, Server: fmt.Sprintf("%s:%d/%s", d.Host, d.Port, d.Database), Schema: f.Schema, Table: f.Table, Query: f.Query}
	identity, err := w.ask(ctx, a, d)
	if err != nil {
		return nil, fmt.Errorf("%s of %s: %w", w.relation(), d.Name, err)
	}
	w.Identity = *identity
	raw, err := json.MarshalIndent(w, "", "  ")
	if err != nil {
		return nil, err
	}
	kept, err := a.Receive(ctx, bytes.NewReader(append(raw, '\n')))
	if err != nil {
		return nil, err
	}
	defer kept.Close()
	done, err := a.deliverThere(ctx, f, kept, w)
	if err == nil && done.Outcome == "known" {
		done.Message = fmt.Sprintf("The table is as it was when it was judged as delivery %d.", *done.TableID)
	}
	return done, err
}

func (a *attempt) deliverThere(ctx context.Context, f *records.Fetch, kept *files.Kept, w *There) (*store.Fetched, error) {
	name := "a query of " + w.Database
	if w.Query == "" {
		name = w.Schema + "." + w.Table + " of " + w.Database
	}
	done, err := a.deliver(ctx, f, kept, strings.NewReplacer("/", "_", "\\", "_").Replace(name), map[string]any{"database": w.Database, "in_place": w})
	if err == nil && done.Outcome == "delivered" {
		done.Message = fmt.Sprintf("%s is delivery %d of %s, and is judged where it lies; it has %s.", w.relation(), *done.TableID, f.Dataset, document.Counted(w.Rows, "row", "rows"))
	}
	return done, err
}

// ask works out what tells the table from others.
func (w *There) ask(ctx context.Context, a *attempt, d *records.Database) (*inplace.Identity, error) {
	s, err := a.OpenDatabase(ctx, d)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	defer a.ticking(ctx)()
	return inplace.Identify(ctx, s, d.Engine, w.relation())
}

// ForeseeThere tells what would be asked of a relation that is judged where it lies, by the newest rulebook of a dataset.
func (p *Pool) ForeseeThere(ctx context.Context, of *records.Dataset, d *records.Database, r engine.Relation) (*inplace.Plan, error) {
	book, err := rulebookOf(ctx, p.store.DB, of.ID, of.Name)
	if err == nil && book == nil {
		book, err = bare(of.Name)
	}
	if err != nil {
		return nil, err
	}
	next := &records.Table{ID: math.MaxInt64, DatasetID: of.ID, Dataset: of.Name, Origin: store.OriginDelivery}
	if err := Beside(ctx, p.store, p.files, next, book, time.Now()); err != nil {
		return nil, err
	}
	s, err := p.OpenDatabase(ctx, d)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	plan, err := inplace.Foresee(ctx, s, d.Engine, r, book, inplace.Options{Workers: p.Workers})
	if err != nil {
		return nil, fmt.Errorf("%s of %s: %w", r, d.Name, err)
	}
	return plan, nil
}

// bare is the rulebook of a dataset that has none.
func bare(dataset string) (*rulebook.Rulebook, error) {
	return rulebook.Parse([]byte("dataset: " + dataset + "\n"))
}

// judgeThere judges a table where it lies, if it is what it was when it became a delivery.
func (a *attempt) judgeThere(ctx context.Context, t *records.Table, w *There, book *rulebook.Rulebook) (*audit.Result, error) {
	d, err := store.FindDatabase(ctx, a.store.DB, w.Database)
	if err != nil {
		return nil, err
	}
	if now := inplace.DigestBy(d.Engine); now != w.DigestBy {
		return nil, fmt.Errorf("%s of %s: what it was when it became delivery %d was worked out in another way (%s) than servers are asked now (%s), so that nothing tells whether it is still the same; have it judged anew, as a delivery of its own",
			w.relation(), d.Name, t.ID, w.DigestBy, now)
	}
	if book == nil {
		if book, err = bare(t.Dataset); err != nil {
			return nil, err
		}
	}
	if err := Beside(ctx, a.store, a.files, t, book, a.job.CreatedAt); err != nil {
		return nil, err
	}
	s, err := a.OpenDatabase(ctx, d)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	defer a.ticking(ctx)()
	result, err := inplace.Judge(ctx, s, d.Engine, w.relation(), book, inplace.Options{Workers: a.Workers, Budget: time.Duration(d.AuditMinutes) * time.Minute, Tell: func(string, string) { a.ticks.Add(1) }})
	if err != nil {
		return nil, fmt.Errorf("%s of %s: %w", w.relation(), d.Name, err)
	}
	if result.There.Digest != w.Digest || result.Rows != w.Rows {
		return nil, fmt.Errorf("%s of %s has changed since it became delivery %d: it had %s then, and has %d now; have it judged anew, as a delivery of its own", w.relation(), d.Name, t.ID, document.Counted(w.Rows, "row", "rows"), result.Rows)
	}
	a.progress(0, result.Rows)
	result.There.Database = d.Name
	return result, nil
}

// RowsThere reads a page of the rows of a table that break a rule, from where it lies.
func (p *Pool) RowsThere(ctx context.Context, t *records.Table, where string, after, most int) (names []string, rows [][]string, err error) {
	w := LiesThere(t)
	d, err := store.FindDatabase(ctx, p.store.DB, w.Database)
	if err != nil {
		return nil, nil, err
	}
	s, err := p.OpenDatabase(ctx, d)
	if err != nil {
		return nil, nil, err
	}
	defer s.Close()
	return inplace.Rows(ctx, s, d.Engine, w.relation(), where, after, most)
}
