package rulebook

import (
	"fmt"

	"proudsieve/core/table"
)

// CodeList declares the codes of a column and their other spellings.
type CodeList struct {
	Codes []Code
	// From is the column of another dataset whose values are codes too, or nil.
	From *Elsewhere
	// AllOccur says that each code must occur in every table, those that ended left aside.
	AllOccur bool
	// Lacking says why the codes of the other dataset are not known, so that nothing can be
	// called unknown; "" where they are.
	Lacking string
	// levelled maps every code and spelling, levelled, to the index of its code.
	levelled map[string]int
	exact    map[string]int
}

// Code is one code with its label and the other spellings that stand for it.
type Code struct {
	Code      string
	Label     string
	Parent    string // the code that it is a part of, in another list
	Spellings []string
	Ended     bool // it stood for something once; using it is a fault
	MustOccur bool // in every table
}

// Has reports whether text is one of the codes to the letter.
func (l *CodeList) Has(text string) bool {
	_, ok := l.exact[text]
	return ok
}

// Resolve returns the code that text is another spelling of: equal to a code or
// one of its spellings once spaces and case are levelled.
func (l *CodeList) Resolve(text string) (code string, ok bool) {
	if l.Has(text) {
		return text, true
	}
	i, ok := l.levelled[table.Level(text)]
	if !ok {
		return "", false
	}
	return l.Codes[i].Code, true
}

// Find returns a code, or nil.
func (l *CodeList) Find(code string) *Code {
	if i, ok := l.levelled[table.Level(code)]; ok && l.Codes[i].Code == code {
		return &l.Codes[i]
	}
	return nil
}

// Contradicts says by an example where a text means one code in one list and another in the other, or the same code other
// things; "" where nothing does. Nil lists contradict nothing.
func (l *CodeList) Contradicts(o *CodeList) string {
	if l == nil || o == nil {
		return ""
	}
	shared := false
	for _, c := range l.Codes {
		other := o.Find(c.Code)
		shared = shared || other != nil
		if other != nil && other.Label != c.Label && other.Label != "" && c.Label != "" && table.Level(other.Label) != table.Level(c.Label) {
			return fmt.Sprintf("%q stands for %q in the one and for %q in the other", c.Code, c.Label, other.Label)
		}
		for _, text := range append([]string{c.Code}, c.Spellings...) {
			if code, known := o.Resolve(text); known && code != c.Code {
				return fmt.Sprintf("%q is %q in the one and %q in the other", text, c.Code, code)
			}
		}
		if c.Label == "" {
			continue
		}
		for _, theirs := range o.Codes {
			if theirs.Code != c.Code && table.Level(theirs.Label) == table.Level(c.Label) {
				return fmt.Sprintf("%q is %q in the one and %q in the other", c.Label, c.Code, theirs.Code)
			}
		}
	}
	if !shared && len(l.Codes) > 0 && len(o.Codes) > 0 {
		return fmt.Sprintf("none is in both lists, which begin with %q and %q", l.Codes[0].Code, o.Codes[0].Code)
	}
	return ""
}

// add adds a code; taken is called for each spelling that stands for another code already.
func (l *CodeList) add(c Code, taken func(text, code string)) {
	at := len(l.Codes)
	for _, text := range append([]string{c.Code}, c.Spellings...) {
		levelled := table.Level(text)
		if other, known := l.levelled[levelled]; known && other != at {
			taken(text, l.Codes[other].Code)
			continue
		}
		l.levelled[levelled] = at
	}
	if _, known := l.exact[c.Code]; !known {
		l.exact[c.Code] = at
	}
	l.Codes = append(l.Codes, c)
}

// With returns the rulebook with the codes that lists take from other datasets. values
// returns the texts of a column of a dataset; a code that is listed already is not added.
// A list whose texts cannot be had stays Lacking.
func (b *Rulebook) With(values func(e Elsewhere) ([]string, error)) *Rulebook {
	copied := *b
	copied.CodeLists = make(map[string]*CodeList, len(b.CodeLists))
	for name, l := range b.CodeLists {
		copied.CodeLists[name] = l
		if l.From == nil {
			continue
		}
		texts, err := values(*l.From)
		more := newCodeList()
		if err != nil {
			more.Lacking = err.Error()
		}
		more.From, more.AllOccur = l.From, l.AllOccur
		for _, c := range l.Codes {
			more.add(c, func(string, string) {})
		}
		for _, text := range texts {
			if text = table.Trim(text); text != "" && !more.Has(text) {
				more.add(Code{Code: text}, func(string, string) {})
			}
		}
		copied.CodeLists[name] = more
	}
	return &copied
}

func newCodeList() *CodeList { return &CodeList{levelled: map[string]int{}, exact: map[string]int{}} }
