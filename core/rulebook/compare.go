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
}

// Compare says in words in what a later version differs from an earlier one.
func Compare(before, after *Rulebook) []Difference {
	a, b := statements(before), statements(after)
	out := []Difference{}
	for _, s := range b {
		then := find(a, s.subject)
		if then == nil {
			out = append(out, Difference{s.subject, "added", fmt.Sprintf("The %s is new: %s.", s.subject, s.whole())})
			continue
		}
		for _, f := range s.facts {
			was := then.value(f.Aspect)
			switch {
			case was == f.Value:
			case was == "":
				out = append(out, Difference{s.subject, "changed", fmt.Sprintf("The %s now has %s %s.", s.subject,
					f.Aspect, f.Value)})
			default:
				out = append(out, Difference{s.subject, "changed", fmt.Sprintf("The %s of the %s was %s and is %s.",
					f.Aspect, s.subject, was, f.Value)})
			}
		}
		for _, f := range then.facts {
			if s.value(f.Aspect) == "" {
				out = append(out, Difference{s.subject, "changed", fmt.Sprintf("The %s no longer has %s %s.", s.subject,
					f.Aspect, f.Value)})
			}
		}
	}
	for _, s := range a {
		if find(b, s.subject) == nil {
			out = append(out, Difference{s.subject, "removed", fmt.Sprintf("The %s is gone: %s.", s.subject,
				s.whole())})
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
}

// Fact is one thing that a rulebook says about a subject.
type Fact struct {
	Aspect, Value string
	// Property is that of the metadata of CSVW that carries it; "-" where it is carried otherwise, "" for none.
	Property string
}

func find(all []statement, subject string) *statement {
	for i := range all {
		if all[i].subject == subject {
			return &all[i]
		}
	}
	return nil
}

func (s *statement) value(aspect string) string {
	for _, f := range s.facts {
		if f.Aspect == aspect {
			return f.Value
		}
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

func (s *statement) add(aspect, value string) {
	if value != "" {
		s.facts = append(s.facts, Fact{Aspect: aspect, Value: value})
	}
}

func (s *statement) addTruth(aspect string, holds bool) {
	if holds {
		s.add(aspect, "yes")
	}
}

func (s *statement) addNumber(aspect string, n, absent float64) {
	if n != absent {
		s.add(aspect, strconv.FormatFloat(n, 'f', -1, 64))
	}
}

// statements lays a rulebook out by its subjects.
func statements(b *Rulebook) []statement {
	head := statement{subject: "rulebook"}
	head.add("title", b.Title)
	head.add("measures", document.Join(b.Measures))
	if b.Estimates != EstimatesMissing {
		head.add("estimates count as", b.Estimates)
	}
	head.add("pass mark", strconv.FormatFloat(b.PassMark, 'f', -1, 64))
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

func readingStatement(r *intake.Reading) statement {
	s := statement{subject: "reading"}
	for _, f := range []struct{ aspect, value string }{{"format", string(r.Format)}, {"entry", r.Entry},
		{"sheet", r.Sheet}, {"encoding", r.Encoding}, {"delimiter", strconv.Quote(r.Delimiter)}, {"quote", r.Quote},
		{"header line", strconv.Itoa(r.HeaderLine)},
		{"decimal mark", r.DecimalMark}, {"grouping mark", r.GroupingMark}, {"missing marks", document.Join(r.Missing)},
		{"date patterns", document.Join(slices.Concat(r.Dates, r.DateTimes))},
		{"words for true", document.Join(r.TrueWords)}, {"words for false", document.Join(r.FalseWords)}} {
		s.add(f.aspect, f.value)
	}
	s.add("beginnings of closing lines", document.Join(r.Closing))
	s.addNumber("closing lines", float64(r.ClosingLines), 0)
	return s
}

// statement lays out what an item says, in the order of its section's fields.
func (i *Item) statement() statement {
	s := statement{subject: i.section.Subject, rank: rank(i.section.Name)}
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
			s.facts = append(s.facts, Fact{f.Aspect, value, f.CSVW})
		}
	}
	return s
}

func codeStatements(name string, l *CodeList) []statement {
	head := statement{subject: "code list " + name}
	if l.From != nil {
		head.add("codes of", l.From.String())
	}
	head.addTruth("codes that must all occur", l.AllOccur)
	out := []statement{head}
	for _, c := range l.Codes {
		s := statement{subject: fmt.Sprintf("code %s of %s", c.Code, name)}
		s.add("label", c.Label)
		s.add("parent", c.Parent)
		s.add("other spellings", document.Join(c.Spellings))
		s.addTruth("end", c.Ended)
		s.addTruth("duty to occur", c.MustOccur)
		out = append(out, s)
	}
	return out
}
