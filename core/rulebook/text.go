package rulebook

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/intake"
	"proudsieve/core/table"
)

// Text is the text of a rulebook that is being written.
type Text struct{ strings.Builder }

// Line adds a line.
func (w *Text) Line(format string, args ...any) { fmt.Fprintf(&w.Builder, format+"\n", args...) }

// Reading adds what a reading says beyond the defaults.
func (w *Text) Reading(r intake.Reading) {
	w.Line("reading:")
	if r.Format != "" && r.Format != intake.Delimited {
		w.Line("  format: %s", r.Format)
	}
	for _, f := range []struct{ name, value string }{{"entry", r.Entry}, {"sheet", r.Sheet}, {"encoding", r.Encoding},
		{"delimiter", r.Delimiter}, {"quote", r.Quote}} {
		if f.value != "" {
			w.Line("  %s: %s", f.name, Quoted(f.value))
		}
	}
	w.Line("  header_line: %d", r.HeaderLine)
	switch {
	case len(r.Closing) > 0:
		w.Line("  closing_lines: [%s]   # records at the end that begin so are no rows", List(r.Closing))
	case r.ClosingLines > 0:
		w.Line("  closing_lines: %d   # records at the end that are no rows", r.ClosingLines)
	}
	if r.DecimalMark != "" {
		w.Line("  decimal_mark: %s", Quoted(r.DecimalMark))
	}
	if r.GroupingMark != "" {
		w.Line("  grouping_mark: %s", Quoted(r.GroupingMark))
	}
	if patterns := slices.Concat(r.Dates, r.DateTimes); len(patterns) > 0 {
		w.Line("  dates: [%s]", List(patterns))
	}
	if len(r.Missing) > 0 {
		w.Line("  missing: [%s]", List(r.Missing))
	}
}

// Quoted writes a text so that YAML reads it as the same text.
func Quoted(text string) string {
	plain := text != "" && !strings.ContainsFunc(text, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '_' || r >= '0' && r <= '9' || r == '-' ||
			r > 0x7f && r != 0xfeff && !table.IsSpace(r) && r != '\u2028' && r != '\u0085')
	}) && !slices.Contains([]string{"true", "false", "null", "yes", "no", "on", "off", "y", "n", "~"}, strings.ToLower(
		text)) && (text[0] < '0' || text[0] > '9') && text[0] != '-'
	if plain {
		return text
	}
	return strconv.Quote(text)
}

// List writes texts as what stands between the brackets of a list.
func List(texts []string) string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = Quoted(t)
	}
	return strings.Join(out, ", ")
}

// IDOf makes an id of a column's name.
func IDOf(name string) string {
	id := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToLower(name)), "_")
	if id == "" {
		id = "column"
	}
	return id[:min(len(id), 50)]
}
