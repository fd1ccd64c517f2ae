package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	_ "proudsieve/core/fix/steps" // the kinds of steps
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/engine"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// OpenTable opens a table with the rulebook that applies to it; without a rulebook
// its reading is worked out and a draft made.
func OpenTable(ctx context.Context, f files.Store, t *records.Table,
	book *rulebook.Rulebook) (*intake.File, *rulebook.Rulebook, error) {
	if there := LiesThere(t); there != nil {
		return nil, nil, there.elsewhere(t)
	}
	marks, err := marksOf(f, t)
	if err != nil {
		return nil, nil, err
	}
	source, book, err := openTable(ctx, f, t, book)
	if err == nil {
		source.Estimated = marks
	}
	return source, book, err
}

// marksOf reads which cells of a table are estimates; nil where none are.
func marksOf(f files.Store, t *records.Table) (*table.Marks, error) {
	if t.Marks == nil {
		return nil, nil
	}
	in, err := f.Open(*t.Marks)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return table.ReadMarks(in)
}

func openTable(ctx context.Context, f files.Store, t *records.Table, book *rulebook.Rulebook) (*intake.File, *rulebook.Rulebook, error) {
	open := files.At(f, t.Digest)
	if book != nil {
		if t.Origin != store.OriginDelivery {
			reading, err := OwnReading(t)
			if err != nil {
				return nil, nil, err
			}
			book = book.ForTable(reading)
		} else if columns, taken := takenColumns(t); taken {
			book = book.ForTyped(columns)
		}
		source, err := intake.Open(ctx, open, book.Reading)
		return source, book, err
	}
	fixed, err := ReadingOf(t)
	if err != nil {
		return nil, nil, err
	}
	d, err := detect.Detect(ctx, open, fixed)
	if err != nil {
		return nil, nil, err
	}
	return d.File, rulebook.Draft(t.Dataset, d, d.File.Columns()), nil
}

// takenColumns returns, of a delivery that was taken from a database, the columns that are text there.
func takenColumns(t *records.Table) (text []string, taken bool) {
	var source struct {
		Taken *engine.Taken `json:"taken"`
	}
	if json.Unmarshal(t.Source, &source) != nil || source.Taken == nil {
		return nil, false
	}
	for _, c := range source.Taken.Columns {
		if c.Text {
			text = append(text, c.Name)
		}
	}
	return text, true
}

// takenReading is what is known of how a delivery is read that was taken from a database; the rest is for its texts to tell.
var takenReading = intake.Reading{Format: intake.Delimited, Encoding: "utf-8", Delimiter: ",", Quote: `"`, HeaderLine: 1, DecimalMark: "."}

// ReadingOf returns what is known, without a rulebook, of how a table is read: what a person said of a delivery, and
// everything of the tables that we write.
func ReadingOf(t *records.Table) (fixed intake.Reading, err error) {
	if t.Origin != store.OriginDelivery {
		own, err := OwnReading(t)
		fixed = intake.Standard()
		fixed.Missing = own.Missing
		return fixed, err
	}
	if _, taken := takenColumns(t); taken {
		fixed = takenReading
	}
	if t.Reading != nil {
		err = json.Unmarshal(*t.Reading, &fixed)
	}
	return fixed, err
}

// OwnReading returns how the texts of a cleaned or merged table are read that are not in standard form.
func OwnReading(t *records.Table) (reading rulebook.TableReading, err error) {
	if t.Reading != nil {
		err = json.Unmarshal(*t.Reading, &reading)
	}
	return reading, err
}

// open opens a table of the job, with progress; passes is how often it will be read.
func (a *attempt) open(ctx context.Context, t *records.Table, book *rulebook.Rulebook,
	passes int64) (*intake.File, *rulebook.Rulebook, error) {
	source, book, err := OpenTable(ctx, a.files, t, book)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", t.FileName, err)
	}
	a.total.Store(t.Bytes * passes)
	last := int64(0)
	source.OnProgress = func(bytes, rows int64) {
		if bytes < last { // another pass began
			a.base.Add(last)
		}
		last = bytes
		a.progress(bytes, rows)
	}
	return source, book, nil
}

// openRuled is open with the tables of other datasets that the rulebook names.
func (a *attempt) openRuled(ctx context.Context, t *records.Table, book *rulebook.Rulebook,
	passes int64) (*intake.File, *rulebook.Rulebook, error) {
	source, book, err := a.open(ctx, t, book, passes)
	if err != nil {
		return nil, nil, err
	}
	return source, book, Beside(ctx, a.store, a.files, t, book, a.job.CreatedAt)
}

// rulebookOf reads the newest rulebook of a dataset; a dataset without one has nil.
func rulebookOf(ctx context.Context, q store.Querier, dataset int64, name string) (*rulebook.Rulebook, error) {
	d, err := store.NewestDeclaration(ctx, q, store.KindRulebook, dataset, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return rulebook.Parse([]byte(d.Source))
}

// keep keeps the table that was written, and opens what was kept. The caller discards the
// writer once the table is recorded.
func (a *attempt) keep(ctx context.Context, out *files.Writer) (digest string, bytes int64, written *intake.File,
	err error) {
	if digest, bytes, err = out.Keep(ctx); err != nil {
		return "", 0, nil, err
	}
	written, err = intake.Open(ctx, files.At(a.files, digest), intake.Standard())
	return digest, bytes, written, err
}

// aside is what belongs to a table that was made, where there is something of it, and the digest that it is recorded by.
type aside struct {
	there bool
	from  *files.Writer
	into  **string
}

// keepBeside keeps what there is.
func keepBeside(ctx context.Context, all []aside) error {
	for _, one := range all {
		if !one.there {
			continue
		}
		digest, _, err := one.from.Keep(ctx)
		if err != nil {
			return err
		}
		*one.into = &digest
	}
	return nil
}

// finishTable records the table that the job made and queues its audit.
func (a *attempt) finishTable(ctx context.Context, t store.NewTable, accounting any, reading rulebook.TableReading, action string) error {
	record, err := a.recordTable(ctx, t, accounting, reading, action)
	if err != nil {
		return err
	}
	return a.finish(ctx, record)
}

// recordTable returns what records, in a transaction, the table that the job made, and queues its audit.
func (a *attempt) recordTable(ctx context.Context, t store.NewTable, accounting any, reading rulebook.TableReading,
	action string) (func(tx *sqlx.Tx) (any, *int64, error), error) {
	raw, err := json.Marshal(accounting)
	if err != nil {
		return nil, err
	}
	t.Accounting, t.CreatedBy = raw, a.job.CreatedByID
	if !reading.IsStandard() {
		if t.Reading, err = json.Marshal(reading); err != nil {
			return nil, err
		}
	}
	return func(tx *sqlx.Tx) (any, *int64, error) {
		made, err := store.AddTable(ctx, tx, t)
		if err != nil {
			return nil, nil, err
		}
		if _, err := a.AddAudit(ctx, tx, made, a.job.CreatedByID); err != nil {
			return nil, nil, err
		}
		return nil, &made.ID, store.Record(ctx, tx, a.job.CreatedByID, action,
			fmt.Sprintf("table %d of %s", made.ID, made.Dataset), map[string]any{"sha256": made.Digest})
	}, nil
}
