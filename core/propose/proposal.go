package propose

import (
	"slices"
	"strings"

	"proudsieve/core/rulebook"
)

// Proposal is a draft of a rulebook, line by line, each with its evidence: a steward takes it as it stands, or leaves
// and takes some of it.
type Proposal struct {
	Lines []Line
	head  string // what stands above the columns
	lists []codeList
}

// Line is what is proposed of one thing: a column, a key, a rule, or what a section holds.
type Line struct {
	Section string `json:"section" doc:"Of the rulebook"`
	Item    string `json:"item" doc:"The column, or the id"`
	Parts   []Part `json:"parts"`
}

// Part is a part of a line that can be taken by itself.
type Part struct {
	Name      string   `json:"name" doc:"Empty where the line has but one"`
	Fields    []string `json:"fields" doc:"As the rulebook writes them; empty for what is merely worth knowing"`
	Detail    string   `json:"detail,omitempty" doc:"What a field names, as the codes of a list"`
	Evidence  string   `json:"evidence"`
	Suggested bool     `json:"suggested" doc:"It is taken only where a person says so"`
	Fixed     bool     `json:"fixed" doc:"The line is nothing without it"`
}

// Pick names a part of a proposal.
type Pick struct {
	Section string `json:"section"`
	Item    string `json:"item"`
	Part    string `json:"part"`
}

// Choice is what a person changes of a proposal; the zero value leaves it as it stands.
type Choice struct {
	Left     []Pick   `json:"left,omitempty" maxItems:"10000" doc:"Parts that are left out"`
	Taken    []Pick   `json:"taken,omitempty" maxItems:"10000" doc:"Suggested parts that are taken"`
	PassMark *float64 `json:"pass_mark,omitempty" minimum:"0" maximum:"100"`
}

// codeList is a list that a column's codes are in.
type codeList struct{ column, name, codes string }

const (
	sectionReading    = "reading"
	sectionColumns    = "columns"
	sectionKeys       = "keys"
	sectionEqualRows  = "equal_rows"
	sectionRules      = "rules"
	sectionReferences = "references"
	sectionTableRules = "table_rules"
	sectionHistory    = "history"
	sectionMeasures   = "measures"

	partCodes = "codes"
)

// add adds a line of a single part.
func (p *Proposal) add(section, item string, part Part) {
	p.Lines = append(p.Lines, Line{section, item, []Part{part}})
}

// takes reports whether a part is in the rulebook by a choice.
func (c *Choice) takes(l *Line, part *Part) bool {
	pick := Pick{l.Section, l.Item, part.Name}
	switch {
	case len(part.Fields) == 0:
		return false
	case part.Fixed:
		return true
	case part.Suggested:
		return slices.Contains(c.Taken, pick)
	}
	return !slices.Contains(c.Left, pick)
}

// Source returns the proposal as a rulebook, with the evidence beside each line and what is only suggested as comments.
// What a person leaves out is not in it.
func (p *Proposal) Source(c Choice) string {
	w := &rulebook.Text{}
	w.WriteString(p.head)
	p.missing(w, &c)
	p.items(w, &c, sectionColumns)
	p.items(w, &c, sectionKeys)
	for _, l := range p.of(sectionEqualRows) {
		if c.takes(&l, &l.Parts[0]) {
			w.Line("equal_rows: {%s}%s", strings.Join(l.Parts[0].Fields, ", "), beside(l.Parts[0].Evidence))
		}
	}
	p.codeLists(w, &c)
	for _, section := range []string{sectionRules, sectionReferences, sectionTableRules, sectionHistory} {
		p.items(w, &c, section)
	}
	p.measures(w, &c)
	mark := 100.0
	if c.PassMark != nil {
		mark = *c.PassMark
	}
	w.Line("pass_mark: %g   # the least score of a table that passes; decide what is good enough", mark)
	return w.String()
}

func (p *Proposal) of(section string) (lines []Line) {
	for _, l := range p.Lines {
		if l.Section == section {
			lines = append(lines, l)
		}
	}
	return lines
}

func beside(evidence string) string {
	if evidence == "" {
		return ""
	}
	return "   # " + evidence
}

// split parts the texts of a line that lists them.
func (c *Choice) split(l *Line) (taken, others []string) {
	for i := range l.Parts {
		switch part := &l.Parts[i]; {
		case c.takes(l, part):
			taken = append(taken, part.Fields...)
		case part.Suggested:
			others = append(others, part.Fields...)
		}
	}
	return taken, others
}

func (p *Proposal) missing(w *rulebook.Text, c *Choice) {
	for _, l := range p.of(sectionReading) {
		taken, others := c.split(&l)
		if len(taken) > 0 {
			w.Line("  missing: [%s]", rulebook.List(taken))
		}
		if len(others) > 0 {
			w.Line("  # missing: [%s]   # these look as if they stood for nothing", rulebook.List(others))
		}
	}
}

func (p *Proposal) measures(w *rulebook.Text, c *Choice) {
	for _, l := range p.of(sectionMeasures) {
		if taken, _ := c.split(&l); len(taken) > 0 {
			w.Line("measures: [%s]   # columns of numbers that are summed; they say what a finding costs", rulebook.List(taken))
		}
	}
}

// codeLists writes those that a column's codes are in.
func (p *Proposal) codeLists(w *rulebook.Text, c *Choice) {
	began := false
	for _, list := range p.lists {
		if slices.Contains(c.Left, Pick{sectionColumns, list.column, partCodes}) {
			continue
		}
		if !began {
			began = true
			w.Line("code_lists:")
		}
		w.Line("  %s: [%s]", list.name, list.codes)
	}
}

// items writes the lines of a section, each thing in one.
func (p *Proposal) items(w *rulebook.Text, c *Choice, section string) {
	var lines rulebook.Text
	any := false
	for _, l := range p.of(section) {
		var fields, evidence, hints []string
		for i := range l.Parts {
			part := &l.Parts[i]
			switch {
			case len(part.Fields) == 0 && !part.Suggested:
				evidence = append(evidence, part.Evidence)
			case c.takes(&l, part):
				fields = append(fields, part.Fields...)
				if part.Evidence != "" {
					evidence = append(evidence, part.Evidence)
				}
			case part.Suggested && section == sectionColumns:
				hints = append(hints, part.hint())
			case part.Suggested:
				lines.Line("  # - {%s}%s", strings.Join(part.Fields, ", "), beside(part.Evidence))
			}
		}
		if len(fields) > 0 {
			any = true
			lines.Line("  - {%s}%s", strings.Join(fields, ", "), beside(strings.Join(evidence, "; ")))
		}
		if len(hints) > 0 {
			lines.Line("    # %s", strings.Join(hints, "; "))
		}
	}
	if lines.Len() == 0 {
		return
	}
	if !any { // nothing but suggestions
		w.WriteString("# ")
	}
	w.Line("%s:", section)
	w.WriteString(lines.String())
}

// hint writes a suggestion for a column as a comment.
func (p *Part) hint() string {
	if len(p.Fields) == 0 {
		return p.Evidence
	}
	return strings.Join(p.Fields, ", ") + " " + p.Evidence
}
