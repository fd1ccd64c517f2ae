package rulebook

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/intake"
)

// Difference is one thing in which two versions of a rulebook differ, in words.
type Difference struct {
	Subject string `json:"subject"` // as "column value" or "rule in_order"
	Kind    string `json:"kind"`    // added, removed or changed
	Says    string `json:"says"`
	// Weaker says that less is asked of a table by it, or that nobody can tell: Perhaps says that.
	Weaker  bool `json:"weaker,omitempty"`
	Perhaps bool `json:"perhaps,omitempty"`
}

// Compare says in words in what a later version differs from an earlier one.
func Compare(before, after *Rulebook) []Difference {
	a, b := statements(before), statements(after)
	out := []Difference{}
	for _, s := range b {
		then := find(a, s.subject)
		if then == nil {
			out = append(out, Difference{Subject: s.subject, Kind: "added", Says: fmt.Sprintf("The %s is new: %s.", s.subject, s.whole()),
				Weaker: s.excuses})
			continue
		}
		out = append(out, s.since(then)...)
	}
	for _, s := range a {
		if find(b, s.subject) == nil {
			out = append(out, Difference{Subject: s.subject, Kind: "removed", Says: fmt.Sprintf("The %s is gone: %s.", s.subject, s.whole()),
				Weaker: s.asks && !s.renamed(b, after)})
		}
	}
	return out
}

// renamed reports whether a column that is gone has another name now, and no less is asked of it.
func (s *statement) renamed(now []statement, after *Rulebook) bool {
	was, ok := strings.CutPrefix(s.subject, "column ")
	name, known := after.Reading.Renamed[was]
	if !ok || !known {
		return false
	}
	heir := find(now, "column "+name)
	return heir != nil && !slices.ContainsFunc(heir.since(s), func(d Difference) bool { return d.Weaker })
}

// since tells in what a statement differs from the one that there was of the same subject.
func (s *statement) since(then *statement) (out []Difference) {
	differ := func(now, was *Fact, says string) {
		weaker, certain := now.weaker(was)
		out = append(out, Difference{Subject: s.subject, Kind: "changed", Says: says, Weaker: weaker, Perhaps: weaker && !certain})
	}
	for _, f := range s.facts {
		was := then.fact(f.Aspect)
		switch {
		case was == nil:
			differ(&f, &Fact{}, fmt.Sprintf("The %s now has %s %s.", s.subject, f.Aspect, f.Value))
		case was.Value != f.Value:
			differ(&f, was, fmt.Sprintf("The %s of the %s was %s and is %s.", f.Aspect, s.subject, was.Value, f.Value))
		}
	}
	for _, f := range then.facts {
		if s.fact(f.Aspect) == nil {
			gone := f
			gone.Value, gone.entries = "", nil
			differ(&gone, &f, fmt.Sprintf("The %s no longer has %s %s.", s.subject, f.Aspect, f.Value))
		}
	}
	return out
}

// Facts returns what the rulebook says of a subject, as "column value".
func (b *Rulebook) Facts(subject string) []Fact {
	if s := find(b.facts, subject); s != nil {
		return s.facts
	}
	return nil
}

// Said returns what the rulebook says of a subject, as "column value", under an aspect, as
// "highest value"; "" where it says nothing.
func (b *Rulebook) Said(subject, aspect string) string {
	if s := find(statements(b), subject); s != nil {
		return s.value(aspect)
	}
	return ""
}

// statement is what a rulebook says about one subject.
type statement struct {
	subject string
	facts   []Fact
	rank    int // of its section
	// asks says that less is asked without it, and excuses that less is asked with it.
	asks, excuses bool
}

// Fact is one thing that a rulebook says about a subject.
type Fact struct {
	Aspect, Value string
	// Property is that of the metadata of CSVW that carries it; "-" where it is carried otherwise, "" for none.
	Property string
	eases    Eases
	entries  []string // of a list
	choices  []string // of a field that is one of some words
}

func find(all []statement, subject string) *statement {
	for i := range all {
		if all[i].subject == subject {
			return &all[i]
		}
	}
	return nil
}

func (s *statement) fact(aspect string) *Fact {
	for i := range s.facts {
		if s.facts[i].Aspect == aspect {
			return &s.facts[i]
		}
	}
	return nil
}

func (s *statement) value(aspect string) string {
	if f := s.fact(aspect); f != nil {
		return f.Value
	}
	return ""
}

func (s *statement) whole() string {
	parts := make([]string, len(s.facts))
	for i, f := range s.facts {
		parts[i] = f.Aspect + " " + f.Value
	}
	if len(parts) == 0 {
		return "without more"
	}
	return strings.Join(parts, ", ")
}

func (s *statement) add(aspect, value string, eases Eases, entries ...string) {
	if value != "" {
		s.facts = append(s.facts, Fact{Aspect: aspect, Value: value, eases: eases, entries: entries})
	}
}

func (s *statement) addList(aspect string, entries []string, eases Eases) {
	s.add(aspect, document.Join(entries), eases, entries...)
}

func (s *statement) addTruth(aspect string, holds bool, eases Eases) {
	if holds {
		s.add(aspect, "yes", eases)
	}
}

// statements lays a rulebook out by its subjects.
func statements(b *Rulebook) []statement {
	head := statement{subject: "rulebook"}
	head.add("title", b.Title, EasesNever)
	head.addList("measures", b.Measures, EasesNever)
	if b.Estimates != EstimatesMissing {
		head.add("estimates count as", b.Estimates, EasesGiven)
	}
	head.add("pass mark", strconv.FormatFloat(b.PassMark, 'f', -1, 64), EasesLower)
	out := []statement{head, readingStatement(&b.Reading)}
	lists := slices.IndexFunc(b.facts, func(s statement) bool { return s.rank > rank("equal_rows") })
	if lists < 0 {
		lists = len(b.facts)
	}
	out = append(out, b.facts[:lists]...)
	for _, name := range slices.Sorted(maps.Keys(b.CodeLists)) {
		out = append(out, codeStatements(name, b.CodeLists[name])...)
	}
	return append(out, b.facts[lists:]...)
}

// readingStatement lays out how bytes become rows. What is read as missing, as a date or as no row at all asks less of a
// table; the shape of its file asks nothing.
func readingStatement(r *intake.Reading) statement {
	s := statement{subject: "reading"}
	for _, f := range []struct{ aspect, value string }{{"format", string(r.Format)}, {"entry", r.Entry},
		{"sheet", r.Sheet}, {"encoding", r.Encoding}, {"delimiter", strconv.Quote(r.Delimiter)}, {"quote", r.Quote},
		{"header line", strconv.Itoa(r.HeaderLine)},
		{"decimal mark", r.DecimalMark}, {"grouping mark", r.GroupingMark}} {
		s.add(f.aspect, f.value, EasesNever)
	}
	s.addList("missing marks", r.Missing, EasesLonger)
	s.addList("date patterns", slices.Concat(r.Dates, r.DateTimes), EasesPatterns)
	s.addList("words for true", r.TrueWords, EasesLonger)
	s.addList("words for false", r.FalseWords, EasesLonger)
	s.addList("beginnings of closing lines", r.Closing, EasesLonger)
	if r.ClosingLines > 0 {
		s.add("closing lines", strconv.Itoa(r.ClosingLines), EasesMore)
	}
	return s
}

// statement lays out what an item says, in the order of its section's fields.
func (i *Item) statement() statement {
	s := statement{subject: i.section.Subject, rank: rank(i.section.Name), asks: !i.section.Quiet, excuses: i.section.Quiet}
	if !i.section.Single {
		s.subject += " " + i.Name
	}
	if i.Column != nil && i.Column.Required {
		i.note("required", "yes")
	}
	i.note("severity", string(i.Severity))
	i.note("reason", i.Reason)
	for _, f := range i.section.forms() {
		if value := i.facts[f.Name]; f.Aspect != "" && value != "" && value != f.Default {
			s.facts = append(s.facts, Fact{Aspect: f.Aspect, Value: value, Property: f.CSVW, eases: f.Eases, entries: i.entries[f.Name], choices: f.Choices})
		}
	}
	return s
}

func codeStatements(name string, l *CodeList) []statement {
	head := statement{subject: "code list " + name}
	if l.From != nil {
		head.add("codes of", l.From.String(), EasesAny)
	}
	head.addTruth("codes that must all occur", l.AllOccur, EasesOff)
	out := []statement{head}
	for _, c := range l.Codes {
		s := statement{subject: fmt.Sprintf("code %s of %s", c.Code, name), excuses: true}
		s.add("label", c.Label, EasesNever)
		s.add("parent", c.Parent, EasesAny)
		s.addList("other spellings", c.Spellings, EasesNever) // they are still told, as spellings
		s.addTruth("end", c.Ended, EasesOff)
		s.addTruth("duty to occur", c.MustOccur, EasesOff)
		out = append(out, s)
	}
	return out
}
