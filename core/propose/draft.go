package propose

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/leads"
	"proudsieve/core/profile"
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
	// EqualRows is how many rows of all deliveries repeat an earlier one in every cell.
	EqualRows int64
	// References are the columns of the last delivery that hold keys of other datasets.
	References []reference
	// Leads are what looks odd in the last delivery.
	Leads []audit.Lead
}

// seenKey is what looks like a key, with the rows of all deliveries that speak against it.
type seenKey struct {
	Columns          []string
	Surplus, Lacking int64
	FirstRows        []uint32 // some of those that are surplus
}

// identifies reports whether a column alone looks like a key.
func (e *evidence) identifies(column string) bool {
	return slices.ContainsFunc(e.Keys, func(k seenKey) bool { return len(k.Columns) == 1 && k.Columns[0] == column })
}

// codesProposed is how many different texts a column may have to be proposed as one of codes.
const codesProposed = 60

// draft writes a rulebook with the evidence for each line beside it. What nearly holds is a rule, whose breakers are
// named, so that the proposal finds what is wrong in the very deliveries that it was made from; what merely could be
// stands in a comment, for a steward to decide.
func draft(e *evidence) string {
	w := &proposal{evidence: e}
	w.Line("# Proposed from %s. What holds, or nearly holds, is a rule; a line that starts with # is a suggestion.", plural(len(e.Past), "delivery", "deliveries"))
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
	w.rules()
	w.references()
	w.tableRules()
	w.history()
	if len(e.Measures) > 0 {
		w.Line("measures: [%s]   # columns of numbers that are summed; they say what a finding costs", rulebook.List(e.Measures))
	}
	w.Line("pass_mark: 100   # the least score of a table that passes; decide what is good enough")
	return w.String()
}

type proposal struct {
	*evidence
	rulebook.Text
	lists []string // code lists, as lines
	coded []string // columns of type code
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
	for _, l := range w.of("placeholder", "") {
		for _, t := range l.Texts {
			if !slices.Contains(found, t.Text) && !slices.Contains(w.evidence.Reading.Missing, t.Text) {
				found = append(found, t.Text)
			}
		}
	}
	slices.Sort(found)
	return found
}

// of returns the leads of a kind, of one column where one is named.
func (w *proposal) of(kind, column string) (out []audit.Lead) {
	for _, l := range w.Leads {
		if l.Kind == kind && (column == "" || l.Column == column) {
			out = append(out, l)
		}
	}
	return out
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
	if was := w.was(c.Name); len(was) > 0 {
		fields = append(fields, "was: ["+rulebook.List(was)+"]")
		evidence = append(evidence, "an earlier delivery has it by another name, with values like these")
	}
	coded := w.refers(c.Name) == nil && slices.Contains(w.Dimensions, c.Name) && c.Type == table.TypeText && s.known && len(s.values) > 1 &&
		len(s.values) <= codesProposed && s.filled >= int64(4*len(s.values))
	switch {
	case coded:
		w.coded = append(w.coded, c.Name)
		list, left := w.list(c.Name, &s)
		fields = append(fields, "type: code", "codes: "+list)
		if len(left) == 0 {
			fields = append(fields, "new_codes: true")
			evidence = append(evidence, fmt.Sprintf(
				"%d different texts, in the list below; new ones are told and cost nothing until new_codes goes", len(s.values)))
		} else {
			evidence = append(evidence, fmt.Sprintf("%d different texts; left out of the list below, since they are hardly codes: %s",
				len(s.values), document.First(left)))
		}
	case c.Type != table.TypeText:
		fields = append(fields, "type: "+string(c.Type))
		evidence = append(evidence, fmt.Sprintf("%d of %d filled cells are of this type%s", s.filled-s.mistyped,
			s.filled, w.exceptions(c.Name)))
	case w.withUnit(c.Name) != "":
		unit := rulebook.Quoted(w.withUnit(c.Name))
		fields = append(fields, "type: decimal", "written_with: ["+unit+"]", "unit: "+unit)
		evidence = append(evidence, document.Flat(w.of("units", c.Name)[0].Says))
	default:
		if l := w.of("date_orders", c.Name); len(l) > 0 {
			evidence = append(evidence, document.Flat(l[0].Says))
		}
	}
	if s.in == len(w.Past) && s.missing*requiredMost <= s.rows && s.rows >= requiredRows && s.filled > 0 {
		fields = append(fields, "required: true")
		if s.missing > 0 {
			evidence = append(evidence, document.Counted(s.missing, "cell is missing", "cells are missing"))
		}
	}
	if l := w.of("outliers", c.Name); len(l) > 0 {
		if from, to, ok := w.bounds(c.Name); ok {
			fields = append(fields, "from: "+from, "to: "+to)
			evidence = append(evidence, document.Flat(l[0].Says))
		}
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

// withUnit returns the unit that nearly all cells of a column of texts have beside their number; empty for none.
func (w *proposal) withUnit(column string) string {
	l := w.of("units", column)
	c := w.Past[0].Column(column)
	if len(l) == 0 || c == nil || c.Type != table.TypeText || l[0].Rows*20 < c.Filled*19 {
		return ""
	}
	unit := ""
	for _, t := range l[0].Texts {
		_, one := leads.WithUnit(t.Text)
		if one == "" || unit != "" && one != unit {
			return ""
		}
		unit = one
	}
	return unit
}

// hints are rules that hold so far.
func (w *proposal) hints(c *rulebook.Column, s *seen, coded bool) []string {
	var hints []string
	switch {
	case s.filled == 0:
		return []string{"it is empty"}
	case s.missing == 0 && s.rows < requiredRows:
		hints = append(hints, "required: true would hold, since no cell was missing")
	case s.missing*requiredMost > s.rows:
		hints = append(hints, fmt.Sprintf("%.1f %% of its cells were missing", 100*float64(s.missing)/float64(s.rows)))
	}
	if s.in < len(w.Past) {
		hints = append(hints, fmt.Sprintf("only %d of %d deliveries had it", s.in, len(w.Past)))
	}
	if (c.Type.IsNumber() || c.Type == table.TypeDate) && s.lowest != "" && len(w.of("outliers", c.Name)) == 0 {
		hints = append(hints, fmt.Sprintf("from: %s, to: %s were its extremes", s.lowest, s.highest))
	}
	if truth, untruth, ok := truths(s.values); ok && c.Type == table.TypeText {
		hints = append(hints, fmt.Sprintf("type: boolean with true_words: [%s], false_words: [%s] would hold", truth, untruth))
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

// list adds a code list and returns its name, and the texts that are hardly codes: words for nothing, several codes in
// one cell, what belongs into another column.
func (w *proposal) list(column string, s *seen) (name string, left []string) {
	name = "codes_" + strings.Trim(strings.Map(func(r rune) rune {
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
	hardly := map[string]bool{}
	for _, kind := range []string{"placeholder", "several_values", "neighbour_values", "total_rows"} {
		for _, l := range w.of(kind, column) {
			for _, t := range l.Texts {
				hardly[table.Level(t.Text)] = true
			}
		}
	}
	var texts []profile.Frequency
	for _, v := range s.values {
		if hardly[table.Level(v)] {
			left = append(left, strconv.Quote(v))
		} else {
			texts = append(texts, profile.Frequency{Text: v, Rows: s.counts[v]})
		}
	}
	slices.SortStableFunc(texts, func(a, b profile.Frequency) int { return cmp.Compare(b.Rows, a.Rows) })
	var codes []string
	for _, g := range leads.Spellings(texts) {
		// The code is levelled: a stray space that most cells have is none of it.
		code, known := table.Trim(g[0].Text), map[string]bool{}
		known[table.Level(code)] = true
		var spellings []string
		for _, t := range g {
			if level := table.Level(t.Text); t.Text != code && !known[level] {
				known[level] = true
				spellings = append(spellings, table.Trim(t.Text))
			}
		}
		one := rulebook.Quoted(code)
		if len(spellings) > 0 {
			one = fmt.Sprintf("{code: %s, spellings: [%s]}", one, rulebook.List(spellings))
		}
		codes = append(codes, one)
	}
	slices.Sort(codes)
	w.lists = append(w.lists, fmt.Sprintf("  %s: [%s]", name, strings.Join(codes, ", ")))
	return name, left
}

const (
	// requiredMost is the part, one in so many, of the cells that may be missing in a column that is proposed as
	// required, and requiredRows how many rows it takes.
	requiredMost = 200
	requiredRows = 20
)

// exceptions names what is not of a column's type.
func (w *proposal) exceptions(column string) string {
	for _, p := range w.Past {
		if c := p.Column(column); c != nil && c.Mistyped > 0 {
			texts := make([]string, 0, 4)
			for _, e := range c.Exceptions[:min(len(c.Exceptions), 4)] {
				texts = append(texts, fmt.Sprintf("%s (%d)", strconv.Quote(e.Text), e.Rows))
			}
			return "; not " + strings.Join(texts, ", ")
		}
	}
	return ""
}

// bounds returns the fences within which numbers are not far from the others, rounded outwards.
func (w *proposal) bounds(column string) (from, to string, ok bool) {
	c := w.Past[0].Column(column)
	if c == nil || c.Numbers == nil || c.Numbers.Outliers.Far == nil {
		return "", "", false
	}
	low, high := c.Numbers.Outliers.Far.Bounds()
	return low, high, true
}

// rules are those that leads say, each of which all rows hold but those that are meant.
func (w *proposal) rules() {
	taken := map[string]bool{}
	began := false
	for _, l := range w.Leads {
		if l.Condition == "" || w.asked(l) {
			continue
		}
		if !began {
			began = true
			w.Line("rules:")
		}
		id := rulebook.IDOf(l.Kind + "_" + l.Column)
		for n := 2; taken[id]; n++ {
			id = rulebook.IDOf(fmt.Sprintf("%s_%d_%s", l.Kind, n, l.Column))
		}
		taken[id] = true
		tolerance := ""
		if l.Tolerance != "" {
			tolerance = ", tolerance: " + l.Tolerance
		}
		w.Line("  - {id: %s, condition: %s%s}   # %s", id, rulebook.Quoted(l.Condition), tolerance, document.Flat(l.Says))
	}
}

// asked reports whether the column's declaration finds what a lead speaks of already.
func (w *proposal) asked(l audit.Lead) bool {
	switch l.Kind {
	case "spaces", "placeholder", "total_rows":
		return slices.ContainsFunc(w.coded, func(name string) bool { return name == l.Column })
	}
	return false
}

func (w *proposal) keys() {
	for i, k := range w.Keys {
		if i == 0 {
			w.Line("keys:")
		}
		mark := ""
		if i > 0 { // one key is enough to begin with
			mark = "# "
		}
		evidence := "every value named one row"
		if k.Surplus+k.Lacking > 0 {
			evidence = fmt.Sprintf("%s surplus%s and %s a part; the others had one each",
				document.Counted(k.Surplus, "row was", "rows were"), rowsOf(k.FirstRows),
				document.Counted(k.Lacking, "lacked", "lacked"))
		}
		ids := make([]string, len(k.Columns))
		for c, name := range k.Columns {
			ids[c] = rulebook.IDOf(name)
		}
		id := strings.Join(ids, "_and_")
		w.Line("  %s- {id: one_%s, columns: [%s]}   # %s", mark, id[:min(len(id), 50)], rulebook.List(k.Columns), evidence)
	}
	evidence := "no two rows were equal in every cell"
	if w.EqualRows > 0 {
		evidence = document.Counted(w.EqualRows, "row repeats", "rows repeat") + " an earlier one in every cell"
	}
	w.Line("equal_rows: {severity: minor}   # %s", evidence)
}

// rowsOf names some rows.
func rowsOf(rows []uint32) string {
	if len(rows) == 0 {
		return ""
	}
	texts := make([]string, 0, 3)
	for _, r := range rows[:min(len(rows), 3)] {
		texts = append(texts, document.Grouped(int64(r)))
	}
	more := ""
	if len(rows) > 3 {
		more = "; …"
	}
	return " (row " + strings.Join(texts, "; ") + more + ")"
}

// tableRules are those of series that lack something, and of other datasets that are covered.
func (w *proposal) tableRules() {
	lines := w.coverage()
	for _, l := range w.of("missing_periods", "") {
		unit := "day"
		if p := w.Past[0].Column(l.Column); p != nil && p.Dates != nil {
			unit = p.Dates.Unit
		}
		lines = append(lines, fmt.Sprintf("  - {id: %s, check: no_gaps, in: %s, step: %s, severity: minor}   # %s",
			rulebook.IDOf("no_gaps_"+l.Column), rulebook.Quoted(l.Column), unit, document.Flat(l.Says)))
	}
	for i, line := range lines {
		if i == 0 {
			w.Line("table_rules:")
		}
		w.Line("%s", line)
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

// truths returns the words for true and false of a column that holds but these two.
func truths(values []string) (truth, untruth string, ok bool) {
	for _, pair := range [][2]string{{"y", "n"}, {"t", "f"}, {"ja", "nein"}, {"oui", "non"}, {"on", "off"}, {"x", "-"}} {
		if len(values) == 2 && strings.EqualFold(values[0], pair[1]) && strings.EqualFold(values[1], pair[0]) {
			return rulebook.Quoted(values[1]), rulebook.Quoted(values[0]), true
		}
	}
	return "", "", false
}
