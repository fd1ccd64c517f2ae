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

// draft proposes a rulebook. What nearly holds is a rule, whose breakers are named, so that the proposal finds what is
// wrong in the very deliveries that it was made from; what merely could be is suggested, for a steward to decide.
func draft(e *evidence) *Proposal {
	w := &proposal{evidence: e, Proposal: &Proposal{}}
	w.begin()
	for i := range e.Draft.Columns {
		w.column(&e.Draft.Columns[i])
	}
	w.keys()
	w.rules()
	w.references()
	w.tableRules()
	w.history()
	if len(e.Measures) > 0 {
		l := Line{Section: sectionMeasures, Item: sectionMeasures}
		for _, name := range e.Measures {
			l.Parts = append(l.Parts, Part{Name: name, Fields: []string{name}, Evidence: "it is summed, and says what a finding costs"})
		}
		w.Lines = append(w.Lines, l)
	}
	return w.Proposal
}

// begin writes what stands above the columns.
func (w *proposal) begin() {
	var head rulebook.Text
	head.Line("# Proposed from %s. What holds, or nearly holds, is a rule; a line that starts with # is a suggestion.",
		plural(len(w.Past), "delivery", "deliveries"))
	head.Line("dataset: %s", w.Dataset)
	reading := w.evidence.Reading
	reading.Missing = nil // they stand in a line of their own
	head.Reading(reading)
	w.head = head.String()
	l := Line{Section: sectionReading, Item: "missing"}
	for _, text := range w.evidence.Reading.Missing {
		l.Parts = append(l.Parts, Part{Name: text, Fields: []string{text}, Evidence: "it was said to stand for nothing"})
	}
	for _, text := range w.disguised() {
		l.Parts = append(l.Parts, Part{Name: text, Fields: []string{text}, Evidence: "it looks as if it stood for nothing", Suggested: true})
	}
	if len(l.Parts) > 0 {
		w.Lines = append(w.Lines, l)
	}
}

type proposal struct {
	*evidence
	*Proposal
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
	l := Line{Section: sectionColumns, Item: c.Name, Parts: []Part{{Fields: []string{"name: " + rulebook.Quoted(c.Name)}, Fixed: true}}}
	add := func(part Part) { l.Parts = append(l.Parts, part) }
	if was := w.was(c.Name); len(was) > 0 {
		add(Part{Name: "was", Fields: []string{"was: [" + rulebook.List(was) + "]"},
			Evidence: "an earlier delivery has it by another name, with values like these"})
	}
	coded := w.refers(c.Name) == nil && slices.Contains(w.Dimensions, c.Name) && c.Type == table.TypeText && s.known && len(s.values) > 1 &&
		len(s.values) <= codesProposed && s.filled >= int64(4*len(s.values))
	switch {
	case coded:
		w.coded = append(w.coded, c.Name)
		add(w.codes(c.Name, &s))
	case c.Type != table.TypeText:
		add(Part{Name: "type", Fixed: true, Fields: []string{"type: " + string(c.Type)},
			Evidence: fmt.Sprintf("%d of %d filled cells are of this type%s", s.filled-s.mistyped, s.filled, w.exceptions(c.Name))})
	case w.withUnit(c.Name) != "":
		unit := rulebook.Quoted(w.withUnit(c.Name))
		add(Part{Name: "type", Fixed: true, Fields: []string{"type: decimal", "written_with: [" + unit + "]", "unit: " + unit},
			Evidence: document.Flat(w.of("units", c.Name)[0].Says)})
	default:
		if l := w.of("date_orders", c.Name); len(l) > 0 {
			add(Part{Name: "dates", Fixed: true, Fields: []string{}, Evidence: document.Flat(l[0].Says)})
		}
	}
	if s.in == len(w.Past) && s.missing*requiredMost <= s.rows && s.rows >= requiredRows && s.filled > 0 {
		part := Part{Name: "required", Fields: []string{"required: true"}}
		if s.missing > 0 {
			part.Evidence = document.Counted(s.missing, "cell is missing", "cells are missing")
		}
		add(part)
	}
	if l := w.of("outliers", c.Name); len(l) > 0 {
		if from, to, ok := w.bounds(c.Name); ok {
			add(Part{Name: "range", Fields: []string{"from: " + from, "to: " + to}, Evidence: document.Flat(l[0].Says)})
		}
	}
	if len(c.Dates) > 0 {
		add(Part{Name: "dates", Fixed: true, Fields: []string{"dates: " + rulebook.Quoted(c.Dates[0])}})
	}
	if c.DecimalMark != "" {
		part := Part{Name: "marks", Fixed: true, Fields: []string{"decimal_mark: " + rulebook.Quoted(c.DecimalMark)}}
		if c.GroupingMark != "" {
			part.Fields = append(part.Fields, "grouping_mark: "+rulebook.Quoted(c.GroupingMark))
		}
		add(part)
	}
	switch {
	case w.identifies(c.Name):
		add(Part{Name: "role", Fixed: true, Fields: []string{"role: identifier"}})
	case slices.Contains(w.Measures, c.Name):
		add(Part{Name: "role", Fixed: true, Fields: []string{"role: measure"}})
	}
	l.Parts = append(l.Parts, w.hints(c, &s, coded)...)
	w.Lines = append(w.Lines, l)
}

// codes proposes that the values of a column are those of a list.
func (w *proposal) codes(column string, s *seen) Part {
	list, left := w.list(column, s)
	part := Part{Name: partCodes, Fields: []string{"type: code", "codes: " + list}, Detail: w.lists[len(w.lists)-1].codes}
	if len(left) == 0 {
		part.Fields = append(part.Fields, "new_codes: true")
		part.Evidence = fmt.Sprintf("%d different texts, in the list below; new ones are told and cost nothing until new_codes goes", len(s.values))
	} else {
		part.Evidence = fmt.Sprintf("%d different texts; left out of the list below, since they are hardly codes: %s", len(s.values),
			document.First(left))
	}
	return part
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

// hints are suggestions, that hold so far, and what else is worth knowing.
func (w *proposal) hints(c *rulebook.Column, s *seen, coded bool) (hints []Part) {
	suggest := func(name, evidence string, fields ...string) {
		hints = append(hints, Part{Name: name, Fields: append([]string{}, fields...), Evidence: evidence, Suggested: true})
	}
	switch {
	case s.filled == 0:
		suggest("", "it is empty")
		return hints
	case s.missing == 0 && s.rows < requiredRows:
		suggest("required", "would hold, since no cell was missing", "required: true")
	case s.missing*requiredMost > s.rows:
		suggest("", fmt.Sprintf("%.1f %% of its cells were missing", 100*float64(s.missing)/float64(s.rows)))
	}
	if s.in < len(w.Past) {
		suggest("", fmt.Sprintf("only %d of %d deliveries had it", s.in, len(w.Past)))
	}
	if (c.Type.IsNumber() || c.Type == table.TypeDate) && s.lowest != "" && len(w.of("outliers", c.Name)) == 0 {
		suggest("range", "were its extremes", "from: "+s.lowest, "to: "+s.highest)
	}
	if truth, untruth, ok := truths(s.values); ok && c.Type == table.TypeText {
		suggest("", fmt.Sprintf("type: boolean with true_words: [%s], false_words: [%s] would hold", truth, untruth))
	}
	if c.Type == table.TypeText && !coded && len(s.shapes) == 1 {
		for shape := range s.shapes {
			if pattern := patternOf(shape); pattern != "" {
				suggest("pattern", "fits every cell", "pattern: "+strconv.Quote(pattern))
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
	if slices.ContainsFunc(w.lists, func(known codeList) bool { return known.name == name }) {
		name += "_" + strconv.Itoa(len(w.lists))
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
	w.lists = append(w.lists, codeList{column, name, strings.Join(codes, ", ")})
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
	for _, l := range w.Leads {
		if l.Condition == "" || w.asked(l) {
			continue
		}
		id := rulebook.IDOf(l.Kind + "_" + l.Column)
		for n := 2; taken[id]; n++ {
			id = rulebook.IDOf(fmt.Sprintf("%s_%d_%s", l.Kind, n, l.Column))
		}
		taken[id] = true
		fields := []string{"id: " + id, "condition: " + rulebook.Quoted(l.Condition)}
		if l.Tolerance != "" {
			fields = append(fields, "tolerance: "+l.Tolerance)
		}
		w.add(sectionRules, id, Part{Fields: fields, Evidence: document.Flat(l.Says)})
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
		id = "one_" + id[:min(len(id), 50)]
		// one key is enough to begin with
		w.add(sectionKeys, id, Part{Fields: []string{"id: " + id, "columns: [" + rulebook.List(k.Columns) + "]"}, Evidence: evidence, Suggested: i > 0})
	}
	evidence := "no two rows were equal in every cell"
	if w.EqualRows > 0 {
		evidence = document.Counted(w.EqualRows, "row repeats", "rows repeat") + " an earlier one in every cell"
	}
	w.add(sectionEqualRows, sectionEqualRows, Part{Fields: []string{"severity: minor"}, Evidence: evidence})
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
	w.coverage()
	for _, l := range w.of("missing_periods", "") {
		unit := "day"
		if p := w.Past[0].Column(l.Column); p != nil && p.Dates != nil {
			unit = p.Dates.Unit
		}
		id := rulebook.IDOf("no_gaps_" + l.Column)
		w.add(sectionTableRules, id, Part{Fields: []string{"id: " + id, "check: no_gaps", "in: " + rulebook.Quoted(l.Column), "step: " + unit,
			"severity: minor"}, Evidence: document.Flat(l.Says)})
	}
}

func (w *proposal) history() {
	w.add(sectionHistory, "columns_stay", Part{Fields: []string{"id: columns_stay", "check: same_columns",
		"reason: A column that is lost or of another type is seen at once."}})
	if n := len(w.Past); n > 1 {
		least, most := w.Past[0].Rows, w.Past[0].Rows
		for _, p := range w.Past {
			least, most = min(least, p.Rows), max(most, p.Rows)
		}
		w.add(sectionHistory, "rows_stay", Part{Fields: []string{"id: rows_stay", "check: rows_steady", "within: 50", "last: 3"},
			Evidence: fmt.Sprintf("the deliveries had %d to %d rows", least, most), Suggested: true})
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
