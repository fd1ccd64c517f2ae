package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// ReadingWish is what a person says of how a file is read; what is left out is found out.
type ReadingWish struct {
	Encoding     string    `json:"encoding,omitempty" enum:"utf-8,utf-16le,utf-16be,windows-1252,iso-8859-1,iso-8859-15"`
	Delimiter    string    `json:"delimiter,omitempty" maxLength:"1"`
	Quote        string    `json:"quote,omitempty" maxLength:"4" doc:"One character, or none"`
	HeaderLine   int       `json:"header_line,omitempty" minimum:"-1" maximum:"10000" doc:"The line with the column names; -1 where there is none"`
	DecimalMark  string    `json:"decimal_mark,omitempty" pattern:"^[.,]$"`
	GroupingMark string    `json:"grouping_mark,omitempty" maxLength:"4" doc:"One character between thousands"`
	Missing      []string  `json:"missing,omitempty" maxItems:"50" doc:"Texts that stand for a missing value, beside the empty cell"`
	Dates        []string  `json:"dates,omitempty" maxItems:"20" doc:"Unicode date patterns"`
	Closing      *[]string `json:"closing,omitempty" doc:"Texts with which records at the end begin that are no rows; an empty list where all are"`
	Sheet        string    `json:"sheet,omitempty" maxLength:"200"`
	Entry        string    `json:"entry,omitempty" maxLength:"1000" doc:"The file of an archive that is the table"`
}

// reading returns the wish as what is known of a reading.
func (w *ReadingWish) reading() (intake.Reading, error) {
	if w == nil {
		return intake.Reading{}, nil
	}
	r := intake.Reading{Encoding: w.Encoding, Delimiter: w.Delimiter, Quote: w.Quote, HeaderLine: w.HeaderLine,
		DecimalMark: w.DecimalMark, GroupingMark: w.GroupingMark, Missing: w.Missing, Dates: w.Dates, Sheet: w.Sheet, Entry: w.Entry}
	if w.Closing != nil {
		r.Closing = append([]string{}, *w.Closing...)
	}
	var details []error
	for _, wrong := range r.WithDefaults().Check() {
		details = append(details, &huma.ErrorDetail{Message: wrong.Message, Location: "body.reading." + wrong.Field})
	}
	if len(details) > 0 {
		return r, huma.NewError(http.StatusUnprocessableEntity, "The file cannot be read in this way.", details...)
	}
	return r, nil
}

// stored is the wish as a record keeps it; nil where nothing was said.
func stored(r intake.Reading) (json.RawMessage, error) {
	if reflect.DeepEqual(r, intake.Reading{}) {
		return nil, nil
	}
	return json.Marshal(r)
}

// LookedAt is a file as it is read: how, and why, and its first rows.
type LookedAt struct {
	Arrival  records.Arrival   `json:"arrival"`
	Format   string            `json:"format" doc:"delimited, json_lines, json_array, json_object, xlsx or parquet"`
	Reading  intake.Reading    `json:"reading" doc:"How it is read"`
	Rulebook int               `json:"rulebook,omitempty" doc:"The version of the rulebook that says how it is read"`
	Evidence []detect.Evidence `json:"evidence" doc:"What of this was found out, and what it rests on"`
	Columns  []LookedColumn    `json:"columns"`
	Rows     []LookedRow       `json:"rows" doc:"The first ones"`
	SetAside int64             `json:"set_aside" doc:"Lines above the header and among the first rows that are no rows"`
	Defects  []table.Defect    `json:"defects" doc:"What is wrong with the bytes of the first rows"`
	Fits     []Fitting         `json:"fits" doc:"Datasets whose newest delivery has such columns, those that fit best first"`
	Name     string            `json:"name" doc:"What a dataset of it could be called"`
}

// LookedColumn is a column as its first rows suggest.
type LookedColumn struct {
	Name string `json:"name"`
	Type string `json:"type"`
}

// LookedRow is a row of a file, with the line on which it starts.
type LookedRow struct {
	Line  int64    `json:"line"`
	Cells []string `json:"cells"`
}

// Fitting is a dataset that a file may be a delivery of.
type Fitting struct {
	Dataset string `json:"dataset"`
	Title   string `json:"title"`
	Same    int    `json:"same" doc:"Columns that both have"`
	Columns int    `json:"columns" doc:"Columns of the dataset's newest delivery"`
	Ruled   bool   `json:"ruled" doc:"It has a rulebook, whose reading counts"`
}

// arrivals adds what looks at a file before it becomes a delivery. The upload streams and so is a plain handler.
func (s *Server) arrivals(r chi.Router) {
	r.Post("/arrivals", s.upload("Send a file", s.arrive))
	schema := s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[records.Arrival](), true, "Arrival")
	s.api.OpenAPI().AddOperation(&huma.Operation{
		OperationID: "add-arrival", Method: http.MethodPost, Path: "/arrivals",
		Summary:    "Send a file to be looked at before it becomes a delivery: the body is the file as it is. It is kept for a day",
		Parameters: []*huma.Param{{Name: "file_name", In: "query", Description: "The file's name", Schema: &huma.Schema{Type: "string"}}},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}},
		Responses: map[string]*huma.Response{"201": {Description: "Kept",
			Content: map[string]*huma.MediaType{"application/json": {Schema: schema}}}},
	})
	type looking struct {
		ByID
		Body struct {
			Reading *ReadingWish `json:"reading,omitempty"`
			Dataset string       `json:"dataset,omitempty" maxLength:"60" doc:"What it is to be a delivery of; the reading of its rulebook counts where it has one"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "look-at-arrival", Method: http.MethodPost, Path: "/arrivals/{id}/reading",
		Summary: "How a file that was sent is read, and why, with its first rows; nothing is recorded",
	}, func(ctx context.Context, in *looking) (*body[LookedAt], error) {
		fixed, err := in.Body.Reading.reading()
		if err != nil {
			return nil, err
		}
		a, err := s.ownArrival(ctx, in.ID, in.Body.Dataset)
		if err != nil {
			return nil, err
		}
		book, err := s.bookOf(ctx, in.Body.Dataset)
		if err != nil {
			return nil, err
		}
		return answer(s.lookAt(ctx, a, fixed, book))
	})
	type becoming struct {
		ByID
		Body struct {
			Dataset string              `json:"dataset" pattern:"^[a-z][a-z0-9_]{0,59}$" patternDescription:"lower-case letters, digits and underscores, a letter first"`
			Title   string              `json:"title,omitempty" maxLength:"200" doc:"Of a new dataset"`
			Reading *ReadingWish        `json:"reading,omitempty" doc:"What a person says of how it is read; not where the dataset has a rulebook"`
			Source  records.SourceNotes `json:"source,omitempty"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "deliver-arrival", Method: http.MethodPost, Path: "/arrivals/{id}/delivery",
		Summary: "Make a file that was sent a delivery of a dataset, which is added where it is new; its audit is queued",
	}, func(ctx context.Context, in *becoming) (*body[records.Delivered], error) {
		fixed, err := in.Body.Reading.reading()
		if err != nil {
			return nil, err
		}
		a, err := s.ownArrival(ctx, in.ID, in.Body.Dataset)
		if err != nil {
			return nil, err
		}
		t := store.NewTable{Origin: store.OriginDelivery, Digest: a.Digest, Bytes: a.Bytes, FileName: a.FileName, CreatedBy: caller(ctx).ID}
		if t.Source, err = json.Marshal(in.Body.Source); err != nil {
			return nil, err
		}
		if t.Reading, err = stored(fixed); err != nil {
			return nil, err
		}
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			if err := store.RenewArrival(ctx, tx, a.ID); err != nil {
				return err
			}
			d, err := store.FindDataset(ctx, tx, in.Body.Dataset)
			if errors.Is(err, store.ErrNotFound) {
				if d, err = store.EnsureDataset(ctx, tx, in.Body.Dataset, in.Body.Title); err == nil {
					err = store.Record(ctx, tx, caller(ctx).ID, "added a dataset", d.Name, nil)
				}
			}
			if err != nil {
				return err
			}
			t.DatasetID = d.ID
			_, err = store.NewestDeclaration(ctx, tx, store.KindRulebook, d.ID, d.Name)
			switch {
			case errors.Is(err, store.ErrNotFound):
				return nil
			case err == nil && t.Reading != nil:
				return invalid("The rulebook of %s declares how its deliveries are read. Take the file in as it is, and change the reading in the rulebook.", d.Name)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
		return answer(s.delivered(ctx, t, in.Body.Dataset))
	})
}

// ownArrival finds a file that was sent. Somebody who is confined to datasets finds their own alone, and makes them deliveries of
// datasets that they work on.
func (s *Server) ownArrival(ctx context.Context, id int64, dataset string) (*records.Arrival, error) {
	a, err := store.FindArrival(ctx, s.Store.DB, id)
	c := caller(ctx)
	switch {
	case err != nil:
		return nil, err
	case !c.Confined:
		return a, nil
	case a.CreatedBy != c.Name:
		return nil, errNothingThere
	case dataset == "":
		return a, nil
	}
	return a, s.mayName(ctx, access.Work, dataset, nil, nil)
}

func (s *Server) arrive(w http.ResponseWriter, r *http.Request, who *store.Caller) (any, error) {
	kept, err := s.receive(w, r)
	if err != nil {
		return nil, err
	}
	defer kept.Close()
	return store.AddArrival(r.Context(), s.Store.DB, kept.Digest, kept.Bytes, fileName(r, "file.csv"), who.ID)
}

const (
	// lookedRows is how many rows are shown of a file that is looked at, and lookedCell how much of a cell.
	lookedRows = 60
	lookedCell = 200
	// fittingMost is how many datasets are offered that a file may be a delivery of.
	fittingMost = 5
)

// bookOf returns the newest rulebook of a dataset with its version; nil where there is none.
func (s *Server) bookOf(ctx context.Context, dataset string) (*versionedBook, error) {
	if dataset == "" {
		return nil, nil
	}
	d, err := s.declaration(ctx, store.KindRulebook, dataset, dataset, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	book, err := rulebook.Parse([]byte(d.Source))
	if err != nil {
		return nil, err
	}
	return &versionedBook{book, d.Version}, nil
}

type versionedBook struct {
	*rulebook.Rulebook
	version int
}

// lookAt reads the first rows of a file: by a rulebook where there is one, and otherwise by what is said and found out.
func (s *Server) lookAt(ctx context.Context, a *records.Arrival, fixed intake.Reading, book *versionedBook) (*LookedAt, error) {
	out := &LookedAt{Arrival: *a, Name: nameFor(a.FileName)}
	d, err := detect.Detect(ctx, files.At(s.Files, a.Digest), fixed)
	if err != nil && book == nil {
		return nil, invalid("%s cannot be read in this way: %s", a.FileName, err)
	}
	var rows *table.Batch
	var names []string
	if err == nil {
		defer d.File.Close()
		names, rows = d.File.Columns(), d.Sample
		out.Format, out.Reading, out.Evidence = d.Format, d.Reading, d.Evidence
	}
	var columns *rulebook.Rulebook
	if book != nil {
		file, err := intake.Open(ctx, files.At(s.Files, a.Digest), book.Reading)
		if err == nil {
			defer file.Close()
			names = file.Columns()
			rows, _, err = detect.Sample(ctx, file)
		}
		if err != nil {
			return nil, invalid("%s cannot be read as the rulebook of %s says: %s", a.FileName, book.Dataset, err)
		}
		out.Rulebook, out.Reading = book.version, book.Reading
		var seen []detect.ColumnEvidence
		if rows != nil {
			seen = detect.Columns(names, rows)
		}
		columns = book.WithOpen(names, seen, rows)
	} else {
		columns = rulebook.Draft("file", d, names)
	}
	for _, name := range names {
		one := LookedColumn{Name: name}
		if c := columns.Column(name); c != nil {
			one.Type = string(c.Type)
		}
		out.Columns = append(out.Columns, one)
	}
	if rows != nil {
		out.SetAside, out.Defects = rows.SetAside, rows.Defects
		for i := range min(rows.Len(), lookedRows) {
			row := LookedRow{Line: rows.Lines[i], Cells: make([]string, len(rows.Columns))}
			for c := range rows.Columns {
				row.Cells[c] = clipped(rows.Columns[c].At(i))
			}
			for _, surplus := range rows.Surplus[i] {
				row.Cells = append(row.Cells, clipped(surplus))
			}
			out.Rows = append(out.Rows, row)
		}
	}
	out.Fits, err = s.fitting(ctx, names)
	return out, err
}

func clipped(text string) string {
	if len(text) <= lookedCell {
		return text
	}
	return strings.ToValidUTF8(text[:lookedCell], "") + "…"
}

// nameFor makes a name for a dataset of that of a file: what varies from delivery to delivery, as dates, is left out.
func nameFor(file string) string {
	name, _, _ := strings.Cut(filepath.Base(file), ".")
	var words []string
	for _, word := range strings.FieldsFunc(name, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		words = append(words, strings.Map(func(r rune) rune {
			if r < utf8.RuneSelf {
				return r
			}
			return -1
		}, table.Fold(word)))
	}
	words = slices.DeleteFunc(words, func(w string) bool { return strings.Trim(w, "0123456789") == "" })
	name = strings.TrimLeft(strings.Join(words, "_"), "0123456789_")
	return cmp.Or(name[:min(len(name), 60)], "my_dataset")
}

// fitting finds the datasets whose newest audit has columns of these names, at least half of them.
func (s *Server) fitting(ctx context.Context, names []string) (fits []Fitting, err error) {
	all, err := store.ColumnsOfDatasets(seen(ctx), s.Store.DB, proposedBeside)
	if err != nil {
		return nil, err
	}
	for _, d := range all {
		var columns []string
		if err := json.Unmarshal(d.Names, &columns); err != nil {
			return nil, fmt.Errorf("the columns of %s: %w", d.Dataset, err)
		}
		one := Fitting{Dataset: d.Dataset, Title: d.Title, Columns: len(columns), Ruled: d.Ruled}
		for _, c := range columns {
			if slices.Contains(names, c) {
				one.Same++
			}
		}
		if one.Same*2 >= max(one.Columns, len(names)) {
			fits = append(fits, one)
		}
	}
	slices.SortStableFunc(fits, func(a, b Fitting) int { return cmp.Compare(b.Same, a.Same) })
	return fits[:min(len(fits), fittingMost)], nil
}
