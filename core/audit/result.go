package audit

import (
	"cmp"
	"encoding/json"
	"slices"

	"proudsieve/core/intake/delimited"
	"proudsieve/core/leads"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Result is what one audit found. It says the same for the same bytes and rulebook.
type Result struct {
	Rows     int64 `json:"rows"`
	SetAside int64 `json:"set_aside"` // lines that are no rows: above the header, or blank
	Records  int64 `json:"records"`   // Rows + SetAside

	// Closing holds the records at the end that were set aside, as totals and notes.
	Closing []string `json:"closing_lines,omitempty"`

	// Renamed says by which names columns stand in the file, by those that they are declared by now.
	Renamed map[string]string `json:"renamed,omitempty"`

	DefectCount int64          `json:"defect_count"`
	Defects     []table.Defect `json:"defects"` // the first defectsKept

	Columns  []Column          `json:"columns"`
	Leads    []Lead            `json:"leads"`
	MeantSo  []Lead            `json:"meant_so,omitempty"` // leads that the rulebook says are meant so
	Rules    []Judged          `json:"rules"`              // every rule that was judged, broken or not
	Findings []Finding         `json:"findings"`
	Sums     map[string]string `json:"sums"` // of each measure, exact

	// ColumnScore is the mean of the columns' scores by their declared weights.
	ColumnScore float64 `json:"column_score"`

	Score    float64 `json:"score"` // share of rows with nothing wrong, 0 to 100
	PassMark float64 `json:"pass_mark"`
	// Passed is the verdict; nil where nothing was declared that the table could break.
	Passed *bool `json:"passed"`
	Mesh   Mesh  `json:"mesh"` // of the rows

	// MissingTogether says which columns miss together: the most frequent sets of missing columns.
	// The set without any is that of the complete rows.
	MissingTogether []MissingSet `json:"missing_together"`
	MoreTogether    bool         `json:"more_together,omitempty"`

	// Estimates says how many cells are estimates; nil of a table without any.
	Estimates *Estimates `json:"estimates,omitempty"`

	// There says where the table lies, of one that was judged there; nil of others.
	There *There `json:"there,omitempty"`

	// Beside says which tables of other datasets the table was held against.
	Beside map[string]string `json:"beside,omitempty"`

	book  *rulebook.Rulebook // by which it was read in the end
	looks []leads.Looks      // of the columns that nobody declared

	Checkpoints []delimited.Checkpoint `json:"-"` // where parts of the file start, for reading a page of rows
}

// Estimates are the cells of a table that were estimated.
type Estimates struct {
	Cells int64 `json:"cells"`
	// Are says whether they count as missing or as values.
	Are string `json:"are"`
	// Marks is the SHA-256 of the file that says which they are, in hexadecimal.
	Marks string `json:"marks_sha256"`
}

// HasPassed reports whether there is a verdict, and it is good.
func (r *Result) HasPassed() bool { return r.Passed != nil && *r.Passed }

// FellShort reports whether there is a verdict, and it is not good.
func (r *Result) FellShort() bool { return r.Passed != nil && !*r.Passed }

// Stops names the rules that keep a table from passing whatever its score: those of severity major that are broken, or
// where none is, those that could not be judged.
func (r *Result) Stops() (broken, unjudged []string) {
	for _, f := range r.Findings {
		if f.Severity == rulebook.Major {
			broken = append(broken, f.Rule)
		}
	}
	for _, j := range r.Rules {
		if j.Unjudged != "" && len(broken) == 0 {
			unjudged = append(unjudged, j.Rule)
		}
	}
	return broken, unjudged
}

// Finding returns the finding of a rule; nil where the audit has none.
func (r *Result) Finding(rule string) *Finding {
	for i := range r.Findings {
		if r.Findings[i].Rule == rule {
			return &r.Findings[i]
		}
	}
	return nil
}

// Judges reports whether the audit judged a rule.
func (r *Result) Judges(rule string) bool {
	return slices.ContainsFunc(r.Rules, func(j Judged) bool { return j.Rule == rule && j.Unjudged == "" })
}

// Book returns the rulebook by which a table was read that was audited just now: that of the audit, with the columns
// that it does not declare, as they turned out to be.
func (r *Result) Book() *rulebook.Rulebook { return r.book }

// UnmarshalJSON reads a result; the words of earlier versions are understood.
func (r *Result) UnmarshalJSON(raw []byte) error {
	type plain Result
	both := struct {
		*plain
		Patterns     []MissingSet `json:"patterns"`
		MorePatterns bool         `json:"more_patterns"`
	}{plain: (*plain)(r)}
	if err := json.Unmarshal(raw, &both); err != nil {
		return err
	}
	if r.MissingTogether == nil {
		r.MissingTogether, r.MoreTogether = both.Patterns, both.MorePatterns
	}
	return nil
}

// Column is one column's profile and scores, each 0 to 100.
type Column struct {
	Name     string     `json:"name"`
	Type     table.Type `json:"type"`
	Declared bool       `json:"declared"`
	Role     Role       `json:"role"`
	// ReadBy is the pattern by which the dates of a column are read that nobody declared.
	ReadBy       string  `json:"read_by,omitempty"`
	Score        float64 `json:"score"`
	Completeness float64 `json:"completeness"`
	Validity     float64 `json:"validity"`
	Uniqueness   float64 `json:"uniqueness"`
	Consistency  float64 `json:"consistency"`
	Mesh         Mesh    `json:"mesh"`
	// Estimated is how many of the values were estimated. They are among the filled ones; where a value is asked for they
	// count as missing, unless the rulebook says otherwise.
	Estimated int64 `json:"estimated,omitempty"`
	// Gaps is how many rows lack a value, by cells as of a mesh.
	Gaps        []uint32      `json:"gaps,omitempty"`
	MissingRows *table.RowSet `json:"-"`
	profile.Column
}

// MissingSet is a set of columns that miss together in so many rows.
type MissingSet struct {
	Missing []string `json:"missing"`
	Rows    int64    `json:"rows"`
}

// Judged is a rule with the number of rows that break it.
type Judged struct {
	Rule     string            `json:"rule"`
	Says     string            `json:"says"` // what must hold, in a sentence
	Severity rulebook.Severity `json:"severity"`
	Rows     int64             `json:"rows"`
	Unjudged string            `json:"unjudged,omitempty"` // why the rule could not be judged
	// Excused says that it keeps no table from passing that the rule could not be judged, as one against earlier deliveries
	// where there are none yet.
	Excused bool `json:"excused,omitempty"`
	// Undecided is how many rows a condition is neither true nor false for, and Tolerated how many
	// break it where no more than a declared share do.
	Undecided int64 `json:"undecided,omitempty"`
	Tolerated int64 `json:"tolerated,omitempty"`
}

// Finding is a rule that was broken.
type Finding struct {
	Rule      string             `json:"rule"`
	Kind      string             `json:"kind"` // of rule
	Dimension rulebook.Dimension `json:"dimension"`
	Severity  rulebook.Severity  `json:"severity"`
	Columns   []string           `json:"columns"`
	Says      string             `json:"says"`  // what must hold
	Found     string             `json:"found"` // what does not, in a sentence
	Reason    string             `json:"reason,omitempty"`
	Rows      int64              `json:"rows"`
	FirstRows []uint32           `json:"first_rows"`
	// of a key or equal rows: how many things are there more than once
	Groups int64               `json:"groups,omitempty"`
	Texts  []profile.Frequency `json:"texts,omitempty"` // of a single column: the most frequent offending texts
	Impact map[string]string   `json:"impact"`          // the sum of each measure over the rows, exact
	// Cost is how many points of the table's score the finding takes by itself, and Regained
	// how many would be won if it alone were put right: its rows that nothing else is wrong with.
	Cost     float64       `json:"cost"`
	Regained float64       `json:"regained"`
	RowSet   *table.RowSet `json:"-"`
}

// AllRows returns the rows of a finding of an audit that was run just now, which holds them.
func (f *Finding) AllRows() (*table.RowSet, error) { return f.RowSet, nil }

// meshCells is how many cells a mesh strip has at most.
const meshCells = 48

// Lacking returns the columns that lack a value somewhere, those that lack most first, at most so many.
func (r *Result) Lacking(most int) []string {
	lacking := []*Column{}
	for i := range r.Columns {
		if r.Columns[i].Missing > 0 {
			lacking = append(lacking, &r.Columns[i])
		}
	}
	slices.SortStableFunc(lacking, func(a, b *Column) int { return cmp.Compare(b.Missing, a.Missing) })
	out := []string{}
	for _, c := range lacking[:min(len(lacking), most)] {
		out = append(out, c.Name)
	}
	return out
}

// Mesh is a band of cells, each standing for the same share of the rows in file
// order. Counts are per cell; a dimension without any is left out.
type Mesh struct {
	Cells  int                             `json:"cells"`
	Caught map[rulebook.Dimension][]uint32 `json:"caught,omitempty"` // rows caught, per cell
}

// meshSpan returns the rows that cell i of the mesh stands for: first to last, from 1.
func meshSpan(rows int64, cells, i int) (first, last uint32) {
	return uint32(rows*int64(i)/int64(cells)) + 1, uint32(rows * int64(i+1) / int64(cells))
}

// MeshCells returns how many cells the mesh of so many rows has.
func MeshCells(rows int64) int { return int(min(rows, meshCells)) }

// share returns the part of rows that are not in bad, from 0 to 100, never rounded to either end.
func share(rows int64, bad *table.RowSet) float64 {
	if rows == 0 {
		return 100
	}
	return 100 * float64(rows-int64(bad.GetCardinality())) / float64(rows)
}
