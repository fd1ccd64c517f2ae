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
			was := then.value(f.aspect)
			switch {
			case was == f.value:
			case was == "":
				out = append(out, Difference{s.subject, "changed", fmt.Sprintf("The %s now has %s %s.", s.subject, f.aspect, f.value)})
			default:
				out = append(out, Difference{s.subject, "changed", fmt.Sprintf("The %s of the %s was %s and is %s.", f.aspect, s.subject, was, f.value)})
			}
		}
		for _, f := range then.facts {
			if s.value(f.aspect) == "" {
				out = append(out, Difference{s.subject, "changed", fmt.Sprintf("The %s no longer has %s %s.", s.subject, f.aspect, f.value)})
			}
		}
	}
	for _, s := range a {
		if find(b, s.subject) == nil {
			out = append(out, Difference{s.subject, "removed", fmt.Sprintf("The %s is gone: %s.", s.subject, s.whole())})
		}
	}
	return out
}

// statement is what a rulebook says about one subject.
type statement struct {
	subject string
	facts   []fact
}

type fact struct{ aspect, value string }

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
		if f.aspect == aspect {
			return f.value
		}
	}
	return ""
}

func (s *statement) whole() string {
	parts := make([]string, len(s.facts))
	for i, f := range s.facts {
		parts[i] = f.aspect + " " + f.value
	}
	if len(parts) == 0 {
		return "without more"
	}
	return strings.Join(parts, ", ")
}

func (s *statement) add(aspect, value string) {
	if value != "" {
		s.facts = append(s.facts, fact{aspect, value})
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
	head.add("pass mark", strconv.FormatFloat(b.PassMark, 'f', -1, 64))
	out := []statement{head, readingStatement(&b.Reading)}
	for i := range b.Columns {
		out = append(out, columnStatement(&b.Columns[i]))
	}
	for _, k := range b.Keys {
		s := statement{subject: "key " + k.ID}
		s.add("columns", document.Join(k.Columns))
		s.addTruth("parts that may lack", k.MayLackParts)
		s.add("severity", string(k.Severity))
		s.add("reason", k.Reason)
		out = append(out, s)
	}
	if d := b.Duplicates; d != nil {
		s := statement{subject: "rule against equal rows"}
		s.add("severity", string(d.Severity))
		s.add("reason", d.Reason)
		out = append(out, s)
	}
	for _, name := range slices.Sorted(maps.Keys(b.CodeLists)) {
		out = append(out, codeStatements(name, b.CodeLists[name])...)
	}
	return append(out, ruleStatements(b)...)
}

func readingStatement(r *intake.Reading) statement {
	s := statement{subject: "reading"}
	for _, f := range []fact{{"format", string(r.Format)}, {"entry", r.Entry}, {"sheet", r.Sheet}, {"encoding", r.Encoding}, {"delimiter", strconv.Quote(r.Delimiter)}, {"quote", r.Quote}, {"header line", strconv.Itoa(r.HeaderLine)},
		{"decimal mark", r.DecimalMark}, {"grouping mark", r.GroupingMark}, {"missing marks", document.Join(r.Missing)}, {"date patterns", document.Join(r.Dates)}, {"datetime patterns", document.Join(r.DateTimes)},
		{"words for true", document.Join(r.TrueWords)}, {"words for false", document.Join(r.FalseWords)}} {
		s.add(f.aspect, f.value)
	}
	s.addNumber("closing lines", float64(r.ClosingLines), 0)
	return s
}

func columnStatement(c *Column) statement {
	s := statement{subject: "column " + c.Name}
	s.add("title", c.Title)
	s.add("type", string(c.Type))
	s.add("unit", c.Unit)
	s.add("role", c.Role)
	s.addTruth("required", c.Required)
	s.addNumber("share that must be filled", c.Filled, 0)
	if c.Pattern != nil {
		s.add("pattern", c.Pattern.String())
	}
	if c.Lowest != nil {
		s.add("lowest value", c.Lowest.Standard())
	}
	if c.Highest != nil {
		s.add("highest value", c.Highest.Standard())
	}
	s.addNumber("shortest text", float64(c.Shortest), 0)
	s.addNumber("longest text", float64(c.Longest), 0)
	s.addNumber("digits after the point", float64(c.Decimals), -1)
	s.add("code list", c.CodeList)
	s.addTruth("new codes", c.NewCodes)
	s.add("column of its parent", c.ParentIn)
	s.addNumber("weight", c.Weight, 1)
	s.add("date patterns", document.Join(c.Dates))
	s.add("decimal mark", c.DecimalMark)
	s.add("grouping mark", c.GroupingMark)
	s.add("severity", string(c.Severity))
	s.add("reason", c.Reason)
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

func ruleStatements(b *Rulebook) []statement {
	var out []statement
	end := func(s statement, severity Severity, reason string) {
		s.add("severity", string(severity))
		s.add("reason", reason)
		out = append(out, s)
	}
	for _, r := range b.Rules {
		s := statement{subject: "rule " + r.ID}
		if r.When != nil {
			s.add("case in which it applies", r.When.String())
		}
		s.add("condition", r.Condition.String())
		if by := r.Condition.Tolerance(); by != nil {
			s.add("tolerance", by.Shortest())
		}
		s.addNumber("percentage that may break it", r.MayBreak, 0)
		end(s, r.Severity, r.Reason)
	}
	for _, r := range b.TableRules {
		s := statement{subject: "table rule " + r.ID}
		s.add("check", string(r.Check))
		s.addNumber("least number of rows", float64(r.Least), 0)
		s.addNumber("greatest number of rows", float64(r.Most), 0)
		s.add("summed column", r.Of)
		s.add("column", r.In)
		s.add("groups", document.Join(r.Per))
		s.add("step", r.Step.Says)
		if r.Total != nil {
			s.add("total", r.Total.String())
		}
		if r.With != nil {
			s.add("other dataset", r.With.String())
		}
		if r.Tolerance.Sign() > 0 {
			s.add("tolerance", r.Tolerance.Shortest())
		}
		end(s, r.Severity, r.Reason)
	}
	for _, r := range b.References {
		s := statement{subject: "reference " + r.ID}
		s.add("columns", document.Join(r.Columns))
		s.add("other dataset", r.To.String())
		end(s, r.Severity, r.Reason)
	}
	for _, r := range b.History {
		s := statement{subject: "history rule " + r.ID}
		s.add("check", string(r.Check))
		s.add("column", r.Column)
		s.addNumber("band", r.Within, 0)
		s.addNumber("deliveries back", float64(r.Last), 1)
		s.addNumber("days", float64(r.Days), 0)
		end(s, r.Severity, r.Reason)
	}
	return out
}
