package fix

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Ledger accounts for rows and sums from the table that arrived to the cleaned one.
type Ledger struct {
	RowsIn  int64             `json:"rows_in"`
	RowsOut int64             `json:"rows_out"`
	SumsIn  map[string]string `json:"sums_in"` // of each measure, exact
	SumsOut map[string]string `json:"sums_out"`
	Steps   []LedgerStep      `json:"steps"`
	// Columns are those of the cleaned table, and Arrived those of the table that it was made of.
	Columns []string `json:"columns"`
	Arrived []string `json:"arrived"`
	// LogAt says where the entries of each step begin in the change log, in bytes: first those of no step, then those of
	// each; the last number is where the log ends.
	LogAt []int64 `json:"log_at"`
	// Reading is how the texts of the cleaned table are read that are not in standard form.
	Reading rulebook.TableReading `json:"reading"`
	// Written counts, per column, the cells that earlier versions put in standard form without a step.
	Written map[string]int64 `json:"written,omitempty"`
	// Estimates counts, per column, the cells of the cleaned table that are estimates.
	Estimates map[string]int64 `json:"estimates,omitempty"`
	// Draws counts the draws beyond the first of these that a step of the plan made.
	Draws int64 `json:"draws,omitempty"`
	// Unheaded is how many rows had cells beyond the header's; the change log has them.
	Unheaded int64 `json:"unheaded"`
}

// LedgerStep is what one step did.
type LedgerStep struct {
	Step   int    `json:"step"`
	Kind   string `json:"kind"`
	Reason string `json:"reason"`
	Off    bool   `json:"off,omitempty"` // it was switched off, and did nothing
	// Varies says that how much it touches may differ from delivery to delivery.
	Varies bool  `json:"varies,omitempty"`
	Cells  int64 `json:"cells"` // changed
	Rows   int64 `json:"rows"`  // that left
	// RowsBefore and RowsMade are set where the step made other rows of those that it found.
	RowsBefore *int64            `json:"rows_before,omitempty"`
	RowsMade   *int64            `json:"rows_made,omitempty"`
	Sums       map[string]string `json:"sums"` // what each measure's sum changed by
	// Columns are those that the step left, where it gave them other names or places or made new ones.
	Columns []ColumnFrom `json:"columns,omitempty"`
	// Mistyped counts cells that had a value of their type, or nothing, and have a text then that is none.
	Mistyped int64 `json:"mistyped,omitempty"`
	// Uncoded counts cells whose code was in the list, and is not then.
	Uncoded int64     `json:"uncoded,omitempty"`
	Refused []Refusal `json:"refused,omitempty"` // why it must not be done as it is declared
	// Undecided are cells of which no rule says what stays: the first of Open.
	Undecided []Undecided `json:"undecided,omitempty"`
	Open      int64       `json:"open,omitempty"`
	Estimated *Estimated  `json:"estimated,omitempty"`
	Examples  []LogEntry  `json:"examples"`       // the first changes
	Note      string      `json:"note,omitempty"` // what a steward should look at
}

// ColumnFrom is a column with the one that it was before the step; empty for a new one.
type ColumnFrom struct {
	Name string `json:"name"`
	From string `json:"from,omitempty"`
}

// examplesShown is how many of its first changes the ledger of a step shows.
const examplesShown = 3

// Since is how much a step touched on the delivery before, where that differs much.
type Since struct {
	Step    int     `json:"step"`
	Kind    string  `json:"kind"`
	Touched int64   `json:"touched"` // cells and rows
	Before  int64   `json:"before"`  // on the delivery before
	Times   float64 `json:"times"`   // as large a share of the rows; 0 where it touched nothing before
	// Stops says that the plan is not applied before somebody has looked at it.
	Stops bool `json:"stops"`
}

const (
	// manyTimes is how many times as large a share of the rows stops a step, and fewTouched how much it touches at the
	// least for that.
	manyTimes  = 10
	fewTouched = 20
)

// Since compares what the steps touched with the ledger of the delivery before, step by step; steps that are of another
// kind now are left out. last may be nil.
func (l *Ledger) Since(last *Ledger) []Since {
	out := []Since{}
	if last == nil || last.RowsIn == 0 || l.RowsIn == 0 {
		return out
	}
	for i := range l.Steps {
		if i >= len(last.Steps) || last.Steps[i].Kind != l.Steps[i].Kind || last.Steps[i].Off != l.Steps[i].Off {
			continue
		}
		s := Since{Step: i + 1, Kind: l.Steps[i].Kind, Touched: l.Steps[i].touched(), Before: last.Steps[i].touched()}
		if s.Before > 0 {
			s.Times = float64(s.Touched) / float64(l.RowsIn) / (float64(s.Before) / float64(last.RowsIn))
		}
		much := s.Touched >= fewTouched && (s.Before == 0 || s.Times >= manyTimes)
		if s.Stops = much && !l.Steps[i].Varies; s.Touched != s.Before {
			out = append(out, s)
		}
	}
	return out
}

func (s *LedgerStep) touched() int64 { return s.Cells + s.Rows }

// Changes returns how many cells and rows the steps changed.
func (l *Ledger) Changes() (n int64) {
	for _, s := range l.Steps {
		n += s.Cells + s.Rows
	}
	return n
}

// Balance says where the ledger does not add up, or nil.
func (l *Ledger) Balance() error {
	rows := l.RowsIn
	sums := map[string]table.Decimal{}
	for m, text := range l.SumsIn {
		sums[m], _ = table.ParseDecimal(text)
	}
	for _, s := range l.Steps {
		rows -= s.Rows
		if s.RowsMade != nil {
			if s.RowsBefore == nil || *s.RowsBefore != rows {
				return fmt.Errorf("the ledger does not add up: step %d should have made its rows of %d, and did not", s.Step, rows)
			}
			rows = *s.RowsMade
		}
		for m, text := range s.Sums {
			d, _ := table.ParseDecimal(text)
			sums[m] = sums[m].Add(d)
		}
	}
	if rows != l.RowsOut {
		return fmt.Errorf("the ledger does not add up: %d rows in, less what the steps removed, are %d, and %d are in the table", l.RowsIn, rows, l.RowsOut)
	}
	for m, sum := range sums {
		if sum.Shortest() != l.SumsOut[m] {
			return fmt.Errorf("the ledger does not add up: the sum of %s should be %s, and is %s in the table", m,
				sum.Shortest(), l.SumsOut[m])
		}
	}
	return nil
}

// RefusedError is returned where steps must not be done as they are declared. Nothing was applied.
type RefusedError struct{ Steps []LedgerStep }

// Error implements error.
func (e *RefusedError) Error() string {
	var b strings.Builder
	b.WriteString("the plan was not applied:")
	for _, s := range e.Steps {
		for _, r := range s.Refused {
			fmt.Fprintf(&b, "\nstep %d (%s), %s: %s", s.Step, s.Kind, document.Counted(r.Rows, "row", "rows"), r.Why)
			for i, p := range r.Places {
				separator := ", "
				if i == 0 {
					separator = ": "
				}
				fmt.Fprintf(&b, "%s%q", separator, p.Text)
				if p.Column != "" {
					fmt.Fprintf(&b, " in %s", p.Column)
				}
				if p.Line > 0 {
					fmt.Fprintf(&b, " (line %d)", p.Line)
				} else {
					fmt.Fprintf(&b, " (row %d)", p.Row)
				}
			}
		}
	}
	return b.String()
}

// Refused returns a *RefusedError with the steps that must not be done as they are declared, or nil.
func (l *Ledger) Refused() error {
	var steps []LedgerStep
	for _, s := range l.Steps {
		if len(s.Refused) > 0 {
			steps = append(steps, s)
		}
	}
	if len(steps) == 0 {
		return nil
	}
	return &RefusedError{steps}
}

// Marked returns how many cells of the cleaned table are estimates.
func (l *Ledger) Marked() (n int64) {
	for _, cells := range l.Estimates {
		n += cells
	}
	return n
}

// Drawn reports whether the estimates of a step that are in the cleaned table were drawn more than once, so that there is a
// file of their draws.
func (l *Ledger) Drawn() bool { return l.Draws > 0 }

// MadeRows reports whether a step made rows of others, so that there is a map of them.
func (l *Ledger) MadeRows() bool {
	return slices.ContainsFunc(l.Steps, func(s LedgerStep) bool { return s.RowsMade != nil })
}
