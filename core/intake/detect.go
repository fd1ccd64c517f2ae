package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"proudsieve/core/table"
)

// Confidence is how sure a finding about a file is.
type Confidence string

// The confidences.
const (
	Certain   Confidence = "certain"   // the content allows nothing else
	Likely    Confidence = "likely"    // most of the content speaks for it
	Ambiguous Confidence = "ambiguous" // the content allows several; the one named is only a default
)

// Evidence is one finding about how a file is read, and what it rests on.
type Evidence struct {
	Aspect     string     `json:"aspect"` // format, encoding, line ends, delimiter, quote, header, blanks, closing lines, missing
	Found      string     `json:"found"`
	Because    string     `json:"because"`
	Confidence Confidence `json:"confidence"`
}

// Detection is how a file is probably read, with the evidence for it.
type Detection struct {
	Reading  Reading          `json:"reading"`
	Format   Format           `json:"format"`
	Packing  Packing          `json:"packing,omitempty"`
	Evidence []Evidence       `json:"evidence"`
	Columns  []ColumnEvidence `json:"columns"`
	Sample   *table.Batch     `json:"-"` // the first rows; nil where there are none
	fixed    Reading
}

func (d *Detection) add(aspect string, confidence Confidence, found, because string) {
	d.Evidence = append(d.Evidence, Evidence{aspect, found, because, confidence})
}

// Detect looks at the start of a file, and its end, and says how it is probably read.
// fixed holds what is known already: its fields that are set are kept.
func Detect(ctx context.Context, open Opener, fixed Reading) (*Detection, error) {
	found, err := look(ctx, ending(open), fixed)
	if err != nil {
		return nil, err
	}
	d := &Detection{fixed: fixed, Reading: fixed, Format: found.format, Packing: found.packing}
	d.formatEvidence(found)
	var records []sampled
	switch found.format {
	case Delimited:
		if records, err = d.delimited(ctx, found); err != nil {
			return nil, err
		}
	case Workbook:
		if records, err = d.workbook(ctx, open); err != nil {
			return nil, err
		}
	default:
		d.Reading.HeaderLine = NoHeader
	}
	if len(records) > 0 {
		d.header(records)
		d.closing(ctx, found, records)
	}
	d.Reading = d.Reading.WithDefaults()
	if d.Sample, err = Sample(ctx, open, d.Reading); err != nil {
		return nil, err
	}
	f, err := Open(ctx, open, d.Reading)
	if err != nil {
		return nil, err
	}
	if d.Sample != nil {
		d.values(f.Columns())
		d.blanks(f)
	}
	return d, nil
}

// blanks notes blank lines among the first rows, and columns in which those hold nothing.
func (d *Detection) blanks(f *File) {
	var found []string
	if lines := d.Sample.SetAside - f.skipped; lines > 0 {
		found = append(found, plural(int(lines), "blank line"))
	}
	var empty []string
	for _, c := range d.Columns {
		if c.Filled == 0 {
			empty = append(empty, c.Name)
		}
	}
	because := "blank lines are set aside"
	if len(empty) > 0 {
		found = append(found, plural(len(empty), "column")+" without any value")
		because = "nothing stands in " + strings.Join(empty[:min(len(empty), 8)], ", ")
	}
	if len(found) > 0 {
		d.add("blanks", Certain, strings.Join(found, ", "), fmt.Sprintf("of the first %d rows; %s", d.Sample.Len(), because))
	}
}

func (d *Detection) formatEvidence(c content) {
	names := map[Format]string{Delimited: "delimited text", JSONLines: "JSON Lines", JSONArray: "a JSON array of objects", Workbook: "a workbook (xlsx)", Parquet: "Parquet"}
	because := map[Format]string{Delimited: "it starts as none of the other formats does", JSONLines: "it starts with an object", JSONArray: "it starts with a bracket and an object",
		Workbook: "it is an archive with a workbook in it", Parquet: "it starts with the four bytes of the format"}[c.format]
	found := names[c.format]
	switch c.packing {
	case Gzip, Zstandard:
		found += ", packed with " + string(c.packing)
	case Zip:
		found += fmt.Sprintf(", the file %q of a zip", c.entry)
	}
	d.add("format", Certain, found, because)
}

// sampled is a record of the start of a file, with the line it stands on.
type sampled struct {
	line  int64
	cells []string
}

func (s sampled) filled() int {
	n := 0
	for _, c := range s.cells {
		if table.Trim(c) != "" {
			n++
		}
	}
	return n
}

// workbook lists the sheets and samples the one that is read.
func (d *Detection) workbook(ctx context.Context, open Opener) ([]sampled, error) {
	z, done, err := openZip(ctx, ending(open))
	if err != nil {
		return nil, err
	}
	b := &bookParts{zip: z, ctx: ctx}
	err = b.load()
	done()
	if err != nil {
		return nil, err
	}
	names := make([]string, len(b.sheets))
	for i, s := range b.sheets {
		names[i] = s.Name
		if d.Reading.Sheet == "" && s.State != "hidden" && s.State != "veryHidden" {
			d.Reading.Sheet = s.Name
		}
	}
	confidence := Certain
	if len(names) > 1 {
		confidence = Ambiguous
	}
	d.add("sheet", confidence, d.Reading.Sheet, fmt.Sprintf("the workbook has %s: %s", plural(len(names), "sheet"), strings.Join(names, ", ")))
	w := &workbook{open: ending(open), sheet: d.Reading.Sheet}
	var records []sampled
	enough := errors.New("enough")
	err = w.each(ctx, func(row int, cells []sheetCell) error {
		if one := (sampled{int64(row), texts(nil, cells)}); one.filled() > 0 {
			records = append(records, one)
		}
		if len(records) == sampledRecords {
			return enough
		}
		return nil
	}, func(int, int, int) {})
	if errors.Is(err, enough) {
		err = nil
	}
	return records, err
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// Sample returns the first rows of a file as one batch; nil where it has none.
func Sample(ctx context.Context, open Opener, r Reading) (*table.Batch, error) {
	f, err := Open(ctx, open, r)
	if err != nil {
		return nil, err
	}
	p, err := f.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	for {
		part, err := p.Next()
		if errors.Is(err, io.EOF) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		if _, rows := part.Span(); rows > 0 {
			return part.Batch(nil)
		}
	}
}
