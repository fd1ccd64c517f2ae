package rulebook

import (
	"maps"
	"slices"

	"proudsieve/core/intake"
	"proudsieve/core/table"
)

// Written is how the values of a column are written in a table of ours, where that is not the standard form.
type Written struct {
	Dates        []string `json:"dates,omitempty"`
	DecimalMark  string   `json:"decimal_mark,omitempty"`
	GroupingMark string   `json:"grouping_mark,omitempty"`
	With         []string `json:"written_with,omitempty"`
	Brackets     bool     `json:"brackets_negative,omitempty"`
	TrueWords    []string `json:"true_words,omitempty"`
	FalseWords   []string `json:"false_words,omitempty"`
}

func (w Written) isStandard() bool {
	return len(w.Dates)+len(w.With)+len(w.TrueWords)+len(w.FalseWords) == 0 && (w.DecimalMark == "" || w.DecimalMark == ".") &&
		w.GroupingMark == "" && !w.Brackets
}

func (w Written) equal(o Written) bool {
	return slices.Equal(w.Dates, o.Dates) && w.DecimalMark == o.DecimalMark && w.GroupingMark == o.GroupingMark &&
		slices.Equal(w.With, o.With) && w.Brackets == o.Brackets && slices.Equal(w.TrueWords, o.TrueWords) &&
		slices.Equal(w.FalseWords, o.FalseWords)
}

// TableReading is how the texts of a table of ours are read that a fix plan did not put in standard form: as those of the
// delivery that it was made of. It belongs to the table and stays as it is when a rulebook changes.
type TableReading struct {
	// Missing are the texts that stand for a missing value, beside the empty cell.
	Missing []string `json:"missing,omitempty"`
	// Columns are those that are not written in standard form.
	Columns map[string]Written `json:"columns,omitempty"`
}

// IsStandard reports whether the whole table is in standard form.
func (r TableReading) IsStandard() bool { return len(r.Missing) == 0 && len(r.Columns) == 0 }

// written returns how a column is declared to be written, by itself or by the reading.
func (b *Rulebook) written(c *Column) Written {
	r := b.Reading
	w := Written{DecimalMark: r.DecimalMark, GroupingMark: r.GroupingMark, TrueWords: r.TrueWords, FalseWords: r.FalseWords}
	if c == nil {
		return w
	}
	if c.DecimalMark != "" {
		w.DecimalMark, w.GroupingMark = c.DecimalMark, c.GroupingMark
	}
	w.With, w.Brackets = c.WrittenWith, c.Brackets
	if len(c.TrueWords) > 0 {
		w.TrueWords, w.FalseWords = c.TrueWords, c.FalseWords
	}
	if w.Dates = c.Dates; len(w.Dates) > 0 || c.Type != table.TypeDate && c.Type != table.TypeDateTime {
		return w
	}
	for _, p := range table.MustDatePatterns(slices.Concat(r.Dates, r.DateTimes)...) {
		if p.Timed() == (c.Type == table.TypeDateTime) {
			w.Dates = append(w.Dates, p.String())
		}
	}
	return w
}

// ForTable returns the rulebook as it applies to a table of ours: UTF-8, commas and a header, and its columns written as
// the reading that belongs to the table says; those that it does not name are in standard form.
func (b *Rulebook) ForTable(reading TableReading) *Rulebook {
	copied := *b
	copied.Reading = intake.Standard()
	copied.Reading.Missing = reading.Missing
	copied.Reading.Renamed = b.Reading.Renamed // the table may be older than a column's name
	copied.Columns = slices.Clone(b.Columns)
	for i := range copied.Columns {
		c := &copied.Columns[i]
		w := reading.Columns[c.Name]
		c.Dates, c.DecimalMark, c.GroupingMark = w.Dates, w.DecimalMark, w.GroupingMark
		c.WrittenWith, c.Brackets, c.TrueWords, c.FalseWords = w.With, w.Brackets, w.TrueWords, w.FalseWords
	}
	return &copied
}

// ForTyped returns the rulebook as it applies to a table that was taken from where columns have types: in our layout, with numbers,
// dates and truth values in standard form. What stands there as text is written as the rulebook says; text names those columns,
// as they are called there.
func (b *Rulebook) ForTyped(text []string) *Rulebook {
	copied := *b
	copied.Reading = intake.Standard()
	copied.Reading.Format = intake.Delimited // whatever its first bytes look like
	copied.Reading.Missing, copied.Reading.Renamed = b.Reading.Missing, b.Reading.Renamed
	written := map[string]bool{}
	for _, name := range text {
		written[name] = true
		if now, renamed := b.Reading.Renamed[name]; renamed {
			written[now] = true
		}
	}
	copied.Columns = slices.Clone(b.Columns)
	for i := range copied.Columns {
		c := &copied.Columns[i]
		w := Written{}
		if written[c.Name] {
			w = b.written(c)
		}
		c.Dates, c.DecimalMark, c.GroupingMark = w.Dates, w.DecimalMark, w.GroupingMark
		c.WrittenWith, c.Brackets, c.TrueWords, c.FalseWords = w.With, w.Brackets, w.TrueWords, w.FalseWords
	}
	return &copied
}

// ReadingOf returns how a table of ours with these columns is read; cells are those of each, as they are written.
func ReadingOf(names []string, cells []*Cells) (out TableReading) {
	marks := map[string]bool{}
	for c, name := range names {
		if written, other := cells[c].Written(); other {
			if out.Columns == nil {
				out.Columns = map[string]Written{}
			}
			out.Columns[name] = written
		}
		for _, mark := range cells[c].Marks() {
			marks[mark] = true
		}
	}
	out.Missing = slices.Sorted(maps.Keys(marks))
	return out
}

// TableReading returns how a table with these columns is read that nothing was done to.
func (b *Rulebook) TableReading(names []string) TableReading {
	cells := make([]*Cells, len(names))
	for c, name := range names {
		cells[c] = b.Cells(name)
	}
	return ReadingOf(names, cells)
}
