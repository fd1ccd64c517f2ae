package propose

import (
	"maps"
	"slices"
	"strings"

	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// renamedShare is the least share of the rows, in either delivery, whose codes the other one has too, for two columns of
// codes to be one.
const renamedShare = 0.8

// renamed finds columns that an earlier delivery has by another name: those it has and the last one lacks, by the names
// that the last one has for them. Their values are alike, and either their place or their name is; a column that could be
// several is none.
func renamed(last, before *rulebook.Past) map[string]string {
	names := func(p *rulebook.Past) (out []string) {
		for i := range p.Columns {
			out = append(out, p.Columns[i].Name)
		}
		return out
	}
	now, then := names(last), names(before)
	found := map[string][]string{} // old names, by new ones
	claims := map[string]int{}     // new names, by old one
	for i, name := range now {
		if slices.Contains(then, name) {
			continue
		}
		for k, was := range then {
			if !slices.Contains(now, was) && (inPlace(now, then, i, k) || namedAlike(name, was)) &&
				holdAlike(&last.Columns[i], &before.Columns[k]) {
				found[name] = append(found[name], was)
				claims[was]++
			}
		}
	}
	maps.DeleteFunc(found, func(_ string, was []string) bool { return len(was) > 1 || claims[was[0]] > 1 })
	out := map[string]string{}
	for name, was := range found {
		out[was[0]] = name
	}
	return out
}

// inPlace reports whether two columns stand beside the same one.
func inPlace(now, then []string, i, k int) bool {
	at := func(names []string, i int) string {
		if i < 0 || i >= len(names) {
			return ""
		}
		return names[i]
	}
	return at(now, i-1) == at(then, k-1) || at(now, i+1) == at(then, k+1)
}

// namedAlike reports whether one name holds the other, or both begin alike.
func namedAlike(a, b string) bool {
	const begin = 4
	a, b = table.Fold(a), table.Fold(b)
	return a != "" && b != "" && (strings.Contains(a, b) || strings.Contains(b, a) ||
		len(a) >= begin && len(b) >= begin && a[:begin] == b[:begin])
}

// holdAlike reports whether two columns could be one by what they hold.
func holdAlike(a, b *rulebook.PastColumn) bool {
	switch {
	case a.Filled == 0 || b.Filled == 0:
		return false
	case a.Numbers != nil && b.Numbers != nil:
		return within(a, b) && within(b, a)
	case a.Type != b.Type || (a.Numbers == nil) != (b.Numbers == nil):
		return false
	case a.Dates != nil || b.Dates != nil:
		return a.Dates != nil && b.Dates != nil
	}
	x, known := a.All()
	y, also := b.All()
	if known && also && len(x) < int(a.Filled) && len(y) < int(b.Filled) {
		return shared(x, y) >= renamedShare && shared(y, x) >= renamedShare
	}
	return len(a.Shapes) > 0 && len(b.Shapes) > 0 && a.Shapes[0].Text == b.Shapes[0].Text
}

// within reports whether the middle half of the numbers of a column lies among the inner 98 % of another's.
func within(a, b *rulebook.PastColumn) bool {
	at := func(c *rulebook.PastColumn, share float64) float64 {
		for _, q := range c.Numbers.Quantiles {
			if q.Share == share {
				return q.Number
			}
		}
		return 0
	}
	return at(a, 0.25) >= at(b, 0.01) && at(a, 0.75) <= at(b, 0.99)
}

// shared is the share of the rows whose text others have too.
func shared(texts, others []profile.Frequency) float64 {
	there, rows, all := map[string]bool{}, int64(0), int64(0)
	for _, o := range others {
		there[table.Fold(o.Text)] = true
	}
	for _, t := range texts {
		all += t.Rows
		if there[table.Fold(t.Text)] {
			rows += t.Rows
		}
	}
	return float64(rows) / float64(max(all, 1))
}
