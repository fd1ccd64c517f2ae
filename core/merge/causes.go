package merge

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// Cause is what many totals that do not agree may have in common, with how many groups speak for it, and what to ask instead to
// have them agree.
type Cause struct {
	Kind   string `json:"kind"` // one of the kinds below
	Says   string `json:"says"`
	Groups int64  `json:"groups"` // that would agree
	Of     int64  `json:"of"`     // that do not agree
	// What to ask instead; empty where that does not change.
	Factor       string   `json:"factor,omitempty"`
	Tolerance    string   `json:"tolerance,omitempty"`
	By           []string `json:"by,omitempty"`
	ByThere      []string `json:"by_there,omitempty"`
	Where        string   `json:"where,omitempty"`
	WhereThere   string   `json:"where_there,omitempty"`
	ShiftedUnits int      `json:"shifted,omitempty"` // periods that those there are later
}

// The kinds of causes.
const (
	causeFactor    = "factor"
	causeSign      = "sign"
	causeDoubled   = "doubled"
	causeRounding  = "rounding"
	causeSpelling  = "spelling"
	causeMonth     = "month"
	causeShift     = "shifted_period"
	causeAbsent    = "absent_value"
	causeTotalsRow = "totals_row"
)

const (
	// causeShare is the share of the groups that do not agree which a cause must explain, and causeGroups how many at the least.
	causeShare, causeGroups = 0.5, 3
	absentShown             = 3
)

// causes looks for what groups that do not agree have in common.
func (t *Totals) causes(all, apart []TotalPair, here, there *side) []Cause {
	if len(apart) == 0 {
		return []Cause{}
	}
	l := &looking{t: t, all: all, apart: apart, here: here, there: there}
	out := []Cause{}
	for _, look := range []func() []Cause{l.factor, l.rounding, l.keys, l.shifted, l.totalsRows, l.absent, l.doubled} {
		found := look()
		out = append(out, found...)
	}
	slices.SortStableFunc(out, func(a, b Cause) int { return cmp.Or(cmp.Compare(b.asks(), a.asks()), cmp.Compare(b.Groups, a.Groups)) })
	return out
}

// asks is 1 where a cause says what to ask instead.
func (c *Cause) asks() int {
	if c.Factor != "" || c.Tolerance != "" || c.By != nil || c.Where != "" || c.WhereThere != "" {
		return 1
	}
	return 0
}

// looking is a search for causes.
type looking struct {
	t           *Totals
	all, apart  []TotalPair
	here, there *side
}

func (l *looking) many(n, of int) bool {
	return n >= causeGroups && float64(n) >= causeShare*float64(of)
}

// both are the groups that both sides have, and that do not agree.
func (l *looking) both() []TotalPair {
	var out []TotalPair
	for _, p := range l.apart {
		if p.here != nil && p.there != nil {
			out = append(out, p)
		}
	}
	return out
}

// factor finds the number by which most totals there would have to be multiplied.
func (l *looking) factor() []Cause {
	both := l.both()
	ratio, ok := ratioOf(both)
	if !ok {
		return nil
	}
	n := l.timesAgree(both, ratio)
	if !l.many(n, len(both)) {
		return nil
	}
	c := Cause{Kind: causeFactor, Groups: int64(n), Of: int64(len(l.apart)), Factor: l.t.Factor.Mul(ratio).Shortest(),
		Says: fmt.Sprintf("%s would agree if those there were multiplied by %s, as where one side counts in another unit.", document.Counted(int64(n), "total", "totals"), ratio.Shortest())}
	if ratio.Neg().Cmp(table.DecimalOf(1, 0)) == 0 {
		c.Kind, c.Factor, c.Says = causeSign, "", fmt.Sprintf("%s the same with the other sign.", document.Counted(int64(n), "total is", "totals are"))
	}
	return []Cause{c}
}

// rounding finds that one side is rounded, its totals or what they were added up of.
func (l *looking) rounding() []Cause {
	both := l.both()
	places := func(of func(p TotalPair) table.Decimal) (most int) {
		for _, p := range both {
			most = max(most, of(p).Places())
		}
		return most
	}
	mine := func(p TotalPair) table.Decimal { return p.here.sum }
	theirs := func(p TotalPair) table.Decimal { return p.there.sum }
	a, b := places(mine), places(theirs)
	if a == b {
		return nil
	}
	exact, rounded, to, where := mine, theirs, b, "there"
	if a < b {
		exact, rounded, to, where = theirs, mine, a, "here"
	}
	whole, inRows := 0, 0
	half := table.DecimalOf(5, to+1)
	var widest table.Decimal
	for _, p := range both {
		if exact(p).Round(to).Cmp(rounded(p)) == 0 {
			whole++
		}
		apart := exact(p).Sub(rounded(p)).Abs()
		limit := half.Times(max(p.RowsHere, p.RowsThere))
		if apart.Cmp(limit) <= 0 && 20*limit.Float() <= exact(p).Abs().Float() {
			inRows++
			if apart.Cmp(widest) > 0 {
				widest = apart
			}
		}
	}
	decimals := document.Counted(int64(to), "decimal", "decimals")
	switch {
	case l.many(whole, len(both)):
		return []Cause{{Kind: causeRounding, Groups: int64(whole), Of: int64(len(l.apart)), Tolerance: half.Shortest(),
			Says: fmt.Sprintf("%s the same once rounded to %s, as they are %s.", document.Counted(int64(whole), "total is", "totals are"), decimals, where)}}
	case l.many(inRows, len(both)):
		return []Cause{{Kind: causeRounding, Groups: int64(inRows), Of: int64(len(l.apart)), Tolerance: widest.Shortest(),
			Says: fmt.Sprintf("%s as far apart as rows that were rounded to %s %s before they were added up may be.", document.Counted(int64(inRows), "total is", "totals are"), decimals, where)}}
	}
	return nil
}

const totalsKey = "\x1f"

// would counts the groups here that would agree with one there, were their keys made alike first, and if that takes another factor,
// says which. Those that no key is alike to, or several are, do not count.
func (l *looking) would(here, there func(key []string) ([]string, bool)) (n int, factor string) {
	others := map[string][]*group{}
	for _, p := range l.all {
		if p.there == nil {
			continue
		}
		if key, ok := there(p.there.key); ok {
			others[strings.Join(key, totalsKey)] = append(others[strings.Join(key, totalsKey)], p.there)
		}
	}
	var pairs []TotalPair
	for _, p := range l.apart {
		if p.here == nil || p.here.sum.Sign() == 0 {
			continue
		}
		key, ok := here(p.here.key)
		if !ok {
			continue
		}
		if found := others[strings.Join(key, totalsKey)]; len(found) == 1 {
			pairs = append(pairs, TotalPair{here: p.here, there: found[0]})
		}
	}
	for i := range pairs {
		if l.t.agrees(&pairs[i]) {
			n++
		}
	}
	if ratio, ok := ratioOf(pairs); ok {
		if times := l.timesAgree(pairs, ratio); times > n {
			return times, l.t.Factor.Mul(ratio).Shortest()
		}
	}
	return n, ""
}

// ratioOf is the number by which most totals there would have to be multiplied, to six digits; false where that is none, or one.
func ratioOf(pairs []TotalPair) (table.Decimal, bool) {
	var ratios []float64
	for _, p := range pairs {
		if p.there.sum.Sign() != 0 && p.here.sum.Sign() != 0 {
			ratios = append(ratios, p.here.sum.Float()/p.there.sum.Float())
		}
	}
	if len(ratios) < causeGroups {
		return table.Decimal{}, false
	}
	slices.Sort(ratios)
	ratio, ok := table.ParseDecimal(fmt.Sprintf("%.6g", ratios[len(ratios)/2]))
	return ratio, ok && ratio.Sign() != 0 && ratio.Sub(table.DecimalOf(1, 0)).Abs().Float() >= 1e-5
}

// timesAgree counts the pairs that would agree were those there multiplied by a number.
func (l *looking) timesAgree(pairs []TotalPair, ratio table.Decimal) (n int) {
	for _, p := range pairs {
		would := p.there.sum.Mul(ratio)
		if apart := p.here.sum.Sub(would).Abs(); apart.Cmp(l.t.Tolerance) <= 0 || apart.Float() <= 1e-5*would.Abs().Float() {
			n++
		}
	}
	return n
}

// multiplied says that the totals there have to be multiplied too.
func multiplied(factor string) string {
	if factor == "" {
		return ""
	}
	return ", and those there were multiplied by " + factor
}

// ofHere counts the groups here that do not agree.
func (l *looking) ofHere() (n int) {
	for _, p := range l.apart {
		if p.here != nil {
			n++
		}
	}
	return n
}

// expressed writes parts as an expression has them, where they are of a kind.
func expressed(says []string, parts []keyPart, kind func(table.Kind) bool, expression string) []string {
	out := slices.Clone(says)
	for k, p := range parts {
		if function, _, _ := strings.Cut(expression, "%"); kind(p.kind) && !strings.HasPrefix(says[k], function) {
			out[k] = fmt.Sprintf(expression, says[k])
		}
	}
	return out
}

// keys finds that groups would agree, were their keys spelled alike or their days those of their month.
func (l *looking) keys() (out []Cause) {
	fold := func(key []string) ([]string, bool) {
		level := make([]string, len(key))
		for k, text := range key {
			level[k] = table.Fold(text)
		}
		return level, true
	}
	if n, factor := l.would(fold, fold); l.many(n, l.ofHere()) {
		texts := func(k table.Kind) bool { return k == table.Text || k == table.Missing }
		out = append(out, Cause{Kind: causeSpelling, Groups: int64(n), Of: int64(len(l.apart)), Factor: factor,
			By: expressed(l.t.Here.By, l.here.by, texts, "LOWER(TRIM(%s))"), ByThere: expressed(l.t.There.By, l.there.by, texts, "LOWER(TRIM(%s))"),
			Says: fmt.Sprintf("%s would agree if spaces, case and signs in the names of groups were levelled%s.", document.Counted(int64(n), "total", "totals"), multiplied(factor))})
	}
	month := l.later("month", 0)
	if month == nil {
		return out
	}
	if n, factor := l.would(month, month); l.many(n, l.ofHere()) {
		out = append(out, Cause{Kind: causeMonth, Groups: int64(n), Of: int64(len(l.apart)), Factor: factor,
			By: expressed(l.t.Here.By, l.here.by, timed, "DATE_TRUNC('month', %s)"), ByThere: expressed(l.t.There.By, l.there.by, timed, "DATE_TRUNC('month', %s)"),
			Says: fmt.Sprintf("%s would agree if days stood for their month, as its first and its last day do%s.", document.Counted(int64(n), "total", "totals"), multiplied(factor))})
	}
	return out
}

// later returns what moves the times of a key by so many units, and to the first day of a month for months; nil where it has none.
func (l *looking) later(unit string, by int) func(key []string) ([]string, bool) {
	at := slices.IndexFunc(l.here.by, func(p keyPart) bool { return timed(p.kind) })
	if at < 0 {
		return nil
	}
	return func(key []string) ([]string, bool) {
		day, ok := dayOf(keyPart{}, key[at])
		if !ok {
			return nil, false
		}
		when, err := time.Parse(time.DateOnly, day)
		if err != nil {
			return nil, false
		}
		moved := slices.Clone(key)
		switch unit {
		case "day":
			moved[at] = when.AddDate(0, 0, by).Format(time.DateOnly)
		case "month":
			moved[at] = when.AddDate(0, by, 1-when.Day()).Format("2006-01")
		case "year":
			moved[at] = when.AddDate(by, 0, 0).Format(time.DateOnly)
		}
		return moved, true
	}
}

// shifted finds that the periods of one side are a day, month or year later.
func (l *looking) shifted() []Cause {
	var best Cause
	for _, unit := range []string{"month", "day", "year"} {
		for _, by := range []int{1, -1} {
			here, there := l.later(unit, by), l.later(unit, 0)
			if here == nil {
				return nil
			}
			if n, factor := l.would(here, there); l.many(n, l.ofHere()) && int64(n) > best.Groups {
				word := map[int]string{1: "after", -1: "before"}[by]
				best = Cause{Kind: causeShift, Groups: int64(n), Of: int64(len(l.apart)), ShiftedUnits: by, Factor: factor,
					Says: fmt.Sprintf("%s there stand one %s %s those here that they would agree with%s.", document.Counted(int64(n), "total", "totals"), unit, word, strings.TrimPrefix(multiplied(factor), ","))}
			}
		}
	}
	if best.Groups == 0 {
		return nil
	}
	return []Cause{best}
}

// oneSided is a side with the groups that it has.
type oneSided struct {
	of    func(p *TotalPair) *group
	where string
	by    []string
	parts []keyPart
}

func (l *looking) sides() []oneSided {
	return []oneSided{{func(p *TotalPair) *group { return p.here }, "here", l.t.Here.By, l.here.by},
		{func(p *TotalPair) *group { return p.there }, "there", l.t.There.By, l.there.by}}
}

// values are the values of a part of the key that one side has.
func (l *looking) values(s oneSided, k int) map[string]bool {
	out := map[string]bool{}
	for i := range l.all {
		if g := s.of(&l.all[i]); g != nil {
			out[g.key[k]] = true
		}
	}
	return out
}

// totalsRows finds groups that are the sums of all others, as totals lines are.
func (l *looking) totalsRows() (out []Cause) {
	for at, s := range l.sides() {
		other := l.sides()[1-at]
		for k := range s.parts {
			known := l.values(other, k)
			sums := map[string]map[string]table.Decimal{} // by the rest of the key and then the value
			for i := range l.all {
				g := s.of(&l.all[i])
				if g == nil {
					continue
				}
				rest := strings.Join(slices.Concat(g.key[:k], g.key[k+1:]), totalsKey)
				if sums[rest] == nil {
					sums[rest] = map[string]table.Decimal{}
				}
				sums[rest][g.key[k]] = g.sum
			}
			for _, value := range slices.Sorted(maps.Keys(l.values(s, k))) {
				if known[value] || value == "" {
					continue
				}
				n, holds := 0, true
				for _, rest := range slices.Sorted(maps.Keys(sums)) {
					total, there := sums[rest][value]
					if !there {
						continue
					}
					var parts table.Decimal
					for v, sum := range sums[rest] {
						if v != value {
							parts = parts.Add(sum)
						}
					}
					n++
					holds = holds && len(sums[rest]) > 2 && total.Cmp(parts) == 0
				}
				if !holds || n == 0 {
					continue
				}
				c := Cause{Kind: causeTotalsRow, Groups: int64(n), Of: int64(len(l.apart)), Says: fmt.Sprintf("%q of %s %s is the sum of all others, as a totals line is.", value, s.by[k], s.where)}
				if p := s.parts[k]; p.kind == table.Text {
					where := fmt.Sprintf("%s <> '%s'", p.says, strings.ReplaceAll(value, "'", "''"))
					if p.column >= 0 {
						where = fmt.Sprintf("\"%s\" <> '%s'", strings.ReplaceAll(p.says, `"`, `""`), strings.ReplaceAll(value, "'", "''"))
					}
					if s.where == "here" {
						c.Where = where
					} else {
						c.WhereThere = where
					}
				}
				out = append(out, c)
			}
		}
	}
	return out
}

// absent finds values of a part of the key that one side does not have in any group.
func (l *looking) absent() (out []Cause) {
	if len(l.t.Here.By) < 2 {
		return nil // of a single part the list of groups says so
	}
	for at, s := range l.sides() {
		other := l.sides()[1-at]
		for k := range s.parts {
			known := l.values(other, k)
			groups := map[string]int64{}
			for i := range l.apart {
				if g := s.of(&l.apart[i]); g != nil && !known[g.key[k]] {
					groups[g.key[k]]++
				}
			}
			values := slices.SortedFunc(maps.Keys(groups), func(a, b string) int { return cmp.Or(cmp.Compare(groups[b], groups[a]), cmp.Compare(a, b)) })
			if len(values) == 0 || len(values) == len(l.values(s, k)) {
				continue
			}
			var n int64
			for _, count := range groups {
				n += count
			}
			quoted := make([]string, min(len(values), absentShown))
			for i := range quoted {
				quoted[i] = fmt.Sprintf("%q", values[i])
			}
			says := strings.Join(quoted, ", ")
			if more := len(values) - len(quoted); more > 0 {
				says += fmt.Sprintf(" and %d more", more)
			}
			out = append(out, Cause{Kind: causeAbsent, Groups: n, Of: int64(len(l.apart)),
				Says: fmt.Sprintf("%s of %s %s in no group %s: %s.", document.Counted(int64(len(values)), "value", "values"), s.by[k], document.Plural(int64(len(values)), "is", "are"), other.where, says)})
		}
	}
	return out
}

// doubled finds totals that are exactly twice those of the other side.
func (l *looking) doubled() (out []Cause) {
	two := table.DecimalOf(2, 0)
	both := l.both()
	here, there := 0, 0
	for _, p := range both {
		switch {
		case p.here.sum.Sign() == 0 || p.there.sum.Sign() == 0:
		case p.here.sum.Cmp(p.there.sum.Mul(two)) == 0:
			here++
		case p.there.sum.Cmp(p.here.sum.Mul(two)) == 0:
			there++
		}
	}
	for where, n := range map[string]int{"here": here, "there": there} {
		if n > 0 && n < len(both) && !l.many(n, len(both)) || n > 0 && len(both) < causeGroups {
			out = append(out, Cause{Kind: causeDoubled, Groups: int64(n), Of: int64(len(l.apart)),
				Says: fmt.Sprintf("%s %s exactly twice that of the other side, as where rows are counted twice.", document.Counted(int64(n), "total", "totals"), document.Plural(int64(n), where+" is", where+" are"))})
		}
	}
	slices.SortFunc(out, func(a, b Cause) int { return cmp.Compare(a.Says, b.Says) })
	return out
}
