package merge

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/table"
)

// Suggestion is a column of one table that may be what another table calls otherwise, with what speaks for it. It is for a
// person to take or to leave.
type Suggestion struct {
	Column string `json:"column"` // of the table that comes to the others
	As     string `json:"as"`     // of the others
	Says   string `json:"says"`
	weight float64
}

const (
	// textsAlike is the share of the fewer texts of two columns that must be in both.
	textsAlike = 0.8
	// fewestTexts is how many texts two columns must have in common.
	fewestTexts = 2
)

// Suggest says which columns of a table, that the stack so far does not have, may be columns that the table does not have: by
// their names once these are levelled, by their texts, or by their numbers. Each column is named once.
func Suggest(stack, other []audit.Column) []Suggestion {
	left := func(a, b []audit.Column) (out []audit.Column) {
		for _, c := range a {
			if !slices.ContainsFunc(b, func(o audit.Column) bool { return o.Name == c.Name }) {
				out = append(out, c)
			}
		}
		return out
	}
	mine, theirs := left(stack, other), left(other, stack)
	var all []Suggestion
	for i := range theirs {
		for k := range mine {
			if kindOf(&theirs[i]) != kindOf(&mine[k]) {
				continue
			}
			if s, ok := alikeColumns(&theirs[i], &mine[k]); ok {
				all = append(all, s)
			}
		}
	}
	return bestOf(all)
}

// SuggestKeys says which columns of a table to be joined may be what columns of the rows so far name its rows by: those whose
// texts nearly all name one row there.
func SuggestKeys(before, there []audit.Column) []Suggestion {
	var all []Suggestion
	for i := range there {
		c := &there[i]
		if c.Filled == 0 || float64(c.Distinct) < 0.98*float64(c.Filled) || c.Role == "measure" {
			continue
		}
		for k := range before {
			if kindOf(c) != kindOf(&before[k]) {
				continue
			}
			found, of, exact := textsFound(&before[k], c)
			if of == 0 || float64(found) < textsAlike*float64(of) || found < fewestTexts && c.Distinct >= fewestTexts {
				continue
			}
			s := Suggestion{Column: c.Name, As: before[k].Name, weight: float64(found)/float64(of) + sameName(c.Name, before[k].Name)}
			s.Says = fmt.Sprintf("%d of its %d texts are there", found, of)
			if !exact {
				s.Says = fmt.Sprintf("%d of its %d most frequent texts are among those that are known of it", found, of)
			}
			all = append(all, s)
		}
	}
	return bestOf(all)
}

func sameName(a, b string) float64 {
	if table.Fold(a) == table.Fold(b) {
		return 1
	}
	return 0
}

// bestOf leaves the weightiest suggestion of each column.
func bestOf(all []Suggestion) []Suggestion {
	slices.SortStableFunc(all, func(a, b Suggestion) int { return cmp.Compare(b.weight, a.weight) })
	out := []Suggestion{}
	for _, s := range all {
		if !slices.ContainsFunc(out, func(o Suggestion) bool { return o.Column == s.Column || o.As == s.As }) {
			out = append(out, s)
		}
	}
	return out
}

func kindOf(c *audit.Column) table.Kind { return c.Type.Kind() }

// alikeColumns says why two columns may be one.
func alikeColumns(a, b *audit.Column) (s Suggestion, ok bool) {
	s = Suggestion{Column: a.Name, As: b.Name}
	x, y := table.Fold(a.Name), table.Fold(b.Name)
	switch {
	case x != "" && x == y:
		s.Says, s.weight = "the names differ in case and signs alone", 3
		return s, true
	case len(x) > 2 && len(y) > 2 && (strings.HasPrefix(x, y) || strings.HasPrefix(y, x) || strings.HasSuffix(x, y) || strings.HasSuffix(y, x)):
		s.Says, s.weight = "the one name is a part of the other", 1.5
		ok = true
	}
	if found, of, _ := textsFound(a, b); kindOf(a) == table.Text && of > 0 && found >= fewestTexts && float64(found) >= textsAlike*float64(of) {
		s.Says, s.weight = fmt.Sprintf("%d of its %d texts are there too", found, of), s.weight+1+float64(found)/float64(of)
		return s, true
	}
	if share, known := quartilesShared(a, b); known && (ok || share >= 0.5) {
		if s.weight += share; s.Says != "" {
			s.Says += ", and "
		}
		s.Says += fmt.Sprintf("the middle halves of its numbers overlap by %.0f %%", 100*share)
		return s, true
	}
	return s, ok
}

// textsFound is how many of the texts known of a column are known of another too, once levelled; exact says that all are known.
func textsFound(a, b *audit.Column) (found, of int, exact bool) {
	known, allB := textsOf(b)
	theirs, allA := textsOf(a)
	for text := range theirs {
		if known[text] {
			found++
		}
	}
	return found, len(theirs), allA && allB
}

// textsOf are the texts that a profile has, levelled; all says that these are all of them.
func textsOf(c *audit.Column) (texts map[string]bool, all bool) {
	listed := c.Values
	if len(listed) == 0 {
		listed = c.Frequent
	}
	texts = map[string]bool{}
	for _, f := range listed {
		texts[table.Level(f.Text)] = true
	}
	return texts, int64(len(listed)) >= c.Distinct
}

// quartilesShared is the share of the wider one of two middle halves that is in both.
func quartilesShared(a, b *audit.Column) (float64, bool) {
	of := func(c *audit.Column) (low, high float64, ok bool) {
		if c.Numbers == nil {
			return 0, 0, false
		}
		found := 0
		for _, q := range c.Numbers.Quantiles {
			switch q.Share {
			case 0.25:
				low, found = q.Number, found+1
			case 0.75:
				high, found = q.Number, found+1
			}
		}
		return low, high, found == 2 && high > low
	}
	al, ah, ok := of(a)
	bl, bh, too := of(b)
	if !ok || !too {
		return 0, false
	}
	return max(min(ah, bh)-max(al, bl), 0) / max(ah-al, bh-bl), true
}
