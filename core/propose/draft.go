package propose

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// evidence is what a proposal rests on: one or more deliveries, the last one first.
type evidence struct {
	Dataset string
	Reading intake.Reading
	Draft   *rulebook.Rulebook // by which the deliveries were read
	Past    []rulebook.Past
	// Keys are columns whose values named one row each, or nearly so; Measures are columns that are
	// summed, Dimensions those that group rows.
	Keys                 []seenKey
	Measures, Dimensions []string
	// NoEqualRows says that no delivery had two rows equal in every cell.
	NoEqualRows bool
}

// seenKey is what looks like a key, with the rows of all deliveries that speak against it.
type seenKey struct {
	Columns          []string
	Surplus, Lacking int64
}

// identifies reports whether a column alone looks like a key.
func (e *evidence) identifies(column string) bool {
	return slices.ContainsFunc(e.Keys, func(k seenKey) bool { return len(k.Columns) == 1 && k.Columns[0] == column })
}

// codesProposed is how many different texts a column may have to be proposed as one of codes.
const codesProposed = 60

// disguises are texts that often stand for a missing value.
var disguises = []string{"n/a", "na", "nan", "null", "none", "nil", "-", "--", "?", ".", "unknown", "missing",
	"not available", "-999", "-9999", "9999", "99999"}

// draft writes a rulebook with the evidence for each line beside it. It is cautious: what an
// honest delivery could break for bringing something new stands in a comment, for a steward to decide.
func draft(e *evidence) string {
	w := &proposal{evidence: e}
	w.Line("# Proposed from %s. A line that starts with # is a suggestion: what held so far, and need not hold tomorrow.", plural(len(e.Past), "delivery", "deliveries"))
	w.Line("dataset: %s", e.Dataset)
	w.Text.Reading(w.evidence.Reading)
	if found := w.disguised(); len(found) > 0 {
		w.Line("  # missing: [%s]   # these look as if they stood for nothing", rulebook.List(found))
	}
	w.Line("columns:")
	for i := range e.Draft.Columns {
		w.column(&e.Draft.Columns[i])
	}
	w.keys()
	w.codeLists()
	w.history()
	if len(e.Measures) > 0 {
		w.Line("measures: [%s]   # columns of numbers that are summed; they say what a finding costs", rulebook.List(e.Measures))
	}
	w.Line("pass_mark: 95   # the least score of a table that passes; decide what is good enough")
	return w.String()
}

type proposal struct {
	*evidence
	rulebook.Text
	lists []string // code lists, as lines
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// disguised finds texts that look as if they stood for a missing value.
func (w *proposal) disguised() []string {
	var found []string
	for _, p := range w.Past {
		for i := range p.Columns {
			c := &p.Columns[i]
			for _, t := range append(slices.Clone(c.Frequent), c.Exceptions...) {
				if slices.Contains(disguises, table.Level(t.Text)) && !slices.Contains(found, t.Text) &&
					!slices.Contains(w.evidence.Reading.Missing, t.Text) {
					found = append(found, t.Text)
				}
			}
		}
	}
	slices.Sort(found)
	return found
}

// seen gathers what all deliveries say of a column.
type seen struct {
	rows, filled, missing, mistyped int64
	in                              int // deliveries that have it
	lowest, highest                 string
	shortest, longest               int
	shapes                          map[string]bool
	values                          []string // all of them, where they are known
	counts                          map[string]int64
	known                           bool
}

func (w *proposal) seen(c *rulebook.Column) seen {
	s := seen{shapes: map[string]bool{}, known: true, shortest: -1}
	counts := map[string]int64{}
	for _, p := range w.Past {
		one := p.Column(c.Name)
		if one == nil {
			continue
		}
		s.in++
		s.rows += p.Rows
		s.filled += one.Filled
		s.missing += one.Missing
		s.mistyped += one.Mistyped
		s.lowest, s.highest = further(c.Type, s.lowest, one.Lowest, -1), further(c.Type, s.highest, one.Highest, 1)
		if one.Filled > 0 && (s.shortest < 0 || one.Shortest < s.shortest) {
			s.shortest = one.Shortest
		}
		s.longest = max(s.longest, one.Longest)
		for _, shape := range one.Shapes {
			s.shapes[shape.Text] = true
		}
		if one.MoreShapes {
			s.shapes["…"] = true
			s.shapes["……"] = true
		}
		texts, ok := one.All()
		s.known = s.known && ok
		for _, t := range texts {
			counts[t.Text] += t.Rows
		}
	}
	for text := range counts {
		s.values = append(s.values, text)
	}
	slices.Sort(s.values)
	s.counts = counts
	return s
}

// further returns the one of two values that lies further in a direction.
func further(t table.Type, a, b string, direction int) string {
	x, ok := table.StandardFormat.Parse(t, a)
	if !ok {
		return b
	}
	if y, ok := table.StandardFormat.Parse(t, b); ok && table.Compare(y, x)*direction > 0 {
		return b
	}
	return a
}

func (w *proposal) column(c *rulebook.Column) {
	s := w.seen(c)
	fields := []string{"name: " + rulebook.Quoted(c.Name)}
	var evidence []string
	coded := slices.Contains(w.Dimensions, c.Name) && c.Type == table.TypeText && s.known && len(s.values) > 1 &&
		len(s.values) <= codesProposed && s.filled >= int64(4*len(s.values))
	switch {
	case coded:
		list := w.list(c.Name, &s)
		fields = append(fields, "type: code", "codes: "+list, "new_codes: true")
		evidence = append(evidence,
			fmt.Sprintf("%d different texts, in the list below; new ones are told and cost nothing until new_codes goes", len(s.values)))
	case c.Type != table.TypeText:
		proposed, more := c.Type, ""
		if c.Type == table.TypeInteger {
			proposed, more = table.TypeDecimal, "; type integer would hold"
		}
		fields = append(fields, "type: "+string(proposed))
		evidence = append(evidence, fmt.Sprintf("%d of %d filled cells are of this type%s", s.filled-s.mistyped,
			s.filled, more))
	}
	if len(c.Dates) > 0 {
		fields = append(fields, "dates: "+rulebook.Quoted(c.Dates[0]))
	}
	if c.DecimalMark != "" {
		fields = append(fields, "decimal_mark: "+rulebook.Quoted(c.DecimalMark))
		if c.GroupingMark != "" {
			fields = append(fields, "grouping_mark: "+rulebook.Quoted(c.GroupingMark))
		}
	}
	switch {
	case w.identifies(c.Name):
		fields = append(fields, "role: identifier")
	case slices.Contains(w.Measures, c.Name):
		fields = append(fields, "role: measure")
	}
	comment := ""
	if len(evidence) > 0 {
		comment = "   # " + strings.Join(evidence, "; ")
	}
	w.Line("  - {%s}%s", strings.Join(fields, ", "), comment)
	if hints := w.hints(c, &s, coded); len(hints) > 0 {
		w.Line("    # %s", strings.Join(hints, "; "))
	}
}

// hints are rules that hold so far.
func (w *proposal) hints(c *rulebook.Column, s *seen, coded bool) []string {
	var hints []string
	switch {
	case s.filled == 0:
		return []string{"it is empty"}
	case s.missing == 0:
		hints = append(hints, "required: true would hold, since no cell was missing")
	case s.rows > 0:
		hints = append(hints, fmt.Sprintf("%.1f %% of its cells were missing", 100*float64(s.missing)/float64(s.rows)))
	}
	if s.in < len(w.Past) {
		hints = append(hints, fmt.Sprintf("only %d of %d deliveries had it", s.in, len(w.Past)))
	}
	if (c.Type.IsNumber() || c.Type == table.TypeDate) && s.lowest != "" {
		hints = append(hints, fmt.Sprintf("from: %s, to: %s were its extremes", s.lowest, s.highest))
	}
	if c.Type == table.TypeText && !coded && len(s.shapes) == 1 {
		for shape := range s.shapes {
			if pattern := patternOf(shape); pattern != "" {
				hints = append(hints, fmt.Sprintf("pattern: %s fits every cell", strconv.Quote(pattern)))
			}
		}
	}
	return hints
}

// patternOf makes a pattern of a shape, in which 9 stands for digits, A and a for letters.
func patternOf(shape string) string {
	var b strings.Builder
	for _, r := range shape {
		switch {
		case r == '9':
			b.WriteString("[0-9]+")
		case r == 'A':
			b.WriteString("[A-Z]+")
		case r == 'a':
			b.WriteString("[a-z]+")
		case strings.ContainsRune(`\.+*?()|[]{}^$`, r):
			b.WriteString(`\` + string(r))
		case r == '…':
			return ""
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// list adds a code list and returns its name.
func (w *proposal) list(column string, s *seen) string {
	name := "codes_" + strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToLower(column)), "_")
	name = name[:min(len(name), 50)]
	for _, known := range w.lists {
		if strings.HasPrefix(known, "  "+name+":") {
			name += "_" + strconv.Itoa(len(w.lists))
			break
		}
	}
	// Of spellings that differ in spaces and case alone the most frequent is the code.
	order, spellings := []string{}, map[string][]string{}
	for _, v := range s.values {
		level := table.Level(v)
		if spellings[level] == nil {
			order = append(order, level)
		}
		spellings[level] = append(spellings[level], v)
	}
	codes := make([]string, len(order))
	for i, level := range order {
		slices.SortStableFunc(spellings[level], func(a, b string) int { return cmp.Compare(s.counts[b], s.counts[a]) })
		codes[i] = rulebook.Quoted(spellings[level][0])
		if more := spellings[level][1:]; len(more) > 0 {
			codes[i] = fmt.Sprintf("{code: %s, spellings: [%s]}", codes[i], rulebook.List(more))
		}
	}
	w.lists = append(w.lists, fmt.Sprintf("  %s: [%s]", name, strings.Join(codes, ", ")))
	return name
}

func (w *proposal) keys() {
	for i, k := range w.Keys {
		if i == 0 {
			w.Line("keys:")
		}
		mark := ""
		if i > 0 || len(k.Columns) > 1 && k.Surplus+k.Lacking > 0 { // one key is enough to begin with
			mark = "# "
		}
		evidence := "every value named one row"
		if k.Surplus+k.Lacking > 0 {
			evidence = fmt.Sprintf("%d rows were surplus and %d lacked a part; the others had one each", k.Surplus,
				k.Lacking)
		}
		ids := make([]string, len(k.Columns))
		for c, name := range k.Columns {
			ids[c] = rulebook.IDOf(name)
		}
		id := strings.Join(ids, "_and_")
		w.Line("  %s- {id: one_%s, columns: [%s]}   # %s", mark, id[:min(len(id), 50)], rulebook.List(k.Columns), evidence)
	}
	if w.NoEqualRows {
		w.Line("equal_rows: {severity: minor}   # no two rows were equal in every cell")
	}
}

func (w *proposal) codeLists() {
	if len(w.lists) == 0 {
		return
	}
	w.Line("code_lists:")
	for _, l := range w.lists {
		w.Line("%s", l)
	}
}

func (w *proposal) history() {
	w.Line("history:")
	w.Line("  - {id: columns_stay, check: same_columns, reason: A column that is lost or of another type is seen at once.}")
	if n := len(w.Past); n > 1 {
		least, most := w.Past[0].Rows, w.Past[0].Rows
		for _, p := range w.Past {
			least, most = min(least, p.Rows), max(most, p.Rows)
		}
		w.Line("  # - {id: rows_stay, check: rows_steady, within: 50, last: 3}   # the deliveries had %d to %d rows",
			least, most)
	}
}
