package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Comparison says what changed from one audit to another.
type Comparison struct {
	Rows   Pair[int64]   `json:"rows"`
	Score  Pair[float64] `json:"score"`
	Passed Pair[*bool]   `json:"passed"`
	// that are broken in one of them at least, those with the greatest change first
	Rules   []RuleChange   `json:"rules"`
	Columns []ColumnChange `json:"columns"` // in the order of the later audit, those that are gone last
}

// Pair is a value before and after.
type Pair[T any] struct {
	Before T `json:"before"`
	After  T `json:"after"`
}

// Turn is the direction of a change.
type Turn string

// The turns. A rule that the other audit did not judge cannot be compared.
const (
	TurnNew     Turn = "new"   // broken now, and held before
	TurnGone    Turn = "gone"  // broken before, and holds now
	TurnWorse   Turn = "worse" // by the share of rows, then by their number
	TurnBetter  Turn = "better"
	TurnSame    Turn = "same"
	TurnUnasked Turn = "not asked before"
	TurnDropped Turn = "not asked any more"
)

// RuleChange is one rule in two audits.
type RuleChange struct {
	Rule     string            `json:"rule"`
	Says     string            `json:"says"`
	Severity rulebook.Severity `json:"severity"`
	Turn     Turn              `json:"turn"`
	Rows     Pair[int64]       `json:"rows"`
	Share    Pair[float64]     `json:"share"` // of the rows, 0 to 100
}

// ColumnChange is one column in two audits.
type ColumnChange struct {
	Name     string           `json:"name"`
	Turn     Turn             `json:"turn"` // new and gone speak of the column itself
	Score    Pair[float64]    `json:"score"`
	Missing  Pair[float64]    `json:"missing"` // share of the rows, 0 to 100
	Distinct Pair[int64]      `json:"distinct"`
	Type     Pair[table.Type] `json:"type"`
	Mean     Pair[string]     `json:"mean"`
	// Says is what changed of what the column holds, each in a few words, the gravest first.
	Says []string `json:"says"`
}

// Compare holds a later audit against an earlier one.
func Compare(before, after *Result) *Comparison {
	c := &Comparison{Rows: Pair[int64]{before.Rows, after.Rows}, Score: Pair[float64]{before.Score, after.Score},
		Passed: Pair[*bool]{before.Passed, after.Passed}, Rules: []RuleChange{}}
	then := found(before)
	asked := map[string]bool{}
	for _, j := range before.Rules {
		asked[j.Rule] = j.Unjudged == ""
	}
	asks := map[string]bool{}
	now := found(after)
	for _, j := range after.Rules {
		asks[j.Rule] = j.Unjudged == ""
		if f, was := then[j.Rule], asked[j.Rule]; f != nil || now[j.Rule] != nil {
			c.Rules = append(c.Rules, change(j.Rule, side{before, f, was}, side{after, now[j.Rule], j.Unjudged == ""}))
		}
	}
	for rule, f := range then {
		if _, known := asks[rule]; !known {
			c.Rules = append(c.Rules, change(rule, side{before, f, true}, side{result: after}))
		}
	}
	slices.SortFunc(c.Rules, func(a, b RuleChange) int {
		size := func(r RuleChange) float64 { return -max(r.Share.After-r.Share.Before, r.Share.Before-r.Share.After) }
		return cmp.Or(cmp.Compare(order[a.Turn], order[b.Turn]), cmp.Compare(size(a), size(b)),
			cmp.Compare(a.Rule, b.Rule))
	})
	c.columns(before, after)
	return c
}

var order = map[Turn]int{TurnNew: 0, TurnWorse: 1, TurnUnasked: 2, TurnSame: 3, TurnBetter: 4, TurnGone: 5,
	TurnDropped: 6}

func found(r *Result) map[string]*Finding {
	out := map[string]*Finding{}
	for i := range r.Findings {
		out[r.Findings[i].Rule] = &r.Findings[i]
	}
	return out
}

// side is what one of two audits says of a rule.
type side struct {
	result  *Result
	finding *Finding // nil where nothing was found
	judged  bool
}

// change says how a rule fares in two audits.
func change(rule string, before, after side) RuleChange {
	c, then, now := RuleChange{Rule: rule}, before.finding, after.finding
	for _, f := range []*Finding{then, now} {
		if f != nil {
			c.Says, c.Severity = f.Says, f.Severity
		}
	}
	if then != nil {
		c.Rows.Before, c.Share.Before = then.Rows, percent(then.Rows, before.result.Rows)
	}
	if now != nil {
		c.Rows.After, c.Share.After = now.Rows, percent(now.Rows, after.result.Rows)
	}
	switch {
	case !after.judged:
		c.Turn = TurnDropped
	case !before.judged:
		c.Turn = TurnUnasked
	case then == nil:
		c.Turn = TurnNew
	case now == nil:
		c.Turn = TurnGone
	default:
		c.Turn = []Turn{TurnBetter, TurnSame, TurnWorse}[1+cmp.Or(cmp.Compare(c.Share.After, c.Share.Before),
			cmp.Compare(c.Rows.After, c.Rows.Before))]
	}
	return c
}

func (c *Comparison) columns(before, after *Result) {
	then := map[string]*Column{}
	for i := range before.Columns {
		then[before.Columns[i].Name] = &before.Columns[i]
	}
	one := func(name string, a, b *Column) ColumnChange {
		out := ColumnChange{Name: name, Turn: TurnSame, Says: []string{}}
		if a != nil {
			out.Score.Before, out.Missing.Before, out.Distinct.Before, out.Type.Before, out.Mean.Before = a.Score,
				percent(a.Missing, before.Rows), a.Distinct, a.Type, a.Mean
		}
		if b != nil {
			out.Score.After, out.Missing.After, out.Distinct.After, out.Type.After, out.Mean.After = b.Score,
				percent(b.Missing, after.Rows), b.Distinct, b.Type, b.Mean
		}
		if a != nil && b != nil {
			out.Says = changesOf(a, b)
		}
		switch {
		case a == nil:
			out.Turn = TurnNew
		case b == nil:
			out.Turn = TurnGone
		case a.Score > b.Score:
			out.Turn = TurnWorse
		case a.Score < b.Score:
			out.Turn = TurnBetter
		}
		return out
	}
	for i := range after.Columns {
		now := &after.Columns[i]
		c.Columns = append(c.Columns, one(now.Name, then[now.Name], now))
		delete(then, now.Name)
	}
	for i := range before.Columns {
		if gone := &before.Columns[i]; then[gone.Name] != nil {
			c.Columns = append(c.Columns, one(gone.Name, gone, nil))
		}
	}
}

// meanJumps is the change of a mean, in hundredths of the earlier one, from which on it is told.
const meanJumps = 10

// changesOf says what changed of what a column holds.
func changesOf(before, after *Column) []string {
	says := []string{}
	add := func(format string, args ...any) { says = append(says, fmt.Sprintf(format, args...)) }
	if before.Type != after.Type && before.Filled > 0 && after.Filled > 0 {
		add("is of type %s, and was of type %s", after.Type, before.Type)
	}
	switch {
	case before.Filled > 0 && after.Filled == 0 && after.Missing > 0:
		add("is empty, and was not")
	case before.Filled == 0 && after.Filled > 0:
		add("holds something, and was empty")
	}
	was, ok := table.ParseDecimal(before.Mean)
	if is, also := table.ParseDecimal(after.Mean); ok && also {
		change := is.Sub(was).Abs().Times(100)
		if limit := was.Abs().Times(meanJumps); change.Cmp(limit) > 0 {
			add("has a mean of %s, and had one of %s", document.Figure(is.Float()), document.Figure(was.Float()))
		}
	}
	if was, known := before.All(); known && after.Role == RoleCategory {
		if is, also := after.All(); also {
			if fresh := missingFrom(is, was); len(fresh) > 0 {
				add("%s: %s", document.Plural(int64(len(fresh)), "a new value", fmt.Sprintf("%d new values", len(fresh))),
					document.First(fresh))
			}
			if gone := missingFrom(was, is); len(gone) > 0 {
				add("%s: %s", document.Plural(int64(len(gone)), "a value is gone", fmt.Sprintf("%d values are gone", len(gone))),
					document.First(gone))
			}
		}
	}
	return says
}

// missingFrom lists the texts of one column that another one has not, as they are quoted.
func missingFrom(texts, others []profile.Frequency) []string {
	known := map[string]bool{}
	for _, o := range others {
		known[o.Text] = true
	}
	var out []string
	for _, t := range texts {
		if !known[t.Text] {
			out = append(out, strconv.Quote(t.Text))
		}
	}
	return out
}
