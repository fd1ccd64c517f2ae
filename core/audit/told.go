package audit

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// A table can be judged where it lies, by an engine that tells in how many rows which rules are broken together and which columns
// miss together. As far as scores, findings and verdicts go that is the whole table: rows of which the same is said are alike.

// Outline is a rulebook laid out over the columns of a table that an engine judges.
type Outline struct{ plan *plan }

// NewOutline lays a rulebook out over columns. The rulebook must know each column.
func NewOutline(book *rulebook.Rulebook, names []string) *Outline {
	return &Outline{newPlan(book, names)}
}

// Laid is a rule of an Outline.
type Laid struct {
	*rulebook.Declared
	Columns  []int  // of the table; -1 for one that it lacks
	Unjudged string // why it cannot be judged in this table; empty where it can
}

// Rules returns the rules that concern the table. Their places are those of Alike.Broken and of Told.Rules.
func (o *Outline) Rules() []Laid {
	var laid []Laid
	for _, c := range o.plan.checks {
		laid = append(laid, Laid{c.Declared, c.at, c.unjudged})
	}
	return laid
}

// Measures returns the columns whose sums findings are expressed in.
func (o *Outline) Measures() []int { return o.plan.measures }

// Cells returns the reader of a column's cells.
func (o *Outline) Cells(column int) *rulebook.Cells { return o.plan.judges[column].cells }

// Alike are rows of which the same is said.
type Alike struct {
	Broken  Bits // rules
	Missing Bits // columns
	Rows    int64
	Sums    []table.Decimal // of each measure
}

// Bits is a set of places.
type Bits []uint64

// NewBits returns room for so many places.
func NewBits(places int) Bits { return make(Bits, (places+63)/64) }

// Set adds a place.
func (b Bits) Set(at int) { b[at/64] |= 1 << (at % 64) }

// Has reports whether a place is in the set.
func (b Bits) Has(at int) bool { return b[at/64]>>(at%64)&1 != 0 }

// ToldRule is what an engine says of a rule beside the rows that break it.
type ToldRule struct {
	Texts     map[string]int64 // of a rule on cells: the texts that break it, the most frequent ones at least
	Groups    int64            // of a key or equal rows
	Undecided int64            // rows, of a condition
	Unjudged  string           // why the engine could not judge it
	Found     string           // what was found, in a sentence, of a rule on the table
	All       bool             // every row breaks it
}

// Told is what an engine says of a table.
type Told struct {
	Alike   []Alike
	Columns []profile.Summary
	Rules   []ToldRule
	Met     []map[string]bool // per column the codes that occur
}

// Rows returns how many rows were told of.
func (t *Told) Rows() (rows int64) {
	for i := range t.Alike {
		rows += t.Alike[i].Rows
	}
	return rows
}

// ErrRows says that a table has more rows than an audit can count.
var ErrRows = fmt.Errorf("a table of more than %d rows cannot be judged", uint32(math.MaxUint32))

// Result says what comes of it. Where in the table things lie is not known: meshes are empty, and no rows are named. The row sets of findings say how many rows
// are in several of them at once, and nothing else.
func (o *Outline) Result(ctx context.Context, told *Told) (*Result, error) {
	r := newRun(o.plan, 1)
	defer r.close()
	r.summaries, r.met = told.Columns, told.Met
	o.plan.mark(nil)
	alike := slices.Clone(told.Alike)
	slices.SortFunc(alike, func(a, b Alike) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), slices.Compare(a.Missing, b.Missing), slices.Compare(a.Broken, b.Broken))
	})
	for i := range alike {
		if r.rows += alike[i].Rows; r.rows > math.MaxUint32 {
			return nil, ErrRows
		}
	}
	first := uint64(1)
	for i := range alike {
		one, after := &alike[i], first+uint64(alike[i].Rows)
		for at := range r.verdicts {
			if one.Broken.Has(at) {
				r.verdicts[at].rows.AddRange(first, after)
				r.verdicts[at].weigh(one.Sums)
			}
		}
		for c := range r.missing {
			if one.Missing.Has(c) {
				r.missing[c].AddRange(first, after)
			}
		}
		r.together.add(one.Missing, one.Rows)
		first = after
	}
	for at := range r.verdicts {
		v, of := &r.verdicts[at], &told.Rules[at]
		v.texts, v.groups, v.undecided, v.unjudged = of.Texts, of.Groups, of.Undecided, cmp.Or(v.unjudged, of.Unjudged)
		v.found, v.all = of.Found, of.All
		if grouped, ok := o.plan.checks[at].Rule.(rulebook.ApartRule); ok {
			v.found = grouped.FoundIn(int64(v.rows.GetCardinality()), r.rows)
		}
	}
	r.judgeEnds()
	r.weighAlike(alike)
	opened := map[string]rulebook.Opened{}
	for c, name := range r.plan.names {
		if declared := r.plan.book.Column(name); r.plan.judges[c].cells.Open {
			opened[name] = rulebook.Opened{Type: declared.Type}
		}
	}
	out, err := r.result(ctx, opened)
	if err != nil {
		return nil, err
	}
	out.book = o.plan.book
	out.forgetPlaces()
	return out, nil
}

// weighAlike sums the measures over rows that were found in the end.
func (r *run) weighAlike(alike []Alike) {
	for at := range r.verdicts {
		v := &r.verdicts[at]
		if !v.late {
			continue
		}
		first := uint32(1)
		for i := range alike {
			if v.rows.Contains(first) {
				v.weigh(alike[i].Sums)
			}
			first += uint32(alike[i].Rows)
		}
	}
}

// Around is what rules on the table ask for beside its rows, which are so many.
func Around(book *rulebook.Rulebook, rows int64, workers int) *rulebook.Around {
	return &rulebook.Around{Rows: rows, Elsewhere: func(ctx context.Context, dataset string, needs rulebook.Needs, take func([]rulebook.TableRow) error) error {
		return readElsewhere(ctx, book, dataset, needs, workers, take)
	}}
}

// RowsFor works out what a rule on the table needs of the rows of a batch.
func RowsFor(needs rulebook.Needs, rows rulebook.Batch) []rulebook.TableRow {
	return rowsFor(needs, rows)
}

// KeyOf is the hash and the label of a group, by the texts of its columns; lacking says that one of them is missing.
func KeyOf(cells []*rulebook.Cells, texts []string) (hash table.Hash, label string, lacking bool) {
	for c, text := range texts {
		cell, identity := cells[c].Read(text), ""
		if cell.Missing {
			lacking = true
		} else {
			identity = cell.Identity(text)
		}
		if hash = table.With(hash, table.TokenOf(identity)); c > 0 {
			label += ", "
		}
		label += identity
	}
	return hash, label, lacking
}

// There says where a table lies that was judged there, and how.
type There struct {
	Server   string `json:"server"`
	Database string `json:"database"`
	Relation string `json:"relation"`
	Query    string `json:"query,omitempty"`
	Snapshot string `json:"snapshot,omitempty"`
	// Digest is one of all rows, without regard to their order, and DigestBy says how the server worked it out.
	Digest   string `json:"digest"`
	DigestBy string `json:"digest_by"`
	// Notes say what is not exact, or not told.
	Notes      []string    `json:"notes,omitempty"`
	Statements []Statement `json:"statements"`
	// Where says in the engine's own SQL which rows break a rule; rules for which that is too long are left out.
	Where map[string]string `json:"where,omitempty"`
}

// Shown is what people are shown: conditions are kept for opening rows alone. SQL names texts of the table, so that whoever may not see all of them is
// shown none of it.
func (t *There) Shown(sql bool) *There {
	if t == nil {
		return nil
	}
	out := *t
	out.Where = nil
	if !sql {
		out.Statements = slices.Clone(t.Statements)
		for i := range out.Statements {
			out.Statements[i].SQL = ""
		}
	}
	return &out
}

// Statement is a question that was put to a server.
type Statement struct {
	Says         string `json:"says"` // what it answers
	SQL          string `json:"sql"`
	Rows         int64  `json:"rows"`  // of its answer
	Bytes        int64  `json:"bytes"` // of its answer, as texts
	Milliseconds int64  `json:"milliseconds"`
}

// forgetPlaces drops what is said of where in the table things lie.
func (r *Result) forgetPlaces() {
	r.Mesh = Mesh{}
	for i := range r.Columns {
		r.Columns[i].Mesh, r.Columns[i].Gaps = Mesh{}, nil
	}
	for i := range r.Findings {
		r.Findings[i].FirstRows = []uint32{}
	}
	for i := range r.Leads {
		r.Leads[i].FirstRows = []uint32{}
	}
}
