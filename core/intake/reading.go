// Package intake turns the bytes of a delivery into batches of columns.
//
// A file's way in is told by its packages, in this order: content opens the bytes, once, and
// finds out how they are packed and of which format they are; the packages of the formats
// (json, workbook, parquet) turn what is no text into delimited text; detect works out the
// reading; Open, here, takes the header by it; and delimited hands out the rows.
//
// To add a format, see package content.
package intake

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/table"
)

// Reading is how bytes become rows. The zero value is completed by WithDefaults.
type Reading struct {
	Format string `json:"format,omitempty"` // empty: by the content
	// the file of an archive that is the table, where there are several
	Entry string `json:"entry,omitempty"`
	Sheet string `json:"sheet,omitempty"` // of a workbook; empty for the first one that is not hidden
	// Closing are texts with which records at the end begin that are no rows, as totals and notes. ClosingLines is how
	// many there are, as earlier versions declared them; a delivery without them loses rows.
	Closing      []string `json:"closing,omitzero"`
	ClosingLines int      `json:"closing_lines,omitempty"`
	Encoding     string   `json:"encoding"`  // one of Encodings
	Delimiter    string   `json:"delimiter"` // one byte
	Quote        string   `json:"quote"`     // one byte; "none" for files without quoting
	// the line with the column names, from 1; NoHeader where there is none
	HeaderLine   int    `json:"header_line"`
	DecimalMark  string `json:"decimal_mark"`            // "." or ","
	GroupingMark string `json:"grouping_mark,omitempty"` // one character between thousands
	// texts that stand for a missing value, beside the empty cell
	Missing []string `json:"missing"`
	// Dates are Unicode date patterns, with a time of day or without, tried in order. ISO 8601 is what is read where
	// none is given of either.
	Dates []string `json:"dates"`
	// DateTimes are more of them, as earlier versions wrote those with a time of day.
	DateTimes  []string `json:"datetimes,omitempty"`
	TrueWords  []string `json:"true_words,omitempty"`
	FalseWords []string `json:"false_words,omitempty"`
	// Renamed are columns by names that they had, which are read by the names that they have now where a file has only
	// the old one.
	Renamed map[string]string `json:"renamed,omitempty"`
}

// NoHeader as HeaderLine says that the first record is data.
const NoHeader = -1

// Encodings are the text encodings that can be declared.
var Encodings = []string{"utf-8", "utf-16le", "utf-16be", "windows-1252", "iso-8859-1", "iso-8859-15"}

var charmaps = map[string]*charmap.Charmap{
	"windows-1252": charmap.Windows1252,
	"iso-8859-1":   charmap.ISO8859_1,
	"iso-8859-15":  charmap.ISO8859_15,
}

// Standard is the reading of the tables we write: UTF-8, commas, ISO dates.
func Standard() Reading { return Reading{}.WithDefaults() }

// WithDefaults fills what is not set.
func (r Reading) WithDefaults() Reading {
	set := func(field *string, value string) {
		if *field == "" {
			*field = value
		}
	}
	set(&r.Encoding, "utf-8")
	set(&r.Delimiter, ",")
	set(&r.Quote, `"`)
	set(&r.DecimalMark, ".")
	if r.HeaderLine == 0 {
		r.HeaderLine = 1
	}
	if r.Dates == nil {
		r.Dates = []string{}
	}
	return r
}

// Check says what is wrong with the reading, one error per field.
func (r Reading) Check() []FieldError {
	var wrong []FieldError
	add := func(field, format string, args ...any) {
		wrong = append(wrong, FieldError{field, fmt.Sprintf(format, args...)})
	}
	if r.Format != "" && !slices.Contains(content.Formats(), r.Format) {
		add("format", "%q is not a format known here; use one of %s, or leave it out", r.Format,
			strings.Join(content.Formats(), ", "))
	}
	if r.ClosingLines < 0 || r.ClosingLines > 1000 {
		add("closing_lines", "%d is no number of lines from 0 to 1000", r.ClosingLines)
	}
	if !slices.Contains(Encodings, r.Encoding) {
		add("encoding", "%q is not an encoding known here; use one of %s", r.Encoding, strings.Join(Encodings, ", "))
	}
	for _, text := range r.Closing {
		if table.Level(text) == "" {
			add("closing_lines", "a text with which closing lines begin is not blank")
		}
	}
	if len(r.Delimiter) != 1 || r.Delimiter == "\n" || r.Delimiter == "\r" {
		add("delimiter", "%q is not one character; use for example \",\", \";\" or \"\\t\"", r.Delimiter)
	}
	if r.Quote != "none" && (len(r.Quote) != 1 || r.Quote == r.Delimiter) {
		add("quote", "%q must be one character other than the delimiter, or \"none\"", r.Quote)
	}
	if r.HeaderLine < NoHeader || r.HeaderLine == 0 || r.HeaderLine > 10_000 {
		add("header_line", "%d is no line: lines count from 1 (to 10000); use -1 where the file has no header",
			r.HeaderLine)
	}
	if r.DecimalMark != "." && r.DecimalMark != "," {
		add("decimal_mark", "%q is neither \".\" nor \",\"", r.DecimalMark)
	}
	if utf8.RuneCountInString(r.GroupingMark) > 1 || (r.GroupingMark != "" && r.GroupingMark == r.DecimalMark) {
		add("grouping_mark", "%q must be one character other than the decimal mark", r.GroupingMark)
	}
	for field, patterns := range map[string][]string{"dates": r.Dates, "datetimes": r.DateTimes} {
		for _, p := range patterns {
			if _, err := table.ParseDatePattern(p); err != nil {
				add(field, "%v", err)
			}
		}
	}
	return wrong
}

// FieldError is a field of a reading that cannot be used.
type FieldError struct{ Field, Message string }

// Error implements error.
func (e FieldError) Error() string { return e.Field + ": " + e.Message }

// Values returns how the reading's cells become values. The reading must have passed Check.
func (r Reading) Values() *table.Format {
	f := &table.Format{
		DecimalMark: r.DecimalMark[0],
		TrueWords:   r.TrueWords,
		FalseWords:  r.FalseWords,
	}
	for _, p := range table.MustDatePatterns(slices.Concat(r.Dates, r.DateTimes)...) {
		if p.Timed() {
			f.DateTimes = append(f.DateTimes, p)
		} else {
			f.Dates = append(f.Dates, p)
		}
	}
	if r.GroupingMark != "" {
		f.GroupingMark, _ = utf8.DecodeRuneInString(r.GroupingMark)
	}
	return f
}

// Errors that can be told apart with errors.Is.
var (
	ErrEmpty    = errors.New("the file is empty: it has not even a header line; ask its provider to send it again")
	ErrBinary   = errors.New("the file is not delimited text: it has NUL bytes near its start; save it as CSV, or declare encoding utf-16le or utf-16be if it is UTF-16")
	ErrNoHeader = errors.New("the file ends before the declared header line; check header_line in the reading")
	ErrTooLong  = delimited.ErrTooLong
	ErrTooMany  = delimited.ErrTooMany
)
