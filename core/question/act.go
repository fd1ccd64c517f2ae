package question

import (
	"context"
	"fmt"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/waiver"
)

// Answered is a question with the answer that was given.
type Answered struct {
	Question Question
	Given    Given
	// Who gave it, for the reason of what is done.
	By string
	// Rule is the rule that the question's issue is about; empty where it is about none.
	Rule string
}

// AnswerStep is a step of a fix plan that an answer makes, for edit.Plans.
type AnswerStep struct {
	Code   string          `json:"code"`
	Change edit.StepChange `json:"change"`
	Says   string          `json:"says"` // what it does, in a sentence
	Cells  int64           `json:"cells"`
	// Doubt says why a steward should look at it before it is taken up.
	Doubt string `json:"doubt,omitempty"`
}

// Accepted is what a waiver is given for by an answer.
type Accepted struct {
	Code  string       `json:"code"`
	Scope waiver.Scope `json:"scope"`
	Says  string       `json:"says"`
}

// Unused is an answer that nothing can be made of by itself, and why.
type Unused struct {
	Code string `json:"code"`
	Says string `json:"says"`
}

// Proposal is what answers propose for one table.
type Proposal struct {
	Steps    []AnswerStep `json:"steps"`
	Accepted []Accepted   `json:"accepted"`
	Unused   []Unused     `json:"unused"`
}

// Propose makes of answers what would be done with a table: steps for what is wrong, and what is accepted of what is meant so.
// A correction counts by value and key in that table, whatever table was asked about: what is not there any more is told.
func Propose(ctx context.Context, t *relation.Table, answers []Answered) (*Proposal, error) {
	p := &Proposal{Steps: []AnswerStep{}, Accepted: []Accepted{}, Unused: []Unused{}}
	for i := range answers {
		a := &answers[i]
		switch a.Given.Answer {
		case MeantSo:
			p.accept(a)
		case Wrong:
			if err := p.correct(ctx, t, a); err != nil {
				return nil, err
			}
		case Unknown:
			p.leave(a, "who was asked cannot tell; decide, and write down why")
		default:
			p.leave(a, "it will be delivered again; the issue waits for that")
		}
	}
	return p, nil
}

func (p *Proposal) leave(a *Answered, format string, args ...any) {
	p.Unused = append(p.Unused, Unused{a.Question.Code, fmt.Sprintf(format, args...)})
}

// accept proposes a waiver for exactly what was asked about.
func (p *Proposal) accept(a *Answered) {
	one := Accepted{Code: a.Question.Code}
	switch i := &a.Question.Item; i.Kind {
	case OfText:
		one.Scope = waiver.Scope{Column: i.Column, Texts: []string{i.Text}}
	case OfRow:
		scope := waiver.Scope{}
		for _, name := range i.Columns {
			if slices.Contains(i.Key, name) || slices.Contains(i.Named, name) {
				scope.Columns = append(scope.Columns, name)
			}
		}
		row := waiver.NamedRow{Times: 1}
		for _, name := range scope.Columns {
			text, _ := i.Cell(name)
			row.Cells = append(row.Cells, text)
		}
		scope.Rows = []waiver.NamedRow{row}
		one.Scope = scope
	default:
		one.Scope = waiver.Scope{Says: a.Question.Found}
	}
	one.Says = one.Scope.String()
	if len(one.Scope.Rows) == 1 {
		row := Item{Kind: OfRow, Columns: one.Scope.Columns, Cells: one.Scope.Rows[0].Cells}
		one.Says = "the row " + row.Says()
	}
	p.Accepted = append(p.Accepted, one)
}

// correct proposes steps for what is right instead.
func (p *Proposal) correct(ctx context.Context, t *relation.Table, a *Answered) error {
	if len(a.Given.Right) == 0 {
		p.leave(a, "it is wrong, and what is right is a remark: %s", a.Given.Note)
		return nil
	}
	columns := slices.DeleteFunc(slices.Clone(a.Question.Item.Correctable()), func(c string) bool { _, said := a.Given.Right[c]; return !said })
	// A correction of a column of the key changes by what the row is known; it comes last.
	slices.SortStableFunc(columns, func(x, y string) int {
		inKey := func(c string) int { return min(slices.Index(a.Question.Item.Key, c)+1, 1) }
		return inKey(x) - inKey(y)
	})
	for _, column := range columns {
		if !slices.Contains(t.Source.Columns(), column) {
			p.leave(a, "the table has no column %q any more", column)
			continue
		}
		if err := p.correctOne(ctx, t, a, column, a.Given.Right[column]); err != nil {
			return err
		}
	}
	return nil
}

func (p *Proposal) correctOne(ctx context.Context, t *relation.Table, a *Answered, column, right string) error {
	item := &a.Question.Item
	because := fmt.Sprintf("%s, asked as %s, says so.", a.By, a.Question.Code)
	if a.Given.Note != "" {
		because = fmt.Sprintf("%s, asked as %s, says so: %s", a.By, a.Question.Code, document.Flat(a.Given.Note)+".")
	}
	step := AnswerStep{Code: a.Question.Code, Doubt: doubt(t, column, right)}
	var fields []edit.Field
	kind := ""
	switch item.Kind {
	case OfText:
		n, err := waiver.Count(ctx, t, waiver.EveryRow(), waiver.Scope{Column: column, Texts: []string{item.Text}})
		if err != nil {
			return err
		}
		if n == 0 {
			p.leave(a, "%q stands nowhere in %s any more", item.Text, column)
			return nil
		}
		step.Cells = n
		step.Says = fmt.Sprintf("%q becomes %q in %s of %s.", item.Text, right, document.Counted(n, "cell", "cells"), column)
		kind, fields = "replace", []edit.Field{{Name: "columns", Values: []string{column}}, {Name: "find", Value: item.Text}, {Name: "with", Value: right}, {Name: "match", Value: "whole_cell"}}
		if item.Text == "" {
			kind, fields = "fill", []edit.Field{{Name: "columns", Values: []string{column}}, {Name: "with", Value: right}}
		}
	default:
		by, n, err := naming(ctx, t, item)
		if err != nil {
			return err
		}
		if n == 0 {
			p.leave(a, "no row is as it was asked about any more")
			return nil
		}
		was, _ := item.Cell(column)
		step.Cells = n
		step.Says = fmt.Sprintf("%q becomes %q in %s of %s.", was, right, column, document.Counted(n, "row", "rows"))
		key := edit.Field{Name: "key"}
		for i, name := range by.Columns {
			key.Pairs = append(key.Pairs, edit.Pair{Name: name, Text: by.Rows[0].Cells[i]})
		}
		kind, fields = "set_cell", []edit.Field{key, {Name: "column", Value: column}, {Name: "to", Value: right}}
		if n > 1 {
			fields = append(fields, edit.Field{Name: "rows", Value: fmt.Sprint(n)})
			step.Doubt = fmt.Sprintf("%s are so, and cannot be told apart", document.Counted(n, "row", "rows"))
		}
	}
	fields = append(append([]edit.Field{{Name: "do", Value: kind}}, fields...), edit.Field{Name: "reason", Value: because})
	// What the owner says is of the table as it arrived, so that it comes before whatever the plan does to that.
	step.Change = edit.StepChange{Step: len(p.Steps) + 1, Add: fields}
	p.Steps = append(p.Steps, step)
	return nil
}

// doubt says what is doubtful about a correction.
func doubt(t *relation.Table, column, right string) string {
	switch cell := t.Book.Cells(column).Read(right); {
	case cell.Missing && right != "":
		return fmt.Sprintf("%q stands for a missing value in %s", right, column)
	case cell.Mistyped:
		return fmt.Sprintf("%q is no %s, which %s holds", right, t.Book.Cells(column).Type, column)
	case cell.Unknown:
		return fmt.Sprintf("%q is no code of the list of %s", right, column)
	}
	return ""
}

// naming returns by what a row is named in a table, and how many rows are: by its key where that names one, else by all that
// is known of it.
func naming(ctx context.Context, t *relation.Table, i *Item) (*waiver.Scope, int64, error) {
	have := func(columns []string) *waiver.Scope {
		s := &waiver.Scope{Rows: []waiver.NamedRow{{Times: 1 << 40}}}
		for _, name := range columns {
			if text, there := i.Cell(name); there && slices.Contains(t.Source.Columns(), name) {
				s.Columns, s.Rows[0].Cells = append(s.Columns, name), append(s.Rows[0].Cells, text)
			}
		}
		return s
	}
	whole := have(i.Columns)
	n, err := waiver.Count(ctx, t, waiver.EveryRow(), *whole)
	if err != nil || n == 0 || len(i.Key) == 0 {
		return whole, n, err
	}
	key := have(i.Key)
	if byKey, err := waiver.Count(ctx, t, waiver.EveryRow(), *key); err != nil || byKey == 1 {
		return key, byKey, err
	}
	return whole, n, nil
}

// Codes lists the codes of the answers that a proposal is made of, each once.
func (p *Proposal) Codes() (codes []string) {
	add := func(code string) {
		if !slices.Contains(codes, code) {
			codes = append(codes, code)
		}
	}
	for _, s := range p.Steps {
		add(s.Code)
	}
	for _, a := range p.Accepted {
		add(a.Code)
	}
	for _, u := range p.Unused {
		add(u.Code)
	}
	return codes
}
