package detect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
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
	// format, encoding, line ends, delimiter, quote, header, blanks, closing lines, missing
	Aspect     string     `json:"aspect"`
	Found      string     `json:"found"`
	Because    string     `json:"because"`
	Confidence Confidence `json:"confidence"`
}

// Detection is how a file is probably read, with the evidence for it.
type Detection struct {
	Reading  intake.Reading   `json:"reading"`
	Format   string           `json:"format"`
	Packing  content.Packing  `json:"packing,omitempty"`
	Evidence []Evidence       `json:"evidence"`
	Columns  []ColumnEvidence `json:"columns"`
	Sample   *table.Batch     `json:"-"` // the first rows; nil where there are none
	whole    bool             // they are all of them
	// File is the file by this reading, whose bytes were opened for the detection.
	File   *intake.File `json:"-"`
	opened *intake.Opened
	fixed  intake.Reading
}

func (d *Detection) add(aspect string, confidence Confidence, found, because string) {
	d.Evidence = append(d.Evidence, Evidence{aspect, found, because, confidence})
}

// Detect looks at the start of a file, and its end, and says how it is probably read.
// fixed holds what is known already: its fields that are set are kept. The file is opened for
// it, and File goes on with what was opened.
func Detect(ctx context.Context, open content.Opener, fixed intake.Reading) (*Detection, error) {
	o, err := intake.Begin(ctx, open, fixed)
	if err != nil {
		return nil, err
	}
	d := &Detection{opened: o, fixed: fixed, Reading: fixed, Format: o.Format.Name, Packing: o.Packing}
	if err := d.look(ctx); err != nil {
		return nil, errors.Join(err, o.Close())
	}
	return d, nil
}

// look works the reading out, from the way the text is divided to the values of its cells.
func (d *Detection) look(ctx context.Context) (err error) {
	d.formatEvidence()
	var records []delimited.Record
	switch {
	case !d.opened.Converted():
		records = d.delimited()
	case len(d.opened.Parts) > 0:
		if records = d.part(); !d.opened.NamedByRecord() {
			records, d.Reading.HeaderLine = nil, intake.NoHeader
		}
	default:
		d.Reading.HeaderLine = intake.NoHeader
	}
	if len(records) > 0 {
		d.header(records)
		d.closing(records)
	}
	d.Reading = d.Reading.WithDefaults()
	if d.File, err = d.opened.File(ctx, d.Reading); err != nil {
		return err
	}
	if d.Sample, d.whole, err = Sample(ctx, d.File); err != nil || d.Sample == nil {
		return err
	}
	d.values(d.File.Columns())
	d.blanks()
	return nil
}

// blanks notes blank lines among the first rows, and columns in which those hold nothing.
func (d *Detection) blanks() {
	var found []string
	if lines := d.Sample.SetAside - d.File.Skipped - int64(len(d.Sample.Closing)); lines > 0 {
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
		d.add("blanks", Certain, strings.Join(found, ", "), fmt.Sprintf("of the first %d rows; %s", d.Sample.Len(),
			because))
	}
}

func (d *Detection) formatEvidence() {
	found := d.opened.Format.Title
	switch d.Packing {
	case content.Gzip, content.Zstandard:
		found += ", packed with " + string(d.Packing)
	case content.Zip:
		found += fmt.Sprintf(", the file %q of a zip", d.opened.Entry)
	}
	d.add("format", Certain, found, d.opened.Format.Because)
}

// filled counts the cells of a record that hold something.
func filled(r delimited.Record) int {
	n := 0
	for _, c := range r.Cells {
		if table.Trim(c) != "" {
			n++
		}
	}
	return n
}

// part tells of the parts of a file, as the sheets of a workbook, and samples the one that is read.
func (d *Detection) part() []delimited.Record {
	d.Reading.Sheet = d.opened.Part
	confidence, parts := Certain, d.opened.Parts
	if len(parts) > 1 {
		confidence = Ambiguous
	}
	says := fmt.Sprintf("the workbook has %s: %s", plural(len(parts), "sheet"), strings.Join(parts, ", "))
	if !d.opened.NamedByRecord() {
		says = "it is one record, over several lines"
		if len(parts) > 1 {
			says = "records stand under a name; what could be read is " + strings.Join(parts, ", ")
		}
		if len(parts) == 2 {
			confidence = Likely
		}
	}
	d.add("sheet", confidence, d.Reading.Sheet, says)
	t := delimited.Text{Layout: delimited.Standard, Converted: true}
	return slices.DeleteFunc(t.Records(d.opened.Text, sampledRecords),
		func(r delimited.Record) bool { return filled(r) == 0 })
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// Sample returns the first rows of a table as one batch, nil where it has none, and whether they are all of it.
func Sample(ctx context.Context, f table.Source) (rows *table.Batch, whole bool, err error) {
	p, err := f.Open(ctx)
	if err != nil {
		return nil, false, err
	}
	defer p.Close()
	for {
		part, err := p.Next()
		if errors.Is(err, io.EOF) {
			return rows, true, nil
		}
		if err != nil || rows != nil {
			return rows, false, err
		}
		if _, n := part.Span(); n > 0 {
			if rows, err = part.Batch(nil); err != nil {
				return nil, false, err
			}
		}
	}
}
