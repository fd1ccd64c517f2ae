package propose

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/leads"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/scratch"
	"proudsieve/core/table"
)

// Step is a step of a fix plan that would put something right, filled in.
type Step struct {
	// Finding is the rule that is broken, Lead the kind of lead, with its Column, that the step is for.
	Finding string       `json:"finding,omitempty"`
	Lead    string       `json:"lead,omitempty"`
	Column  string       `json:"column,omitempty"`
	Fields  []edit.Field `json:"fields"`
	// Evidence is what was found.
	Evidence string `json:"evidence"`
	// Doubt is why a person has to decide it; empty where the step can be taken as it stands.
	Doubt string `json:"doubt,omitempty"`
}

// Steps proposes what would put right what an audit found, by its findings and leads. What changes what a thing is called
// or how often it is there is for a person to decide.
func Steps(result *audit.Result, book *rulebook.Rulebook) []Step {
	w := &stepWriter{result: result, book: book}
	for i := range result.Findings {
		w.finding(&result.Findings[i])
	}
	for i := range result.Leads {
		w.lead(&result.Leads[i])
	}
	return append([]Step{}, w.steps...)
}

type stepWriter struct {
	result *audit.Result
	book   *rulebook.Rulebook
	steps  []Step
}

func (w *stepWriter) add(s Step, doubt string, do string, fields ...edit.Field) {
	s.Doubt = doubt
	s.Fields = append([]edit.Field{{Name: "do", Value: do}}, fields...)
	if !slices.ContainsFunc(w.steps, func(o Step) bool {
		return o.Finding == s.Finding && o.Lead == s.Lead && text(o.Fields) == text(s.Fields)
	}) {
		w.steps = append(w.steps, s)
	}
}

func columnsOf(names ...string) edit.Field { return edit.Field{Name: "columns", Values: names} }
func set(name, value string) edit.Field    { return edit.Field{Name: name, Value: value} }
func because(reason string) edit.Field     { return edit.Field{Name: "reason", Value: reason} }

// keyed reports whether a column is of a key, so that other texts in it make other things of the rows.
func (w *stepWriter) keyed(column string) bool {
	return slices.ContainsFunc(w.book.Rules, func(d *rulebook.Declared) bool {
		return d.Kind.Section == "keys" && slices.Contains(d.Rule.Columns(), column)
	})
}

const (
	ownersWord    = "whether it is so is for the owner of the data to say"
	keyDoubt      = "the column is of a key: rows that were different things may become one"
	whichStays    = "which of the rows stays is for a person to decide"
	emptyDoubt    = "what stands in the gaps then was measured by nobody"
	estimateDoubt = "an estimate is no measurement; weigh the methods, and what the gaps depend on, before you choose one"
	reshapes      = "the table gets another shape: declare the dataset that it makes, and write its name in makes"
	unitOfThese   = "whether these are of the unit of the others is for the owner of the data to say"
)

func (w *stepWriter) finding(f *audit.Finding) {
	s := Step{Finding: f.Rule, Evidence: f.Found}
	if len(f.Columns) == 1 {
		s.Column = f.Columns[0]
	}
	switch {
	case f.Kind == "spelling" && s.Column != "":
		doubt := ""
		if w.keyed(s.Column) {
			doubt = keyDoubt
		}
		w.add(s, doubt, "map_codes", columnsOf(s.Column), because("Other spellings of the codes in the rulebook."))
	case f.Kind == "codes" && s.Column != "":
		w.add(s, "what is suggested for a text may be wrong; the preview tells which texts these are", "map_codes", columnsOf(s.Column), set("sure", "0.9"),
			because("Texts that are nearly a code."))
	case f.Kind == "equal_rows":
		w.add(s, "", "remove_equal_rows", because("Rows that are there more than once."))
	case f.Kind == "key":
		w.add(s, whichStays, "keep_one", columnsOf(f.Columns...), set("survivor", "fullest_row"), set("ties", "earliest_row"),
			because("One thing is there once."))
	case f.Kind == "required" && s.Column != "":
		w.add(s, emptyDoubt, "fill", columnsOf(s.Column), set("from", "row_before"), columnsNamed("order", w.dates()),
			because("A gap takes the value of the row before."))
		if alike := w.alike(s.Column); len(alike) > 0 {
			w.add(s, estimateDoubt, "estimate", set("column", s.Column), set("method", "near_predictions"), columnsNamed("alike_in", alike),
				because("A gap is estimated from rows that are alike, and marked."))
		}
	case f.Kind == "type" && s.Column != "":
		w.mistyped(s, f.Texts)
	case (f.Kind == "range" || f.Kind == "between") && s.Column != "", f.Kind == "condition":
		if holds := w.holding(f); holds != "" {
			w.add(s, ownersWord, "set_missing", columnsOf(f.Columns...), set("where", holds), because("The value cannot be."))
			w.add(s, ownersWord, "set_aside", set("where", holds), because("The row cannot be."))
		}
	}
}

// alikeMost is how many columns a proposed estimate goes by at the most.
const alikeMost = 6

// alike are columns by which rows with a gap in a column of numbers can be alike: measures, categories and dates that are
// mostly filled; none for other columns.
func (w *stepWriter) alike(column string) (out []string) {
	for _, c := range w.result.Columns {
		if c.Name == column && !c.Type.IsNumber() {
			return nil
		}
		goes := c.Role == audit.RoleMeasure || c.Role == audit.RoleDate || c.Role == audit.RoleCategory && c.Distinct > 1
		if c.Name != column && goes && c.Missing*2 < c.Filled && len(out) < alikeMost {
			out = append(out, c.Name)
		}
	}
	return out
}

func columnsNamed(field string, names []string) edit.Field {
	return edit.Field{Name: field, Values: names}
}

// dates are the columns that rows can be put in order by.
func (w *stepWriter) dates() []string {
	for _, c := range w.result.Columns {
		if c.Type == table.TypeDate || c.Type == table.TypeDateTime {
			return []string{c.Name}
		}
	}
	return nil
}

// holding is a condition that is true of the rows of a finding, where a simple one says it.
func (w *stepWriter) holding(f *audit.Finding) string {
	for _, d := range w.book.Rules {
		if d.ID != f.Rule {
			continue
		}
		if told, ok := d.Rule.(rulebook.TellsBroken); ok {
			return told.BrokenWhere()
		}
	}
	return ""
}

// mistyped proposes what makes values of texts that are none of their type.
func (w *stepWriter) mistyped(s Step, texts []profile.Frequency) {
	units := map[string]bool{}
	for _, t := range texts {
		bare := table.Trim(t.Text)
		sign, unit := leads.WithUnit(bare)
		switch {
		case bare != t.Text:
			w.add(s, "", "trim", columnsOf(s.Column), because("Stray spaces around values."))
		case strings.HasPrefix(bare, "(") && strings.HasSuffix(bare, ")"):
			w.add(s, "a number in brackets may be below zero, or a remark", "convert", columnsOf(s.Column), set("from", "brackets"), because("Numbers in brackets are below zero."))
		case unit == "%" && sign == "":
			w.add(s, unitOfThese, "convert", columnsOf(s.Column), set("from", "percent"), because("Shares are written without a percent sign."))
		case unit != "" && sign == "" && !units[unit]:
			units[unit] = true
			w.add(s, unitOfThese, "convert", columnsOf(s.Column), set("from", "unit"), set("unit", unit), set("times", "1"), because("The unit stands with the column."))
		}
	}
	if values := named(texts); len(values) > 0 {
		w.add(s, ownersWord, "set_missing", columnsOf(s.Column), edit.Field{Name: "values", Values: values}, because("These stand for no value."))
	}
}

// namedMost is how many texts a step names.
const namedMost = 20

func named(texts []profile.Frequency) []string {
	var out []string
	for _, t := range texts[:min(len(texts), namedMost)] {
		out = append(out, table.Trim(t.Text))
	}
	return out
}

func (w *stepWriter) lead(l *audit.Lead) {
	s := Step{Lead: l.Kind, Column: l.Column, Evidence: l.Says}
	is := l.Column
	switch l.Kind {
	case "spaces":
		doubt := ""
		if w.keyed(is) {
			doubt = keyDoubt
		}
		w.add(s, doubt, "trim", columnsOf(is), because("Stray spaces."))
	case "equal_rows":
		w.add(s, "equal rows may be meant, where the table has no key", "remove_equal_rows", because("Rows that are there more than once."))
	case "placeholder":
		w.add(s, ownersWord, "set_missing", columnsOf(is), edit.Field{Name: "values", Values: named(l.Texts)}, because("These stand for no value."))
	case "total_rows", "header_repeated":
		if len(l.Texts) > 0 {
			w.add(s, ownersWord, "set_aside", set("where", w.among(is, l.Texts)), because("A line of totals is no record."))
		}
	case "spellings", "key_spellings":
		if len(l.Texts) > 0 {
			w.add(s, "which of the spellings is the right one is for a person to decide", "replace", columnsOf(is), set("find", l.Texts[0].Text),
				set("with", l.Texts[0].Text), set("match", "whole_cell"), because("One spelling for one thing."))
		}
	case "several_values":
		w.add(s, "several values in a cell may be meant", "split_into_rows", set("column", is), set("at", w.separator(l.Texts)), w.fates(), because("One value in a cell."))
	case "units":
		w.mistyped(s, l.Texts)
	case "day_numbers":
		w.add(s, ownersWord, "convert", columnsOf(is), set("from", table.DayNumber), because("Days as spreadsheets count them."))
	case "zero", "frequent_value", "outliers", "shifted_point", "group_outliers":
		if l.Condition != "" {
			w.add(s, ownersWord, "set_missing", columnsOf(is), set("where", "NOT ("+l.Condition+")"), because("The value cannot be."))
		}
	case "dated_columns":
		pattern, _ := leads.DatedBy(l.Columns)
		w.add(s, reshapes, "columns_to_rows", set("heading_dates", pattern), set("names_to", "day"), set("values_to", "value"),
			because("A day is a value, not the name of a column."))
	case "near_key":
		w.add(s, whichStays, "keep_one", columnsOf(is), set("survivor", "fullest_row"), set("ties", "earliest_row"), because("One thing is there once."))
	}
}

func (w *stepWriter) among(column string, texts []profile.Frequency) string {
	quoted := make([]string, 0, len(texts))
	for _, t := range texts[:min(len(texts), namedMost)] {
		quoted = append(quoted, condition.Text(t.Text))
	}
	return condition.Column(column) + " IN (" + strings.Join(quoted, ", ") + ")"
}

func (w *stepWriter) separator(texts []profile.Frequency) string {
	for _, t := range texts {
		if at := strings.IndexAny(t.Text, "/,;|+&"); at >= 0 {
			return t.Text[at : at+1]
		}
	}
	return "/"
}

// fates says what becomes of the measures of rows that become several.
func (w *stepWriter) fates() edit.Field {
	f := edit.Field{Name: "measures"}
	for _, m := range w.book.Measures {
		f.Pairs = append(f.Pairs, edit.Pair{Name: m, Text: "kept_once"})
	}
	return f
}

// text writes fields as the plan has them, in one line.
func text(fields []edit.Field) string {
	source, _ := edit.Plans.Apply("fix_plan: p\ndataset: d\nsteps: []\n", []edit.StepChange{{Add: fields}})
	return source
}

// FixPlan drafts a fix plan for a table from what its audit found. Its steps were tried on the table: taken as it stands,
// the plan can be applied, breaks no rule in more rows than were broken, and lowers no score. What is doubtful in it, or
// was found to do harm, is a comment.
func FixPlan(ctx context.Context, name string, in fix.Input, result *audit.Result, workers int) (string, error) {
	steps := Steps(result, in.Book)
	standard := Step{Evidence: "The table is not written in standard form.",
		Fields: []edit.Field{set("do", fix.StandardForm), because("Numbers have a point, dates are those of ISO 8601, and nothing stands for nothing.")}}
	if !in.Book.TableReading(in.Source.Columns()).IsStandard() {
		steps = append(steps, standard)
	}
	for range len(steps) + 1 {
		harm, err := tried(ctx, name, in, steps, result, workers)
		if err != nil {
			return "", err
		}
		if harm == nil {
			break
		}
		steps[harm.step].Doubt = harm.why
	}
	return planText(name, in.Book.Dataset, steps), nil
}

// harm is a step that must not be taken unseen.
type harm struct {
	step int
	why  string
}

// tried applies the steps that are not in doubt, and says which of them does harm.
func tried(ctx context.Context, name string, in fix.Input, steps []Step, before *audit.Result, workers int) (*harm, error) {
	var sure []int
	for i := range steps {
		if steps[i].Doubt == "" {
			sure = append(sure, i)
		}
	}
	if len(sure) == 0 {
		return nil, nil
	}
	ledger, after, err := play(ctx, name, in, steps, sure, workers)
	if err != nil {
		return nil, err
	}
	for i, s := range ledger.Steps {
		if len(s.Refused) > 0 {
			return &harm{sure[i], fmt.Sprintf("it cannot be done as it stands: %s", s.Refused[0].Why)}, nil
		}
	}
	if worse(before, after) == "" {
		return nil, nil
	}
	for _, i := range sure { // one by one, to find which it is
		_, alone, err := play(ctx, name, in, steps, []int{i}, workers)
		if err != nil {
			return nil, err
		}
		if why := worse(before, alone); why != "" {
			return &harm{i, why}, nil
		}
	}
	return &harm{sure[len(sure)-1], worse(before, after)}, nil
}

// worse says what a table has more of that is wrong.
func worse(before, after *audit.Result) string {
	rows := map[string]int64{}
	for _, f := range before.Findings {
		rows[f.Rule] = f.Rows
	}
	for _, f := range after.Findings {
		if f.Rows > rows[f.Rule] {
			return fmt.Sprintf("the rule %s would be broken in %s, and is in %d now", f.Rule, document.Counted(f.Rows, "row", "rows"), rows[f.Rule])
		}
	}
	if after.Score < before.Score {
		return fmt.Sprintf("the score would fall from %s to %s", document.Score(before.Score), document.Score(after.Score))
	}
	for i := range before.Columns {
		for j := range after.Columns {
			b, a := &before.Columns[i], &after.Columns[j]
			// Rows that leave take good cells along, and the share of the others grows with that: what counts is how many.
			if was, is := caught(before, b), caught(after, a); b.Name == a.Name && is > was {
				return fmt.Sprintf("%s of %s would be caught, and %d are now", document.Counted(is, "cell", "cells"), b.Name, was)
			}
		}
	}
	return ""
}

// caught is how many cells of a column something is wrong with.
func caught(r *audit.Result, c *audit.Column) int64 {
	return int64(math.Round(float64(r.Rows) * (100 - c.Score) / 100))
}

// play makes the table of some steps and audits it.
func play(ctx context.Context, name string, in fix.Input, steps []Step, some []int, workers int) (*fix.Ledger, *audit.Result, error) {
	var taken []Step
	for _, i := range some {
		taken = append(taken, steps[i])
	}
	plan, err := fix.Parse([]byte(planText(name, in.Book.Dataset, taken)), in.Book)
	if err != nil {
		return nil, nil, fmt.Errorf("the draft is no fix plan: %w", err)
	}
	made, err := scratch.File("draft")
	if err != nil {
		return nil, nil, err
	}
	defer made.Close()
	ledger, err := fix.Run(ctx, in, plan, workers, fix.Outputs{Table: made})
	if err != nil {
		return nil, nil, err
	}
	book := in.Book.ForTable(ledger.Reading)
	source, err := intake.Open(ctx, content.Of(made), book.Reading)
	if err != nil {
		return nil, nil, err
	}
	after, err := audit.Run(ctx, source, book, workers)
	return ledger, after, errors.Join(err, source.Close())
}

// planText writes a fix plan; what is in doubt is a comment.
func planText(name, dataset string, steps []Step) string {
	var b strings.Builder
	fmt.Fprintf(&b, "fix_plan: %s\ndataset: %s\n", name, dataset)
	if !slices.ContainsFunc(steps, func(s Step) bool { return s.Doubt == "" }) {
		b.WriteString("steps: []\n")
	} else {
		b.WriteString("steps:\n")
	}
	for _, s := range steps {
		lines := strings.Split(strings.TrimSuffix(strings.TrimPrefix(text(s.Fields), "fix_plan: p\ndataset: d\nsteps:\n"), "\n"), "\n")
		fmt.Fprintf(&b, "  # %s\n", oneLine(s.Evidence))
		lead := ""
		if s.Doubt != "" {
			lead = "# "
			fmt.Fprintf(&b, "  # Not taken, since %s:\n", oneLine(s.Doubt))
		}
		for _, line := range lines {
			fmt.Fprintf(&b, "  %s%s\n", lead, strings.TrimPrefix(line, "  "))
		}
	}
	return b.String()
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }
