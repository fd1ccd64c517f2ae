package rulebook

import (
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"proudsieve/core/table"
)

// MeaningKind tells texts apart that are no code of their column.
type MeaningKind string

// The kinds of meanings.
const (
	MeansCode    MeaningKind = "spelling"     // another spelling of a code of the list
	MeansOther   MeaningKind = "other_list"   // a code of a list that no other column uses
	MeansColumn  MeaningKind = "other_column" // a code of the list of another column
	MeansParent  MeaningKind = "parent"       // what codes of the list are a part of
	MeansSeveral MeaningKind = "several"      // two codes or more in one cell
	MeansNothing MeaningKind = "unknown"
)

// Meaning is what a text that is no code probably stands for.
type Meaning struct {
	Kind   MeaningKind `json:"kind"`
	Code   string      `json:"code,omitempty"`   // of MeansCode, MeansOther and MeansColumn
	Codes  []string    `json:"codes,omitempty"`  // of MeansSeveral
	List   string      `json:"list,omitempty"`   // of MeansOther and MeansColumn
	Column string      `json:"column,omitempty"` // of MeansColumn
	How    string      `json:"how,omitempty"`    // why it is thought so, as "typing slip"
	Sure   float64     `json:"sure"`             // from 0 to 1
}

// The ways in which a text is like a code, with how sure each is. The shares are our
// estimate, and order the ways; they are not measured.
const (
	howDeclared     = "declared spelling"
	howSpace        = "spaces"
	howCase         = "upper and lower case"
	howSpaceCase    = "spaces and case"
	howPunctuation  = "accents or punctuation"
	howLabel        = "its label"
	howAbbreviation = "abbreviation"
	howSlip         = "typing slip"
)

// Recogniser tells what texts of a column stand for.
type Recogniser struct {
	list   *CodeList
	folded map[string]int  // codes, spellings and labels, folded, to the code
	label  map[string]bool // whether that was a label
	names  []string        // the keys of folded, sorted
	parent map[string]bool // levelled
	others []otherList
}

type otherList struct {
	name, column string // column is empty where no column uses it
	list         *CodeList
}

// Recogniser returns what tells the texts of a column of type code; nil for others.
func (b *Rulebook) Recogniser(column string) *Recogniser {
	c := b.Column(column)
	if c == nil || b.CodeLists[c.CodeList] == nil {
		return nil
	}
	r := &Recogniser{list: b.CodeLists[c.CodeList], folded: map[string]int{}, label: map[string]bool{},
		parent: map[string]bool{}}
	for i, code := range r.list.Codes {
		for k, text := range append([]string{code.Code, code.Label}, code.Spellings...) {
			folded := table.Fold(text)
			if _, known := r.folded[folded]; known || folded == "" {
				continue
			}
			r.folded[folded], r.label[folded] = i, k == 1
		}
		if code.Parent != "" {
			r.parent[table.Level(code.Parent)] = true
		}
	}
	r.names = slices.Sorted(maps.Keys(r.folded))
	for _, name := range slices.Sorted(maps.Keys(b.CodeLists)) {
		if name == c.CodeList {
			continue
		}
		one := otherList{name: name, list: b.CodeLists[name]}
		for _, other := range b.Columns {
			if other.CodeList == name && one.column == "" {
				one.column = other.Name
			}
		}
		r.others = append(r.others, one)
	}
	return r
}

// Of returns what a text that is no code of the list stands for.
func (r *Recogniser) Of(text string) Meaning {
	if m, ok := r.exact(text); ok {
		return m
	}
	for _, o := range r.others {
		if code, ok := o.list.Resolve(text); ok {
			m := Meaning{Kind: MeansOther, Code: code, List: o.name, Sure: 0.9}
			if o.column != "" {
				m.Kind, m.Column = MeansColumn, o.column
			}
			return m
		}
	}
	if r.parent[table.Level(text)] {
		return Meaning{Kind: MeansParent, Code: table.Trim(text), Sure: 0.9}
	}
	if m, ok := r.several(text); ok {
		return m
	}
	if m, ok := r.like(text); ok {
		return m
	}
	return Meaning{Kind: MeansNothing}
}

// exact finds texts that are equal to a code once something is levelled.
func (r *Recogniser) exact(text string) (Meaning, bool) {
	if code, ok := r.list.Resolve(text); ok {
		how := howDeclared
		switch {
		case table.Trim(text) == code:
			how = howSpace
		case strings.EqualFold(text, code):
			how = howCase
		case strings.EqualFold(table.Trim(text), code):
			how = howSpaceCase
		}
		return Meaning{Kind: MeansCode, Code: code, How: how, Sure: 1}, true
	}
	folded := table.Fold(text)
	if i, ok := r.folded[folded]; ok {
		m := Meaning{Kind: MeansCode, Code: r.list.Codes[i].Code, How: howPunctuation, Sure: 0.95}
		if r.label[folded] {
			m.How = howLabel
		}
		return m, true
	}
	return Meaning{}, false
}

// several finds codes that stand side by side in one text.
func (r *Recogniser) several(text string) (Meaning, bool) {
	for _, separators := range []string{"/,;|+&", "/,;|+& ", "/,;|+&-_ "} {
		parts := strings.FieldsFunc(text, func(c rune) bool { return strings.ContainsRune(separators, c) })
		if len(parts) < 2 {
			continue
		}
		m := Meaning{Kind: MeansSeveral, Sure: 0.8}
		for _, part := range parts {
			code, ok := r.list.Resolve(part)
			if !ok {
				break
			}
			m.Codes = append(m.Codes, code)
		}
		if len(m.Codes) == len(parts) {
			return m, true
		}
	}
	return Meaning{}, false
}

// like finds the one code that a text abbreviates, or is a slip or two away from.
func (r *Recogniser) like(text string) (Meaning, bool) {
	folded := table.Fold(text)
	length := utf8.RuneCountInString(folded)
	if length < 2 {
		return Meaning{}, false
	}
	abbreviated, slipped := map[int]bool{}, map[int]bool{}
	least := slips(length) + 1
	for _, name := range r.names {
		i := r.folded[name]
		if length >= 3 && len(name) > len(folded) && strings.HasPrefix(name, folded) {
			abbreviated[i] = true
		}
		if most := min(slips(length), slips(utf8.RuneCountInString(name))); most > 0 {
			switch d := Distance(folded, name, min(most, least)); {
			case d < least && d <= most:
				least, slipped = d, map[int]bool{i: true}
			case d == least && d <= most:
				slipped[i] = true
			}
		}
	}
	for i, c := range r.list.Codes {
		if initials(c.Label) == folded {
			abbreviated[i] = true
		}
	}
	switch {
	case len(slipped) == 1:
		return Meaning{Kind: MeansCode, Code: r.only(slipped), How: howSlip, Sure: 0.9 - 0.2*float64(least)}, true
	case len(abbreviated) == 1:
		return Meaning{Kind: MeansCode, Code: r.only(abbreviated), How: howAbbreviation, Sure: 0.6}, true
	}
	return Meaning{}, false
}

func (r *Recogniser) only(set map[int]bool) string {
	for i := range set {
		return r.list.Codes[i].Code
	}
	return ""
}

// slips is how many slips a text of so many characters may have and still be recognised.
func slips(length int) int {
	switch {
	case length < 4:
		return 0
	case length < 8:
		return 1
	}
	return 2
}

func initials(label string) string {
	words := strings.FieldsFunc(label, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
	if len(words) < 2 {
		return ""
	}
	var b strings.Builder
	for _, w := range words {
		first, _ := utf8.DecodeRuneInString(w)
		b.WriteRune(unicode.ToLower(first))
	}
	return b.String()
}

// Distance counts the characters put in, left out, exchanged, or swapped with their neighbour that
// make one text of the other (the restricted distance of Damerau, CACM 7(3), 1964). It
// gives up beyond most and returns most + 1.
func Distance(a, b string, most int) int {
	x, y := []rune(a), []rune(b)
	if len(x)-len(y) > most || len(y)-len(x) > most {
		return most + 1
	}
	before, last, now := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(x); i++ {
		now[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			now[j] = min(now[j-1]+1, last[j]+1, last[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
		}
		if slices.Min(now) > most {
			return most + 1
		}
		before, last, now = last, now, before
	}
	return min(last[len(y)], most+1)
}
