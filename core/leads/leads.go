// Package leads finds what looks suspicious in a table though no rule asked about it, one file for each kind of lead.
//
// A kind registers itself as the program starts (Register), as kinds of rules do. It looks at one of three things:
//
//   - a column (Kind.OfColumn): what is known of it once the table was read, with no more reading;
//   - the columns together (Kind.OfTable), likewise;
//   - the rows (Kind.OfRows), in a second reading (again.go): it suspects something by rows that were picked, and all
//     rows say whether it is so.
//
// To add a kind: write a file with its declaration and what finds it, and beside it a test of what it finds and of what
// it must not. Command line, console, report and the guide's list know it from then on.
package leads

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/guard"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Lead is something suspicious that no rule asked about.
type Lead struct {
	Column  string   `json:"column"`  // that it is told of; empty for the table as a whole
	Columns []string `json:"columns"` // all that it speaks of
	Kind    string   `json:"kind"`
	Says    string   `json:"says"`
	Rows    int64    `json:"rows"`
	// FirstRows are some of the rows; empty where a first reading does not tell them.
	FirstRows []uint32 `json:"first_rows"`
	// Texts are those that it speaks of, the most frequent first, where they are few.
	Texts []profile.Frequency `json:"texts,omitempty"`
	// Condition is true of all rows but those meant, by Tolerance where numbers are worked out; empty where none says it.
	Condition string `json:"condition,omitempty"`
	Tolerance string `json:"tolerance,omitempty"`
	// Sure is how sure it is that something is wrong, and Share how much of the table is concerned: of its rows, or of
	// the sum of a measure where that is more; both from 0 to 1. Leads are told by the product of both.
	Sure  float64 `json:"sure"`
	Share float64 `json:"share"`
}

// Weight is what leads are ordered by: what they may cost, and how sure they are.
func (l *Lead) Weight() float64 { return l.Sure * (0.02 + l.Share) }

// Kind is a kind of lead.
type Kind struct {
	Name      string
	Finds     string // for the guide: what it finds
	Threshold string // for the guide: from when on
	// Like says how several leads of the kind are told together, of so many columns.
	Like string

	OfColumn func(t *Table, c *Column) []Lead
	OfTable  func(t *Table) []Lead
	OfRows   func(s *Sample) []Suspicion
}

// Table is what is known of a table once it was read.
type Table struct {
	Rows    int64
	Columns []Column
	// Closing are the records at its end that were set aside.
	Closing []string
	// AsksEqualRows says that a rule asks for them.
	AsksEqualRows bool
	// Past are earlier deliveries of the dataset, the last one first.
	Past []rulebook.Past
}

// Column is what is known of a column.
type Column struct {
	Name     string
	Type     table.Type
	Declared bool
	// Asked says that a rule asks for its type, its codes, or that it is filled, so that what breaks it is a finding.
	Asked Asked
	Cells *rulebook.Cells
	*profile.Column
	Looks Looks
	// Estimated says that some of its cells are marked as estimates.
	Estimated bool
	Gaps      []uint32 // rows that lack a value, by equal parts of the table
}

// Asked is what rules ask of a column already.
type Asked struct{ Filled, Codes, Range, Key bool }

// Looks is what the texts of a column look like that nobody declared.
type Looks struct {
	Padded int64 // numbers with zeros before them
	// Orders are the patterns that fit its dates, with the cells that fit no other one of them, where these are mixed;
	// Either are the cells that fit several.
	Orders []profile.Frequency
	Either int64
	// Undecided says that nothing decides between Orders.
	Undecided bool
}

var kinds []*Kind

// Register adds a kind.
func Register(k Kind) {
	kinds = append(kinds, &k)
	slices.SortFunc(kinds, func(a, b *Kind) int { return cmp.Compare(a.Name, b.Name) })
}

// Names lists the kinds.
func Names() []string {
	names := make([]string, len(kinds))
	for i, k := range kinds {
		names[i] = k.Name
	}
	return names
}

// Find looks at what is known of a table once it was read. Kinds know nothing of one another, so each looks on its own.
func Find(t *Table) []Lead {
	found := make([][]Lead, len(kinds))
	var group guard.Group
	for i, k := range kinds {
		group.Go(func() error {
			found[i] = k.find(t)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		panic(err) // which whoever asks is guarded against
	}
	return append([]Lead{}, slices.Concat(found...)...)
}

func (k *Kind) find(t *Table) (out []Lead) {
	add := func(c *Column, found []Lead) {
		for _, l := range found {
			out = append(out, l.of(k, c, t.Rows))
		}
	}
	if k.OfTable != nil {
		add(nil, k.OfTable(t))
	}
	for i := range t.Columns {
		if k.OfColumn != nil && t.Columns[i].Column != nil {
			add(&t.Columns[i], k.OfColumn(t, &t.Columns[i]))
		}
	}
	return out
}

// of fills in what a lead has of its kind and its column.
func (l Lead) of(k *Kind, c *Column, rows int64) Lead {
	l.Kind = k.Name
	if c != nil && l.Column == "" {
		l.Column = c.Name
	}
	if len(l.Columns) == 0 && l.Column != "" {
		l.Columns = []string{l.Column}
	}
	if l.Columns == nil {
		l.Columns = []string{}
	}
	if l.FirstRows == nil {
		l.FirstRows = []uint32{}
	}
	if rows > 0 {
		l.Share = min(max(l.Share, float64(l.Rows)/float64(rows)), 1)
	}
	return l
}

// Order sorts leads, those that may cost most first.
func Order(all []Lead) {
	slices.SortStableFunc(all, func(a, b Lead) int {
		return cmp.Or(cmp.Compare(b.Weight(), a.Weight()), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Column, b.Column))
	})
}

// Settled leaves out what another lead tells better: numbers far away that are a digit or point that slipped, zeros or
// placeholders; ratios in rows that another lead names for one of the two columns; gaps that begin at a row.
func Settled(all []Lead) []Lead {
	told := slices.Clone(all)
	return slices.DeleteFunc(all, func(l Lead) bool {
		return slices.ContainsFunc(told, func(o Lead) bool {
			switch l.Kind {
			case "outliers":
				return o.Column == l.Column && (o.Kind == "shifted_point" && o.Rows >= l.Rows ||
					(o.Kind == "zero" || o.Kind == "placeholder") && o.speaksOf(l.Texts))
			case "uneven_gaps":
				return o.Kind == "changes_down" && o.Column == l.Column
			case "ratio":
				return o.Kind != l.Kind && o.namesRowsOf(&l)
			}
			return false
		})
	})
}

// namesRowsOf reports whether a lead of one of the columns of another names all rows that are known of that one.
func (l *Lead) namesRowsOf(other *Lead) bool {
	return slices.ContainsFunc(l.Columns, func(c string) bool { return slices.Contains(other.Columns, c) }) &&
		!slices.ContainsFunc(other.FirstRows, func(row uint32) bool { return !slices.Contains(l.FirstRows, row) })
}

// speaksOf reports whether a lead speaks of numbers that are all of some, however they are written.
func (l *Lead) speaksOf(numbers []profile.Frequency) bool {
	return !slices.ContainsFunc(numbers, func(n profile.Frequency) bool {
		return !slices.ContainsFunc(l.Texts, func(t profile.Frequency) bool {
			a, ok := table.ParseDecimal(t.Text)
			b, also := table.ParseDecimal(n.Text)
			return ok && also && a.Cmp(b) == 0
		})
	})
}

// Gathered are leads of one kind, to be told together.
type Gathered struct {
	Kind string
	// Says tells the first of them, or all of them where they are alike and more than a few.
	Says  []string
	Leads []Lead
}

// gatheredFrom is how many leads of one kind are told in one sentence.
const gatheredFrom = 3

// Gather puts like with like, in the order of the first of each kind.
func Gather(ordered []Lead) []Gathered {
	var out []Gathered
	for _, l := range ordered {
		at := slices.IndexFunc(out, func(g Gathered) bool { return g.Kind == l.Kind })
		if at < 0 {
			at = len(out)
			out = append(out, Gathered{Kind: l.Kind})
		}
		out[at].Leads = append(out[at].Leads, l)
	}
	for i := range out {
		g := &out[i]
		at := slices.IndexFunc(kinds, func(k *Kind) bool { return k.Name == g.Kind })
		if len(g.Leads) >= gatheredFrom && at >= 0 && kinds[at].Like != "" {
			columns := make([]string, len(g.Leads))
			for c, l := range g.Leads {
				columns[c] = l.Column
			}
			g.Says = []string{fmt.Sprintf(kinds[at].Like, len(columns), document.First(columns))}
			continue
		}
		for _, l := range g.Leads {
			g.Says = append(g.Says, l.Says)
		}
	}
	return out
}

// Guide lists every kind with what it finds, as a table in Markdown.
func Guide() string {
	var b strings.Builder
	b.WriteString("| lead | what it finds | from when on | by |\n|---|---|---|---|\n")
	for _, k := range kinds {
		reading := "the first reading"
		if k.OfRows != nil {
			reading = "the second reading"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", k.Name, k.Finds, k.Threshold, reading)
	}
	return b.String()
}

// quoted writes texts with their rows, the first few of them.
func quoted(texts []profile.Frequency) string {
	const most = 4
	var out []string
	for _, t := range texts[:min(len(texts), most)] {
		out = append(out, fmt.Sprintf("%q (%s)", t.Text, document.Grouped(t.Rows)))
	}
	if more := len(texts) - most; more > 0 {
		return strings.Join(out, ", ") + fmt.Sprintf(" and %s more", document.Grouped(int64(more)))
	}
	return document.Join(out)
}

func total(texts []profile.Frequency) (rows int64) {
	for _, t := range texts {
		rows += t.Rows
	}
	return rows
}

func byRows(texts []profile.Frequency) []profile.Frequency {
	slices.SortFunc(texts, func(a, b profile.Frequency) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Text, b.Text))
	})
	return texts
}

// seen lists the texts of a column that are known with their rows: all of them where these are few, the most and the
// least frequent ones and the exceptions to the type elsewhere.
func (c *Column) seen() []profile.Frequency {
	if all, ok := c.All(); ok {
		return all
	}
	known := map[string]bool{}
	var out []profile.Frequency
	far := []profile.Frequency{}
	if c.Numbers != nil && c.Numbers.Outliers.Far != nil {
		far = c.Numbers.Outliers.Far.Texts
	}
	for _, some := range [][]profile.Frequency{c.Frequent, c.Rare, c.Exceptions, far} {
		for _, t := range some {
			if !known[t.Text] {
				known[t.Text] = true
				out = append(out, t)
			}
		}
	}
	return out
}
