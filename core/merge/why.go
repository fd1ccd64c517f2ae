package merge

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// Why says why keys of a join do not meet: what would have to be levelled for them to.
type Why struct {
	Levelling string `json:"levelling"`
	Says      string `json:"says"`
	// Keys and Rows are those that meet nothing, and would then; each counts for the mildest levelling that does it.
	Keys int64 `json:"keys"`
	Rows int64 `json:"rows"`
	// Asked is how many rows of the joined table, which no row asks for, would be asked for then.
	Asked int64 `json:"asked"`
	// Several is how many of the keys would meet more than one key of the joined table: levelled, what is different there
	// would count as one thing.
	Several int64 `json:"several"`
	// Left and Right are what to match instead, where an expression levels it, and Step the kind of step in the fix plan of
	// either side, where one does.
	Left     []string  `json:"left,omitempty"`
	Right    []string  `json:"right,omitempty"`
	Step     string    `json:"step,omitempty"`
	Examples []KeyPair `json:"examples"`
}

// KeyPair is a key that meets nothing with the one that it would meet.
type KeyPair struct {
	Key   string `json:"key"`
	Meets string `json:"meets"`
}

const (
	pairsShown = 3
	// slipKeys is how many keys typing slips are looked for among, and slipLetters how long a key is for that at the least.
	slipKeys, slipLetters = 5000, 4
)

// levelling is a way in which two keys may be one.
type levelling struct {
	name, says string
	// left and right level a part of a key; false where they do not apply to it.
	left, right func(p keyPart, text string) (string, bool)
	expression  string // with %s for a part, where one levels it
	step        string
}

func both(f func(p keyPart, text string) (string, bool)) (left, right func(p keyPart, text string) (string, bool)) {
	return f, f
}

var (
	zerosBefore = regexp.MustCompile(`(^|[^0-9])0+([0-9])`)
	isoDay      = regexp.MustCompile(`^(\d{4}-\d\d-\d\d)([T ]\d\d:\d\d(:\d\d(\.\d+)?)?)?$`)
)

func collapsed(text string) string { return strings.Join(strings.Fields(text), " ") }

func dayOf(_ keyPart, text string) (string, bool) {
	m := isoDay.FindStringSubmatch(text)
	if m == nil {
		return "", false
	}
	return m[1], true
}

// monthOf returns the month of a day, so many later.
func monthOf(later int) func(p keyPart, text string) (string, bool) {
	return func(p keyPart, text string) (string, bool) {
		day, ok := dayOf(p, text)
		if !ok {
			return "", false
		}
		when, err := time.Parse(time.DateOnly, day)
		if err != nil {
			return "", false
		}
		return when.AddDate(0, later, 1-when.Day()).Format("2006-01"), true
	}
}

// numberOf reads a number with a comma or a point.
func numberOf(_ keyPart, text string) (string, bool) {
	text = strings.ReplaceAll(collapsed(text), " ", "")
	if strings.Count(text, ",") == 1 && !strings.Contains(text, ".") {
		text = strings.Replace(text, ",", ".", 1)
	}
	d, ok := table.ParseDecimal(text)
	if !ok {
		return "", false
	}
	return d.Shortest(), true
}

// levellings are tried in this order: a key counts for the first that makes it meet.
func (j *joiner) levellings() []levelling {
	code := j.codes()
	out := []levelling{
		{name: "spaces", says: "spaces are levelled", expression: "TRIM(%s)", step: "trim"},
		{name: "case", says: "upper and lower case are levelled too", expression: "LOWER(TRIM(%s))", step: "change_case"},
		{name: "number_form", says: "numbers are read as numbers, however they are written", expression: "CAST(%s AS DECIMAL)", step: "standard_form"},
		{name: "day", says: "the time of day is left out", expression: "CAST(%s AS DATE)"},
		{name: "zeros", says: "zeros before numbers are left out", step: "strip_zeros"},
		{name: "code", says: "labels stand for their codes", step: "map_codes"},
		{name: "accents", says: "accents and everything but letters and digits are left out", step: "replace"},
		{name: "month", says: "days stand for their month, as the first and the last of it do", expression: "DATE_TRUNC('month', %s)"},
		{name: "month_later", says: "months are shifted: those of the table so far are one before those that they would meet"},
		{name: "month_earlier", says: "months are shifted: those of the table so far are one after those that they would meet"},
	}
	for i := range out {
		l := &out[i]
		switch l.name {
		case "spaces":
			l.left, l.right = both(func(_ keyPart, text string) (string, bool) { return collapsed(text), true })
		case "case":
			l.left, l.right = both(func(_ keyPart, text string) (string, bool) { return strings.ToLower(collapsed(text)), true })
		case "number_form":
			l.left, l.right = both(numberOf)
		case "day":
			l.left, l.right = both(dayOf)
		case "zeros":
			l.left, l.right = both(func(_ keyPart, text string) (string, bool) {
				return zerosBefore.ReplaceAllString(strings.ToLower(collapsed(text)), "$1$2"), true
			})
		case "code":
			l.left, l.right = both(func(_ keyPart, text string) (string, bool) {
				is, ok := code[table.Fold(text)]
				return is, ok
			})
		case "accents":
			l.left, l.right = both(func(_ keyPart, text string) (string, bool) { return table.Fold(text), true })
		case "month":
			l.left, l.right = both(monthOf(0))
		case "month_later":
			l.left, l.right = monthOf(1), monthOf(0)
		case "month_earlier":
			l.left, l.right = monthOf(-1), monthOf(0)
		}
	}
	return out
}

// says tells of a levelling by its name.
func says(name string) string {
	for _, l := range (&joiner{}).levellings() {
		if l.name == name {
			return l.says
		}
	}
	return slipSays
}

const slipSays = "one letter is another one, missing, too many or in another place"

// codes are the codes of both sides' lists by their labels and spellings, folded.
func (j *joiner) codes() map[string]string {
	out := map[string]string{}
	for _, p := range slices.Concat(j.left, j.right) {
		if p.cells == nil {
			continue
		}
		list := p.cells.Codes()
		if list == nil {
			continue
		}
		for _, c := range list.Codes {
			for _, text := range append([]string{c.Label, c.Code}, c.Spellings...) {
				if level := table.Fold(text); level != "" {
					out[level] = table.Fold(c.Code)
				}
			}
		}
	}
	return out
}

// levelled levels a key; false where a part is none that it applies to, or nothing is left of one.
func levelled(parts []keyPart, key string, level func(p keyPart, text string) (string, bool)) (string, bool) {
	texts := strings.Split(key, keySeparator)
	for k := range texts {
		text := texts[k]
		if parts[k].column >= 0 && parts[k].cells != nil {
			text = parts[k].identity(text)
		}
		now, ok := level(parts[k], text)
		if !ok || now == "" {
			return "", false
		}
		texts[k] = now
	}
	return strings.Join(texts, keySeparator), true
}

// met is what a key that meets nothing would meet, by one levelling.
type met struct {
	first   string
	several bool
}

// why looks through the joined table for what the keys that meet nothing would meet, once they are levelled.
func (j *joiner) why(ctx context.Context, misses map[string]int64, workers int) ([]Why, map[string]string, error) {
	ways := j.levellings()
	wanted := make([]map[string][]string, len(ways)) // by levelled key
	for w := range ways {
		wanted[w] = map[string][]string{}
		for _, key := range slices.Sorted(maps.Keys(misses)) {
			if level, ok := levelled(j.left, key, ways[w].left); ok {
				wanted[w][level] = append(wanted[w][level], key)
			}
		}
	}
	slips := slipsOf(misses)
	type found struct {
		met   []map[string]met // by levelling, then key; the slips last
		asked []map[string]int64
	}
	fresh := func() *found {
		f := &found{}
		for range len(ways) + 1 {
			f.met, f.asked = append(f.met, map[string]met{}), append(f.asked, map[string]int64{})
		}
		return f
	}
	add := func(f *found, w int, key, theirs string, rows int64) {
		one, known := f.met[w][key]
		if !known {
			one.first = theirs
		}
		one.several = one.several || known && one.first != theirs
		f.met[w][key] = one
		f.asked[w][key] += rows
	}
	all := fresh()
	err := table.ScanBatches(ctx, j.in.Source, workers, func(b *table.Batch) (*found, error) {
		f, keys := fresh(), newKeyReader(b, j.there, j.right, true)
		rows := map[string]int64{}
		for i := range b.Rows {
			rows[keys.text(i)]++
		}
		for _, theirs := range slices.Sorted(maps.Keys(rows)) {
			for w := range ways {
				if len(wanted[w]) == 0 {
					continue
				}
				if level, ok := levelled(j.right, theirs, ways[w].right); ok {
					for _, key := range wanted[w][level] {
						add(f, w, key, theirs, rows[theirs])
					}
				}
			}
			for _, key := range slips.near(theirs) {
				add(f, len(ways), key, theirs, rows[theirs])
			}
		}
		return f, nil
	}, func(f *found) error {
		for w := range f.met {
			for _, key := range slices.Sorted(maps.Keys(f.met[w])) {
				one := f.met[w][key]
				add(all, w, key, one.first, f.asked[w][key])
				if one.several {
					whole := all.met[w][key]
					whole.several = true
					all.met[w][key] = whole
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	ways = append(ways, levelling{name: "slip", says: slipSays, step: "replace"})
	out, meets := []Why{}, map[string]string{}
	for w, way := range ways {
		one := Why{Levelling: way.name, Step: way.step, Examples: []KeyPair{}}
		for _, key := range slices.SortedFunc(maps.Keys(all.met[w]), func(a, b string) int {
			return cmp.Or(cmp.Compare(misses[b], misses[a]), cmp.Compare(a, b))
		}) {
			if _, met := meets[key]; met {
				continue // a milder levelling does it
			}
			m := all.met[w][key]
			meets[key] = m.first
			one.Keys++
			one.Rows += misses[key]
			one.Asked += all.asked[w][key]
			if m.several {
				one.Several++
			}
			if len(one.Examples) < pairsShown {
				one.Examples = append(one.Examples, KeyPair{shownKey(key), shownKey(m.first)})
			}
		}
		if one.Keys == 0 {
			continue
		}
		if way.expression != "" {
			for k := range j.left {
				one.Left, one.Right = append(one.Left, fmt.Sprintf(way.expression, j.Left[k])), append(one.Right, fmt.Sprintf(way.expression, j.Right[k]))
			}
		}
		one.Says = fmt.Sprintf("%s would meet if %s", document.Counted(one.Rows, "row", "rows"), way.says)
		if one.Several > 0 {
			one.Says += fmt.Sprintf("; %s would meet several keys then, which are different things now", document.Counted(one.Several, "key", "keys"))
		}
		one.Says += "."
		out = append(out, one)
	}
	return out, meets, nil
}

// slips are keys in which one letter may be wrong. A digit is not looked for: numbers that differ in one are others.
type slips struct{ near func(theirs string) []string }

func slipsOf(misses map[string]int64) slips {
	by := map[string][]string{} // by what is left without one letter
	if len(misses) > slipKeys {
		return slips{func(string) []string { return nil }}
	}
	for _, key := range slices.Sorted(maps.Keys(misses)) {
		for _, v := range without(table.Level(key)) {
			by[v] = append(by[v], key)
		}
	}
	return slips{func(theirs string) []string {
		if len(by) == 0 {
			return nil
		}
		var out []string
		level := table.Level(theirs)
		for _, v := range without(level) {
			for _, key := range by[v] {
				if !slices.Contains(out, key) && isSlip(table.Level(key), level) {
					out = append(out, key)
				}
			}
		}
		return out
	}}
}

// without returns a text with each of its letters left out, and itself; nothing of a short one.
func without(text string) []string {
	letters := []rune(text)
	if len(letters) < slipLetters {
		return nil
	}
	out := []string{text}
	for i := range letters {
		out = append(out, string(letters[:i])+string(letters[i+1:]))
	}
	return out
}

// isSlip reports whether two texts differ by one letter that is another, missing, too many, or has changed places with the
// next, and in no digit.
func isSlip(a, b string) bool {
	digits := func(text string) string {
		return strings.Map(func(r rune) rune {
			if r >= '0' && r <= '9' {
				return r
			}
			return -1
		}, text)
	}
	if a == b || digits(a) != digits(b) {
		return false
	}
	x, y := []rune(a), []rune(b)
	if len(x) > len(y) {
		x, y = y, x
	}
	at := 0
	for at < len(x) && x[at] == y[at] {
		at++
	}
	rest := func(x, y []rune) bool { return string(x) == string(y) }
	switch {
	case len(x)+1 == len(y):
		return rest(x[at:], y[at+1:])
	case len(x) != len(y) || at == len(x):
		return false
	case rest(x[at+1:], y[at+1:]):
		return true
	}
	return at+1 < len(x) && x[at] == y[at+1] && x[at+1] == y[at] && rest(x[at+2:], y[at+2:])
}
