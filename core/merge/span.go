package merge

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Between has rows meet those of the joined table whose range their value lies in, the first value of it and the last one
// included. A range without a beginning or an end is open there.
type Between struct {
	Left     string // a column of the rows so far, or an expression on them
	From, To string // of the joined table
	Before   bool   // the last value is not in the range
}

// Nearest has rows meet that of the joined table which is the nearest earlier one in time, or at the same time.
type Nearest struct {
	Left, Right string
	Within      time.Duration // the longest time between the two
}

const (
	betweenForm = "valid_from to valid_to, or valid_from to before valid_to where the last value is not in it"
	// spanBytes is what a row of a joined table takes beside its key where ranges or times are compared.
	spanBytes = 72
)

var (
	withinForm   = regexp.MustCompile(`^([1-9][0-9]{0,5}) (second|minute|hour|day|week)s?$`)
	withinPeriod = map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour, "week": 7 * 24 * time.Hour}
	rangeForm    = regexp.MustCompile(`^(.+?) to (before )?(.+)$`)
)

// parseWithin reads the longest time between two rows, as 2 hours.
func parseWithin(text string) (time.Duration, error) {
	m := withinForm.FindStringSubmatch(text)
	if m == nil {
		return 0, fmt.Errorf("within is the longest time between two rows, as 2 hours, not %q", text)
	}
	n, _ := strconv.Atoi(m[1])
	return time.Duration(n) * withinPeriod[m[2]], nil
}

// span is what the rows of a joined table hold for: a range, or a time from which on the nearest one is looked for. All of it is in
// memory.
type span struct {
	nearest bool
	within  int64 // microseconds
	before  bool  // the last value of a range is not in it
	left    keyPart
	right   []keyPart // the range's two ends, or the time
	starts  []string  // of each row, in a form whose bytes are in the order of the values; "" where a range is open
	ends    []string
	times   []int64 // of each row, in microseconds
	// furthest says, by the place of a row among the keys, which of the rows of its key up to it reaches furthest.
	furthest []uint32
	unplaced int64 // rows of the joined table whose range or time is no value of its type
}

// spanning fits what a join compares beside keys to both sides; nil where it compares keys alone.
func (j Join) spanning(left, right *frame) (*span, error) {
	s := &span{}
	var names []string
	var mine string
	switch {
	case j.Between != nil:
		mine, names, s.before = j.Between.Left, []string{j.Between.From, j.Between.To}, j.Between.Before
	case j.Nearest != nil:
		mine, names = j.Nearest.Left, []string{j.Nearest.Right}
		s.nearest, s.within = true, j.Nearest.Within.Microseconds()
	default:
		return nil, nil
	}
	var err error
	if s.left, err = left.part(mine, "the table so far"); err != nil {
		return nil, err
	}
	for _, name := range names {
		p, err := right.part(name, j.With)
		if err != nil {
			return nil, err
		}
		switch {
		case s.nearest && !(timed(p.kind) && timed(s.left.kind)):
			return nil, fmt.Errorf("%s of the table so far is a %s, and %s of %s is a %s; the nearest is looked for among dates and datetimes", s.left.says, s.left.kind, p.says, j.With, p.kind)
		case s.nearest:
		case p.kind == table.Missing || s.left.kind == table.Missing:
			return nil, fmt.Errorf("%s of the table so far and %s of %s must both be declared, so that it is known what lies between", s.left.says, p.says, j.With)
		case p.kind != s.left.kind && !(timed(p.kind) && timed(s.left.kind)):
			return nil, fmt.Errorf("%s of the table so far is a %s, and %s of %s is a %s; %s", s.left.says, s.left.kind, p.says, j.With, p.kind, j.alike(s.left, p))
		}
		s.right = append(s.right, p)
	}
	return s, nil
}

// valuesOf are the values of a part in a batch, by code.
func (p keyPart) valuesOf(b *table.Batch, f *frame) (values []table.Value, texts []string, codes []uint32) {
	if p.expression != nil {
		values, codes = p.expression.Evaluator(condition.NewMemory(1)).Values(rulebook.Batch{Batch: b, Names: f.names, Cells: f.cells})
		texts = make([]string, len(values))
		for i, v := range values {
			texts[i] = v.Identity()
		}
		return values, texts, codes
	}
	column := b.Columns[p.column]
	values = make([]table.Value, len(column.Texts))
	for i, text := range column.Texts {
		values[i] = p.cells.Read(text).Value
	}
	return values, column.Texts, column.Codes
}

// placed is what the rows of a batch of the joined table hold for.
type placed struct {
	starts, ends []string
	times        []int64
	none         []bool // its range or time is no value of its type, or it has no time
}

// place reads what the rows of a batch of the joined table hold for.
func (s *span) place(b *table.Batch, there *frame) placed {
	p := placed{none: make([]bool, b.Len())}
	ends := []*[]string{&p.starts, &p.ends}
	for k, part := range s.right {
		values, texts, codes := part.valuesOf(b, there)
		if s.nearest {
			p.times = make([]int64, b.Len())
			for i, code := range codes {
				p.times[i], p.none[i] = micros(values[code]), values[code].Kind == table.Missing
			}
			return p
		}
		ordered := make([]string, len(values))
		for code, v := range values {
			if v.Kind == table.Date && k == 1 && s.left.kind == table.Instant && !s.before { // all of the last day is in it
				v = table.InstantValue(micros(v) + 86_400_000_000 - 1)
			}
			if v.Kind != table.Missing {
				ordered[code] = string(table.AppendOrdered(nil, v, texts[code], false))
			}
		}
		*ends[k] = make([]string, b.Len())
		for i, code := range codes {
			(*ends[k])[i] = ordered[code]
			p.none[i] = p.none[i] || values[code].Mistyped()
		}
	}
	return p
}

// micros is the time of a date, at its beginning, or a datetime.
func micros(v table.Value) int64 {
	if v.Kind == table.Date {
		return v.When * 86_400_000_000
	}
	return v.When
}

// take adds the rows of a batch.
func (s *span) take(p *placed) {
	s.starts, s.ends, s.times = append(s.starts, p.starts...), append(s.ends, p.ends...), append(s.times, p.times...)
	for _, none := range p.none {
		if none {
			s.unplaced++
		}
	}
}

// order puts the rows of each key in the order of their ranges or times.
func (s *span) order(keys *keyIndex) {
	s.furthest = make([]uint32, keys.rows)
	at := 0
	_ = keys.groups(func(group []table.HashedRow) bool { // they are in memory
		slices.SortFunc(group, func(a, b table.HashedRow) int {
			if s.nearest {
				return cmp.Or(cmp.Compare(s.times[a.Row], s.times[b.Row]), cmp.Compare(a.Row, b.Row))
			}
			return cmp.Or(cmp.Compare(s.starts[a.Row], s.starts[b.Row]), cmp.Compare(a.Row, b.Row))
		})
		if !s.nearest {
			for k, row := range group {
				s.furthest[at+k] = row.Row
				if k > 0 && s.reaches(s.furthest[at+k-1], row.Row) {
					s.furthest[at+k] = s.furthest[at+k-1]
				}
			}
		}
		at += len(group)
		return true
	})
}

// reaches reports whether the range of a row ends where that of another does, or later.
func (s *span) reaches(a, b uint32) bool {
	return s.ends[a] == "" || s.ends[b] != "" && s.ends[a] >= s.ends[b]
}

// holds reports whether a value that is not before the beginning of a row's range is in it.
func (s *span) holds(row uint32, value string) bool {
	end := s.ends[row]
	return end == "" || value < end || value == end && !s.before
}

// ambiguous returns two rows of one key, by their numbers, that one value could be in; they are equal where none are.
func (s *span) ambiguous(keys *keyIndex) (a, b uint32) {
	at := 0
	_ = keys.groups(func(group []table.HashedRow) bool { // they are in memory
		for k := 1; k < len(group) && a == b; k++ {
			row := group[k].Row
			before := group[k-1].Row
			meets := s.nearest && s.times[row] == s.times[before]
			if !s.nearest {
				before = s.furthest[at+k-1]
				meets = s.holds(before, s.starts[row]) && s.holds(row, s.starts[row])
			}
			if meets {
				a, b = min(row, before)+1, max(row, before)+1
			}
		}
		at += len(group)
		return a == b
	})
	return a, b
}

// find returns the rows among those of one key that hold for a value, by their numbers.
func (s *span) find(rows []table.HashedRow, from int, v table.Value, value string) (found []table.HashedRow) {
	if s.nearest {
		when := micros(v)
		to, _ := slices.BinarySearchFunc(rows, when, func(row table.HashedRow, when int64) int {
			if s.times[row.Row] <= when {
				return -1
			}
			return 1
		})
		if to == 0 || when-s.times[rows[to-1].Row] > s.within {
			return nil
		}
		first := to - 1
		for first > 0 && s.times[rows[first-1].Row] == s.times[rows[to-1].Row] {
			first--
		}
		return slices.Clone(rows[first:to])
	}
	to, _ := slices.BinarySearchFunc(rows, value, func(row table.HashedRow, value string) int {
		if s.starts[row.Row] <= value {
			return -1
		}
		return 1
	})
	for k := to - 1; k >= 0 && s.holds(s.furthest[from+k], value); k-- {
		if s.holds(rows[k].Row, value) {
			found = append(found, rows[k])
		}
	}
	slices.SortFunc(found, func(a, b table.HashedRow) int { return cmp.Compare(a.Row, b.Row) })
	return found
}

// says tells what is compared beside the key.
func (j Join) spans() string {
	switch {
	case j.Between != nil:
		to := " to "
		if j.Between.Before {
			to = " to before "
		}
		return fmt.Sprintf("%s between %s%s%s", j.Between.Left, j.Between.From, to, j.Between.To)
	case j.Nearest != nil:
		return fmt.Sprintf("%s at or after %s, within %s", j.Nearest.Left, j.Nearest.Right, durationSays(j.Nearest.Within))
	}
	return ""
}

func durationSays(d time.Duration) string {
	for _, unit := range []string{"week", "day", "hour", "minute", "second"} {
		if n := d / withinPeriod[unit]; d%withinPeriod[unit] == 0 && n > 0 {
			return strings.TrimSuffix(fmt.Sprintf("%d %ss", n, unit), map[bool]string{true: "s"}[n == 1])
		}
	}
	return d.String()
}

// spanReader reads the values of the rows before a join by which ranges or times are looked for.
type spanReader struct {
	values  []table.Value
	texts   []string
	ordered []string
	codes   []uint32
}

func (s *span) reader(b *table.Batch, before *frame) *spanReader {
	r := &spanReader{}
	r.values, r.texts, r.codes = s.left.valuesOf(b, before)
	if s.nearest {
		return r
	}
	r.ordered = make([]string, len(r.values))
	for code, v := range r.values {
		if v.Kind != table.Missing {
			r.ordered[code] = string(table.AppendOrdered(nil, v, r.texts[code], false))
		}
	}
	return r
}

// timed reports whether a kind of value is a time.
func timed(k table.Kind) bool { return k == table.Date || k == table.Instant }
