package detect

import (
	"fmt"
	"math/bits"
	"slices"
	"strings"
	"unicode/utf8"

	"proudsieve/core/table"
)

// ColumnEvidence is what the first values of a column tell about how they are written.
type ColumnEvidence struct {
	Name    string  `json:"name"`
	Filled  int     `json:"filled"` // cells of the sample
	Numbers *Marks  `json:"numbers,omitempty"`
	Dates   *Dating `json:"dates,omitempty"`
	// Missing are texts that may stand for a missing value, with how often each occurs.
	Missing []Suspect `json:"missing,omitempty"`
}

// Suspect is a text that may stand for a missing value.
type Suspect struct {
	Text string `json:"text"`
	Rows int    `json:"rows"`
}

// Marks is how the numbers of a column are written.
type Marks struct {
	DecimalMark  string `json:"decimal_mark"`
	GroupingMark string `json:"grouping_mark,omitempty"`
	Fits         int    `json:"fits"` // cells that are numbers written so
	// DecidedBy is a text that can only be read this way; empty where all can be read in others too.
	DecidedBy  string     `json:"decided_by,omitempty"`
	DecidedRow uint32     `json:"decided_row,omitempty"`
	Confidence Confidence `json:"confidence"`
	Others     int        `json:"others,omitempty"` // cells that are numbers only if written in another way
}

// Dating is how the dates of a column are written.
type Dating struct {
	Status string `json:"status"` // decided, ambiguous or mixed
	// Patterns are those that fit: the one decided, those between which nothing decides,
	// or those that are mixed, with the cells that fit no other of them.
	Patterns []PatternFit `json:"patterns"`
	Both     int          `json:"both,omitempty"` // cells that fit more than one of Patterns, as other days
	// None is how many filled cells fit none of the patterns that are known, and NoneBy one of them.
	None       int    `json:"none,omitempty"`
	NoneBy     string `json:"none_by,omitempty"`
	DecidedBy  string `json:"decided_by,omitempty"`
	DecidedRow uint32 `json:"decided_row,omitempty"`
	Instants   bool   `json:"instants,omitempty"` // with a time of day
}

// PatternFit is a date pattern and the cells that fit it: all of them, or those that fit
// no other one where patterns are mixed.
type PatternFit struct {
	Pattern string `json:"pattern"`
	Rows    int    `json:"rows"`
	// Or are patterns that fit the same cells as other days, where patterns are mixed.
	Or []string `json:"or,omitempty"`
}

// The states of a column's dates.
const (
	DatesDecided   = "decided"
	DatesAmbiguous = "ambiguous"
	DatesMixed     = "mixed"
)

type numberFormat struct {
	decimal, grouping string
	format            *table.Format
	alone             int // which of the formats has the same mark, and no grouping
}

// numberFormats are the ways to write numbers that are looked for, the usual ones first.
var numberFormats = func() []numberFormat {
	var out []numberFormat
	for _, pair := range [][2]string{{".", ""}, {",", ""}, {".", ","}, {",", "."}, {".", " "}, {",", " "},
		{".", "'"}, {",", "'"},
		{".", "\u00a0"}, {",", "\u00a0"}, {".", "\u202f"}, {",", "\u202f"}, {".", "\u2019"}} {
		f := &table.Format{DecimalMark: pair[0][0]}
		if pair[1] != "" {
			f.GroupingMark, _ = utf8.DecodeRuneInString(pair[1])
		}
		alone := slices.IndexFunc(out, func(o numberFormat) bool { return o.decimal == pair[0] })
		if alone < 0 {
			alone = len(out)
		}
		out = append(out, numberFormat{pair[0], pair[1], f, alone})
	}
	return out
}()

// formatSet is a set of numberFormats, a bit for each.
type formatSet uint16

func (s formatSet) has(f int) bool { return s>>f&1 != 0 }

// numberFits returns the formats by which a text is a number.
func numberFits(text string) (fits formatSet) {
	digits, marks := false, false
	for i := range len(text) {
		switch b := text[i]; {
		case b >= '0' && b <= '9':
			digits = true
		case b == '-' || b == '+' || b == 'e' || b == 'E':
		case b == '.' || b == ',' || b == ' ' || b == '\'' || b >= utf8.RuneSelf:
			marks = true
		default:
			return 0
		}
	}
	if !digits {
		return 0
	}
	for f, one := range numberFormats {
		ok := fits.has(one.alone)
		if one.alone == f && (marks || f == 0) || one.grouping != "" && strings.Contains(text, one.grouping) {
			_, ok = one.format.Parse(table.TypeDecimal, text)
		} else if !marks {
			ok = fits.has(0)
		}
		if ok {
			fits |= 1 << f
		}
	}
	return fits
}

var (
	// dateSources are the ways to write dates that are looked for, of those that fit alike the stricter first.
	dateSources = []string{"yyyy-MM-dd", "dd/MM/yyyy", "MM/dd/yyyy", "dd.MM.yyyy", "MM.dd.yyyy", "dd-MM-yyyy",
		"MM-dd-yyyy", "yyyy/MM/dd", "yyyy.MM.dd", "yyyyMMdd",
		"d/M/yyyy", "M/d/yyyy", "d.M.yyyy", "d-M-yyyy", "yyyy-M-d", "dd/MM/yy", "MM/dd/yy", "dd.MM.yy", "yy-MM-dd",
		"d/M/yy", "M/d/yy", "d.M.yy", "dd-MMM-yyyy", "dd-MMM-yy", "d MMM yyyy", "dd MMM yyyy", "d-MMM-yyyy",
		"MMM d, yyyy", "yyyy-dd-MM"}
	// isoSwapped is what nobody means where yyyy-MM-dd fits as well.
	isoSwapped = "yyyy-dd-MM"
	// datePatterns holds every date pattern alone, and with each time after it.
	datePatterns = func() []table.DatePattern {
		sources := slices.Clone(dateSources)
		for _, date := range dateSources {
			switch {
			case date == "yyyyMMdd" || date == isoSwapped || strings.Contains(date, "MMM"):
				continue
			case date == "yyyy-MM-dd":
				for _, time := range []string{"HH:mm", "HH:mm:ss", "HH:mm:ss.SSS", "HH:mm:ss.SSSSSS", "HH:mmX", "HH:mm:ssX",
					"HH:mm:ss.SSSX"} {
					sources = append(sources, date+" "+time, date+"'T'"+time)
				}
				sources = append(sources, date+" H:mm")
			default:
				for _, time := range []string{"HH:mm", "H:mm", "HH:mm:ss", "H:mm:ss"} {
					sources = append(sources, date+" "+time)
				}
			}
		}
		return table.MustDatePatterns(sources...)
	}()
)

// Swapped returns the pattern with day and month exchanged; empty where they cannot be mistaken for one another.
func Swapped(pattern string) string {
	if strings.HasPrefix(pattern, "yyyy") || strings.Contains(pattern, "MMM") {
		return ""
	}
	swap := map[rune]rune{'d': 'M', 'M': 'd'}
	return strings.Map(func(r rune) rune {
		if other, ok := swap[r]; ok {
			return other
		}
		return r
	}, pattern)
}

// mayBeDate rules most texts out that are none.
func mayBeDate(text string) bool {
	if len(text) < 6 || len(text) > 30 {
		return false
	}
	others := 0 // that are no digits; only in one pattern nothing divides the digits
	for i := range len(text) {
		if text[i] < '0' || text[i] > '9' {
			others++
		}
	}
	return (others >= 2 || len(text) == len("yyyyMMdd")) && (text[0] >= '0' && text[0] <= '9' ||
		text[len(text)-1] >= '0' && text[len(text)-1] <= '9' && strings.Contains(text, ", "))
}

var missingWords = []string{"n/a", "na", "n.a.", "nan", "null", "nil", "none", "missing", "unknown", "unbekannt",
	"keine angabe", "k.a.", "-", "--", "---", "?", "??", ".", "..", "#n/a", "not available", "not recorded", "no data",
	"nd", "tbd", "xxx",
	"-9", "-99", "-999", "-9999", "999", "9999", "99999", "999999", "-1", "-999.0", "-9999.0", "999.9", "9999.9"}

// values looks at how the values of each column are written, and sets what all columns
// that decide agree on.
func (d *Detection) values(names []string) {
	d.Columns = Columns(names, d.Sample)
	d.agreeOnMarks()
	d.agreeOnDates()
	var suspects []string
	for _, c := range d.Columns {
		for _, s := range c.Missing[:min(len(c.Missing), 2)] {
			suspects = append(suspects, fmt.Sprintf("%q in %s (%d)", s.Text, c.Name, s.Rows))
		}
	}
	if len(suspects) > 0 {
		d.add("missing", Ambiguous, "only empty cells",
			"these may stand for a missing value too; declare them if they do: "+
				strings.Join(suspects[:min(len(suspects), 6)], ", "))
	}
}

// Columns tells how the values of each column of some rows are written.
func Columns(names []string, rows *table.Batch) []ColumnEvidence {
	out := make([]ColumnEvidence, len(names))
	for c, name := range names {
		out[c] = columnEvidence(name, rows, c)
	}
	return out
}

func columnEvidence(name string, b *table.Batch, c int) ColumnEvidence {
	out := ColumnEvidence{Name: name}
	column := &b.Columns[c]
	counts := column.Counts(nil)
	first := make([]uint32, len(counts)) // row in which each text is met
	for i, code := range column.Codes {
		if first[code] == 0 {
			first[code] = b.Rows[i]
		}
	}
	for code, text := range column.Texts {
		if counts[code] > 0 && table.Trim(text) != "" {
			out.Filled += int(counts[code])
		}
	}
	out.Numbers = marksOf(column, counts, first, out.Filled)
	out.Dates = datingOf(column, counts, first, out.Filled)
	if out.Dates != nil && out.Dates.Status == DatesDecided && out.Dates.Patterns[0].Pattern != "yyyyMMdd" {
		out.Numbers = nil
	}
	for code, text := range column.Texts {
		level := table.Level(text)
		if counts[code] == 0 || !slices.Contains(missingWords, level) {
			continue
		}
		if _, ok := table.StandardFormat.Parse(table.TypeDecimal, level); ok &&
			(counts[code] < 2 || out.Numbers == nil) {
			continue
		}
		out.Missing = append(out.Missing, Suspect{text, int(counts[code])})
	}
	slices.SortStableFunc(out.Missing, func(a, b Suspect) int { return b.Rows - a.Rows })
	return out
}

// marksOf finds the way in which most of a column's numbers are written; nil where it
// holds hardly any.
func marksOf(column *table.Column, counts []int64, first []uint32, filled int) *Marks {
	fits := make([]int, len(numberFormats))
	any := 0
	fit := make([]formatSet, len(column.Texts))
	for code, text := range column.Texts {
		if counts[code] == 0 {
			continue
		}
		fit[code] = numberFits(text)
		for set := fit[code]; set != 0; set &= set - 1 {
			fits[bits.TrailingZeros16(uint16(set))] += int(counts[code])
		}
		if fit[code] != 0 {
			any += int(counts[code])
		}
	}
	best := 0
	for f := range fits {
		if fits[f] > fits[best] {
			best = f
		}
	}
	if fits[best]*2 < filled || filled == 0 {
		return nil
	}
	m := &Marks{DecimalMark: numberFormats[best].decimal, GroupingMark: numberFormats[best].grouping, Fits: fits[best],
		Others: any - fits[best], Confidence: Certain}
	marks := 0
	for code, text := range column.Texts {
		if !fit[code].has(best) || !strings.ContainsAny(text, ".,' \u00a0\u202f\u2019") {
			continue
		}
		if marks++; m.DecidedRow > 0 && first[code] >= m.DecidedRow {
			continue
		}
		decides := true
		for f := range numberFormats {
			// Another way decides otherwise only if it gives another number.
			if fit[code].has(f) && f != best && !sameNumber(text, f, best) {
				decides = false
				break
			}
		}
		if decides {
			m.DecidedBy, m.DecidedRow = text, first[code]
		}
	}
	switch {
	case marks == 0: // whole numbers, which all ways write alike
	case m.DecidedRow == 0:
		m.Confidence = Ambiguous
	case m.Others > 0:
		m.Confidence = Likely
	}
	return m
}

func sameNumber(text string, f, g int) bool {
	a, _ := numberFormats[f].format.Parse(table.TypeDecimal, text)
	b, _ := numberFormats[g].format.Parse(table.TypeDecimal, text)
	return a.Number.Cmp(b.Number) == 0
}

// datingOf finds the patterns by which a column's dates are written; nil where it holds hardly any.
func datingOf(column *table.Column, counts []int64, first []uint32, filled int) *Dating {
	d := &dating{Column: column, counts: counts, fits: make([]int, len(datePatterns)), fit: make([][]int,
		len(column.Texts))}
	any, none := 0, uint32(0)
	out := &Dating{}
	for code, text := range column.Texts {
		if counts[code] == 0 || table.Trim(text) == "" {
			continue
		}
		if mayBeDate(text) {
			for p := range datePatterns {
				if _, ok := datePatterns[p].Parse(text); ok {
					d.fit[code] = append(d.fit[code], p)
					d.fits[p] += int(counts[code])
				}
			}
		}
		if len(d.fit[code]) > 0 {
			any += int(counts[code])
		} else if none == 0 || first[code] < none {
			none, out.NoneBy = first[code], text
		}
	}
	if any*2 < filled || filled == 0 {
		return nil
	}
	out.None = filled - any
	chosen := d.cover()
	out.Instants = datePatterns[chosen[0]].Timed()
	if len(chosen) > 1 && d.fits[chosen[0]] < any {
		d.mixed(out, chosen)
		return out
	}
	best := chosen[0]
	out.Patterns = []PatternFit{{Pattern: datePatterns[best].String(), Rows: d.fits[best]}}
	for _, p := range d.rivals(best) {
		out.Patterns = append(out.Patterns, PatternFit{Pattern: datePatterns[p].String(), Rows: d.fits[p]})
	}
	if len(out.Patterns) > 1 {
		out.Status = DatesAmbiguous
		return out
	}
	out.Status = DatesDecided
	for code, text := range column.Texts {
		if !slices.Contains(d.fit[code], best) {
			continue
		}
		alone := true
		for _, p := range d.fit[code] {
			alone = alone && (p == best || sameDay(text, p, best) || datePatterns[p].String() == isoSwapped)
		}
		if alone && (out.DecidedRow == 0 || first[code] < out.DecidedRow) {
			out.DecidedBy, out.DecidedRow = text, first[code]
		}
	}
	return out
}

// dating is which patterns fit the texts of a column.
type dating struct {
	*table.Column
	counts []int64
	fits   []int   // cells, per pattern
	fit    [][]int // patterns, per text
}

// cover returns the fewest patterns that fit all dates: those that fit most first, of equals the stricter.
func (d *dating) cover() (chosen []int) {
	covered := make([]bool, len(d.fit))
	for {
		gain := make([]int, len(datePatterns))
		for code, patterns := range d.fit {
			for _, p := range patterns {
				if !covered[code] {
					gain[p] += int(d.counts[code])
				}
			}
		}
		best := 0
		for p := range gain {
			if gain[p] > gain[best] {
				best = p
			}
		}
		if gain[best] == 0 || len(chosen) == 4 {
			return chosen
		}
		chosen = append(chosen, best)
		for code, patterns := range d.fit {
			covered[code] = covered[code] || slices.Contains(patterns, best)
		}
	}
}

// rivals returns the patterns that fit as many cells as one, each reading some of them as another day than it and
// those before do.
func (d *dating) rivals(best int) (out []int) {
	known := []int{best}
	for p := range d.fits {
		if d.fits[p] == d.fits[best] && datePatterns[p].String() != isoSwapped && !slices.ContainsFunc(known,
			func(q int) bool { return p == q || !otherDays(d.Column, d.counts, p, q) }) {
			known = append(known, p)
		}
	}
	return known[1:]
}

// mixed says how the cells of a column fall to the patterns that are mixed.
func (d *dating) mixed(out *Dating, chosen []int) {
	out.Status = DatesMixed
	alone := make([]int, len(chosen))
	or := make([]map[int]bool, len(chosen)) // patterns that fit all of the cells that fit no other one chosen
	for code, patterns := range d.fit {
		of := []int{}
		for k, p := range chosen {
			if slices.Contains(patterns, p) && !slices.ContainsFunc(of, func(q int) bool {
				return sameDay(d.Texts[code], p, chosen[q])
			}) {
				of = append(of, k)
			}
		}
		switch n := len(of); {
		case n == 1:
			k := of[0]
			alone[k] += int(d.counts[code])
			if or[k] == nil {
				or[k] = map[int]bool{}
				for _, p := range patterns {
					or[k][p] = true
				}
			}
			for p := range or[k] {
				if !slices.Contains(patterns, p) {
					delete(or[k], p)
				}
			}
		case n > 1:
			out.Both += int(d.counts[code])
		}
	}
	for k, p := range chosen {
		one := PatternFit{Pattern: datePatterns[p].String(), Rows: alone[k]}
		for q := range datePatterns {
			if source := datePatterns[q].String(); or[k][q] && q != p && source != isoSwapped && d.reads(q, p, chosen[:k]) {
				one.Or = append(one.Or, source)
			}
		}
		out.Patterns = append(out.Patterns, one)
	}
}

// reads reports whether a pattern reads some of the cells that fit p, and none of those before, as another day.
func (d *dating) reads(q, p int, before []int) bool {
	for code, patterns := range d.fit {
		if slices.Contains(patterns, q) && slices.Contains(patterns, p) && !slices.ContainsFunc(before,
			func(b int) bool { return slices.Contains(patterns, b) }) && !sameDay(d.Texts[code], p, q) {
			return true
		}
	}
	return false
}

func sameDay(text string, p, q int) bool {
	a, _ := datePatterns[p].Parse(text)
	b, ok := datePatterns[q].Parse(text)
	return ok && a == b
}

// otherDays reports whether two patterns read any text differently.
func otherDays(column *table.Column, counts []int64, p, q int) bool {
	for code, text := range column.Texts {
		if counts[code] == 0 {
			continue
		}
		a, ok := datePatterns[p].Parse(text)
		b, also := datePatterns[q].Parse(text)
		if ok && also && a != b {
			return true
		}
	}
	return false
}

// agreeOnMarks sets the marks of the reading to those by which most columns decide.
func (d *Detection) agreeOnMarks() {
	if d.fixed.DecimalMark != "" {
		return
	}
	votes := map[[2]string]int{}
	for _, c := range d.Columns {
		if c.Numbers != nil && c.Numbers.DecidedRow > 0 {
			votes[[2]string{c.Numbers.DecimalMark, c.Numbers.GroupingMark}]++
		}
	}
	best, most := [2]string{".", ""}, 0
	for _, f := range numberFormats {
		if marks := [2]string{f.decimal, f.grouping}; votes[marks] > most {
			best, most = marks, votes[marks]
		}
	}
	d.Reading.DecimalMark, d.Reading.GroupingMark = best[0], best[1]
	var undecided, others []string
	for _, c := range d.Columns {
		switch m := c.Numbers; {
		case m == nil:
		case m.Confidence == Ambiguous:
			undecided = append(undecided, c.Name)
		case m.DecidedRow > 0 && (m.DecimalMark != best[0] || m.GroupingMark != best[1]):
			others = append(others, c.Name)
		}
	}
	found := map[string]string{".": "point", ",": "comma"}[best[0]]
	if best[1] != "" {
		found += fmt.Sprintf(", with %q between thousands", best[1])
	}
	because := fmt.Sprintf("%s can only be read so", plural(most, "column"))
	confidence := Likely
	if most == 0 {
		if len(undecided) == 0 {
			return // no number needs one
		}
		because = "nothing decides"
	}
	if len(others) > 0 {
		because += "; written otherwise: " + strings.Join(others, ", ")
	}
	if len(undecided) > 0 {
		because += "; can be read either way: " + strings.Join(undecided, ", ")
		if !d.pointed(undecided) { // a point is what nearly everybody means
			confidence = Ambiguous
		}
	}
	d.add("decimal mark", confidence, found, because)
}

// pointed reports whether some columns have points alone, and are read with them as decimal marks.
func (d *Detection) pointed(names []string) bool {
	return d.Reading.DecimalMark == "." && !slices.ContainsFunc(d.Columns, func(c ColumnEvidence) bool {
		return slices.Contains(names, c.Name) && (c.Numbers.DecimalMark != "." || c.Numbers.GroupingMark != "")
	})
}

// agreeOnDates sets the date patterns of the reading to the decided ones.
func (d *Detection) agreeOnDates() {
	var dates, instants []string
	for _, c := range d.Columns {
		if c.Dates == nil {
			continue
		}
		says := make([]string, len(c.Dates.Patterns))
		for i, p := range c.Dates.Patterns {
			says[i] = fmt.Sprintf("%s (%d)", strings.Join(append([]string{p.Pattern}, p.Or...), " or "), p.Rows)
		}
		none := ""
		if c.Dates.None > 0 {
			none = fmt.Sprintf("; none that is known: %d, as %q", c.Dates.None, c.Dates.NoneBy)
		}
		switch c.Dates.Status {
		case DatesDecided:
			to := &dates
			if c.Dates.Instants {
				to = &instants
			}
			if p := c.Dates.Patterns[0].Pattern; p != "yyyyMMdd" && !slices.Contains(*to, p) {
				*to = append(*to, p)
			}
			confidence := Certain
			because := fmt.Sprintf("row %d: %q can only be read so", c.Dates.DecidedRow, c.Dates.DecidedBy)
			if c.Dates.DecidedRow == 0 {
				because, confidence = "all of them fit", Likely
			}
			if !d.whole {
				because += fmt.Sprintf(", of the first %s", plural(d.Sample.Len(), "row"))
				confidence = Likely
			}
			d.add("dates of "+c.Name, confidence, c.Dates.Patterns[0].Pattern, because+none)
		case DatesAmbiguous:
			d.add("dates of "+c.Name, Ambiguous, "left as text", "all of them fit several patterns: "+
				strings.Join(says, ", ")+none+"; declare the one that is meant")
		case DatesMixed:
			d.add("dates of "+c.Name, Ambiguous, "left as text",
				fmt.Sprintf("patterns are mixed: only %s; more than one: %d%s; ask which are meant",
					strings.Join(says, ", only "), c.Dates.Both, none))
		}
	}
	// several are declared column by column, since one could read another's
	if len(dates) == 1 && len(d.fixed.Dates) == 0 {
		d.Reading.Dates = dates
	}
	if len(instants) == 1 && len(d.fixed.Dates) == 0 {
		d.Reading.Dates = append(d.Reading.Dates, instants...)
	}
}
