package merge

import (
	"cmp"
	"slices"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Periods say which days the stacked tables cover.
type Periods struct {
	Column   string    `json:"column"`
	Covered  []Period  `json:"covered"`  // of each table, in the order of the stack
	Overlaps []Overlap `json:"overlaps"` // between tables whose days meet, in the order of their first days
	// Gaps are days that no table covers between two that do, where they are more than any table has between two of its days.
	Gaps []Gap `json:"gaps"`
}

// Period are the days of one table.
type Period struct {
	Dataset string `json:"dataset"`
	Table   int64  `json:"table,omitempty"`
	Name    string `json:"name,omitempty"`
	First   string `json:"first"` // as 2024-01-31; empty where it has no day
	Last    string `json:"last"`
	Days    int64  `json:"days"` // that it has rows of
}

// Overlap are the days that a table has in common with those that begin before it.
type Overlap struct {
	Dataset string `json:"dataset"`
	Table   int64  `json:"table,omitempty"`
	Name    string `json:"name,omitempty"`
	First   string `json:"first"`
	Last    string `json:"last"`
	Days    int64  `json:"days"`
}

// Gap is a time that no table covers.
type Gap struct {
	After  string `json:"after"`  // the last day before it
	Before string `json:"before"` // the first day after it
	Days   int64  `json:"days"`   // between these two
}

// zeroDay is where day 0, 1970-01-01, stands among the days of a set.
const zeroDay = 1 << 30

// covered are days.
type covered struct{ days *table.RowSet }

// add takes up the days of a column.
func (c *covered) add(column *table.Column, cells *rulebook.Cells) {
	for code, n := range column.Counts(nil) {
		if n == 0 {
			continue
		}
		if v := cells.Read(column.Texts[code]).Value; v.Kind == table.Date || v.Kind == table.Instant {
			if c.days == nil {
				c.days = table.NewRowSet()
			}
			c.days.Add(uint32(v.Day() + zeroDay))
		}
	}
}

func (c *covered) merge(o *covered) {
	switch {
	case o.days == nil:
	case c.days == nil:
		c.days = o.days
	default:
		c.days.Or(o.days)
	}
}

func dayText(day uint32) string { return table.DateValue(int64(day) - zeroDay).Standard() }

// longest is the longest time between two days that follow one another.
func longest(days *table.RowSet) (most uint32) {
	before := uint32(0)
	for it := days.Iterator(); it.HasNext(); {
		day := it.Next()
		if before > 0 {
			most = max(most, day-before)
		}
		before = day
	}
	return most
}

// periodColumn is the column of the stack by which days are told: the declared one, or the only one of dates; -1 for none.
func (m *merger) periodColumn() int {
	if m.plan.Period != "" {
		return slices.Index(m.stacked, m.plan.Period)
	}
	found := -1
	for i, name := range m.stacked {
		if t := m.types[name]; t == table.TypeDate || t == table.TypeDateTime {
			if found >= 0 {
				return -1
			}
			found = i
		}
	}
	return found
}

// periodsOf says which days the tables cover; nil where there is no column of days.
func (m *merger) periodsOf() *Periods {
	column := m.periodColumn()
	if column < 0 || len(m.periods) == 0 {
		return nil
	}
	out := &Periods{Column: m.stacked[column], Covered: []Period{}, Overlaps: []Overlap{}, Gaps: []Gap{}}
	var order []int
	usual := uint32(1)
	for i, c := range m.periods {
		t := m.tables[i]
		p := Period{Dataset: t.Dataset, Table: t.Table, Name: t.Name}
		if c.days != nil {
			p.First, p.Last, p.Days = dayText(c.days.Minimum()), dayText(c.days.Maximum()), int64(c.days.GetCardinality())
			order = append(order, i)
			usual = max(usual, longest(c.days))
		}
		out.Covered = append(out.Covered, p)
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(m.periods[a].days.Minimum(), m.periods[b].days.Minimum()) })
	before := table.NewRowSet()
	for _, i := range order {
		days, t := m.periods[i].days, m.tables[i]
		if !before.IsEmpty() {
			if first, end := days.Minimum(), before.Maximum(); first > end && first-end > usual {
				out.Gaps = append(out.Gaps, Gap{dayText(end), dayText(first), int64(first-end) - 1})
			}
		}
		if both := table.And(before, days); !both.IsEmpty() {
			out.Overlaps = append(out.Overlaps, Overlap{t.Dataset, t.Table, t.Name, dayText(both.Minimum()), dayText(both.Maximum()), int64(both.GetCardinality())})
		}
		before.Or(days)
	}
	return out
}
