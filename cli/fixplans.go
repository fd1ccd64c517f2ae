package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/work"
)

func fixPlanCommand() *cli.Command {
	version := func(more ...cli.Flag) []cli.Flag {
		return append([]cli.Flag{&cli.IntFlag{Name: "version", Usage: "0 for the newest"}}, more...)
	}
	return group("fix-plan", "steps that turn a delivery into a cleaned table",
		append(declarationCommands("fix-plans", "fix plan"),
			verb("preview", "show what a fix plan would do, without doing it", "TABLE [PLAN]",
				version(&cli.StringFlag{Name: "file", Usage: "the plan in this file, which is not saved, instead of PLAN"}), previewPlan),
			verb("weigh", "compare the methods by which a step of a fix plan could estimate, before one is chosen", "TABLE [PLAN]",
				version(&cli.StringFlag{Name: "file", Usage: "the plan in this file, which is not saved, instead of PLAN"},
					&cli.IntFlag{Name: "step", Required: true, Usage: "which of its steps estimates, from 1"}), weighEstimates),
			verb("propose", "draft a fix plan from what was found in a table; what is doubtful in it is a comment, and nothing is saved", "TABLE",
				[]cli.Flag{&cli.StringFlag{Name: "name", Value: "clean", Usage: "what the plan is called"}}, proposePlan),
			verb("apply", "apply a fix plan: makes a cleaned table, and the delivery stays as it is", "TABLE PLAN",
				version(&cli.BoolFlag{Name: "looked", Usage: "you have looked at what it does far more than on the delivery before"}), applyPlan),
			verb("changes", "list what a fix plan changed to make a cleaned table, cell by cell and row by row", "TABLE", []cli.Flag{
				&cli.IntFlag{Name: "step", Usage: "only what this step changed"},
				&cli.StringFlag{Name: "column", Usage: "only cells of this column"},
				&cli.StringFlag{Name: "what", Value: "all", Usage: "cells, rows or all"},
				&cli.IntFlag{Name: "limit", Value: 100, Usage: "how many at the most"},
				&cli.StringFlag{Name: "cursor", Usage: "where to go on, as the end of a list before says"}}, listChanges),
			tryPlanCommand(),
		)...)
}

func previewPlan(ctx context.Context, s *session, args []string) error {
	table, err := idOf(args[0])
	if err != nil {
		return err
	}
	asked := client.PreviewedBody{Version: int64(s.command.Int("version"))}
	switch file := s.command.String("file"); {
	case file != "" && len(args) == 1:
		raw, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		asked.Source = string(raw)
	case file == "" && len(args) == 2:
		asked.FixPlan = args[1]
	default:
		return errors.New("a preview is of a fix plan that is saved, by its name, or of one in a file: name one of them")
	}
	job, err := s.PreviewFix(ctx, table, asked)
	if err != nil {
		return err
	}
	if job, err = s.Follow(ctx, job.ID, s.progress()); err != nil {
		return err
	}
	var p work.PlanPreview
	if err := json.Unmarshal(*job.Result, &p); err != nil {
		return err
	}
	return show(s, &p, nil, func(p *work.PlanPreview) {
		s.preview(&p.Preview)
		s.mergesThen(p.Merges)
	})
}

// mergesThen tells what would become of the merges that take the table which a plan makes.
func (o *output) mergesThen(all []work.MergeThen) {
	if len(all) == 0 {
		return
	}
	o.line("")
	o.line("What would become of the merges that take the table:")
	g := newGrid("merge", ">rows now", ">rows then", "sums now", "sums then", "without a partner then")
	for _, m := range all {
		now, then, sumsNow, sumsThen, unmet := "", "", "", "", []string{}
		if m.Now != nil {
			now, sumsNow = count(m.Now.Rows), sums(m.Now.Sums)
		}
		if m.Then != nil {
			then, sumsThen = count(m.Then.Rows), sums(m.Then.Sums)
			for _, j := range m.Then.Joins {
				if j.Unmatched > 0 {
					unmet = append(unmet, count(j.Unmatched)+" in "+j.With)
				}
			}
		}
		if m.Refused != "" {
			then = "refused"
		}
		g.add(m.Merge, now, then, sumsNow, sumsThen, strings.Join(unmet, ", "))
	}
	o.grid(g, "")
	for _, m := range all {
		if m.Refused != "" {
			o.line("%s: %s.", m.Merge, visible(m.Refused))
		}
	}
}

func proposePlan(ctx context.Context, s *session, args []string) error {
	table, err := idOf(args[0])
	if err != nil {
		return err
	}
	job, err := s.DraftFixPlan(ctx, table, client.DraftedBody{Name: s.command.String("name")})
	if err != nil {
		return err
	}
	if job, err = s.Follow(ctx, job.ID, s.progress()); err != nil {
		return err
	}
	var drafted work.Drafted
	err = json.Unmarshal(*job.Result, &drafted)
	return show(s, &drafted, err, func(d *work.Drafted) { s.line("%s", strings.TrimSuffix(d.Source, "\n")) })
}

func applyPlan(ctx context.Context, s *session, args []string) error {
	table, err := idOf(args[0])
	if err != nil {
		return err
	}
	job, err := s.ApplyFix(ctx, table, client.PlannedBody{FixPlan: args[1], Version: int64(s.command.Int("version")), Looked: s.command.Bool("looked")})
	if err != nil {
		return err
	}
	if job, err = s.Follow(ctx, job.ID, s.progress()); err != nil {
		return err
	}
	t, err := s.made(ctx, job)
	return show(s, t, err, func(t *records.Table) {
		var ledger fix.Ledger
		if json.Unmarshal(*t.Accounting, &ledger) == nil {
			s.ledger(&ledger)
		}
		var known work.Applied
		if job.Result != nil && json.Unmarshal(*job.Result, &known) == nil && known.Message != "" {
			s.line("%s", known.Message)
			return
		}
		s.line("The cleaned table is table %d, SHA-256 %s.", t.ID, t.Digest)
		s.judged(t)
	})
}

func listChanges(ctx context.Context, s *session, args []string) error {
	table, err := idOf(args[0])
	if err != nil {
		return err
	}
	step, limit := int64(s.command.Int("step")), int64(s.command.Int("limit"))
	column, cursor := s.command.String("column"), s.command.String("cursor")
	what := client.ListChangesParamsWhat(s.command.String("what"))
	page, err := client.Decode[api.ChangesPage](s.ListChanges(ctx, table, &client.ListChangesParams{Step: step, Column: column, What: what, Cursor: cursor, Limit: limit}))
	return show(s, page, err, func(p *api.ChangesPage) {
		s.changes(p.Items)
		if p.Next != nil {
			s.line("There are more: add --cursor %s.", *p.Next)
		}
	})
}

// changes lists cells that were changed and rows that left.
func (o *output) changes(entries []fix.LogEntry) {
	g := newGrid(">row", ">step", "column", "old", "new", "reason")
	for _, c := range entries {
		column, old, now := c.Column, visible(c.Old), visible(c.New)
		if c.Gone != nil {
			column, old, now = "(row)", visible(cellsOf(c.Gone)), "leaves the table"
			if c.KeptBy > 0 {
				now = fmt.Sprintf("leaves the table; row %s stays", count(int64(c.KeptBy)))
			}
		}
		g.add(count(int64(c.Row)), fmt.Sprint(c.Step), column, old, now, c.Reason)
	}
	o.grid(g, "No cell and no row was changed.")
}

// cellsOf puts the cells of a row that left into one line.
func cellsOf(row map[string]string) string {
	var parts []string
	for _, name := range sortedKeys(row) {
		if row[name] != "" {
			parts = append(parts, name+" "+row[name])
		}
	}
	return strings.Join(parts, ", ")
}

func (o *output) ledger(l *fix.Ledger) {
	g := newGrid("", ">rows", ">cells changed", "sums", "reason")
	g.add("arrived", count(l.RowsIn), "", sums(l.SumsIn), "")
	for _, s := range l.Steps {
		rows := ""
		switch {
		case s.RowsMade != nil:
			rows = fmt.Sprintf("%s of %s", count(*s.RowsMade), count(*s.RowsBefore))
		case s.Rows > 0:
			rows = "-" + count(s.Rows)
		}
		g.add(fmt.Sprintf("%d %s", s.Step, s.Kind), rows, count(s.Cells), changes(s.Sums),
			strings.TrimSpace(s.Reason+" "+s.Note))
	}
	g.add("handed over", count(l.RowsOut), "", sums(l.SumsOut), "")
	o.grid(g, "")
	for _, s := range l.Steps {
		o.estimated(s.Step, s.Estimated)
	}
	if n := l.Marked(); n > 0 {
		o.line("%s of the table %s, marked as such.", document.Counted(n, "cell", "cells"), document.Plural(n, "is an estimate", "are estimates"))
	}
}

func sums(s map[string]string) string {
	parts := []string{}
	for _, name := range sortedKeys(s) {
		parts = append(parts, name+" "+s[name])
	}
	return strings.Join(parts, ", ")
}

func changes(s map[string]string) string {
	parts := []string{}
	for _, name := range sortedKeys(s) {
		if s[name] != "0" {
			parts = append(parts, name+" "+s[name])
		}
	}
	return strings.Join(parts, ", ")
}

func (o *output) preview(p *fix.Preview) {
	if err := p.Ledger.Refused(); err != nil {
		o.line("Nothing has been done yet, and the plan cannot be applied as it stands:")
		for _, step := range p.Ledger.Steps {
			for _, r := range step.Refused {
				o.line("  step %d (%s), %s: %s", step.Step, step.Kind, document.Counted(r.Rows, "row", "rows"), r.Why)
				for _, place := range r.Places {
					o.line("    row %s, %s: %s", count(int64(place.Row)), place.Column, visible(place.Text))
				}
			}
			o.undecided(step)
		}
	} else {
		o.line("Nothing has been done yet. The plan would change %s cells and rows:", count(p.ChangeCount))
	}
	o.ledger(&p.Ledger)
	o.line("")
	for _, s := range p.Since {
		o.line("Step %d (%s) touches %s cells and rows; on the delivery before it were %s.", s.Step, s.Kind, count(s.Touched), count(s.Before))
	}
	o.line("Score %s, would be %s; passes: %s, would be: %s.", percent(p.Before.Score), percent(p.After.Score),
		verdict(p.Before.Passed), verdict(p.After.Passed))
	after := map[string]int64{}
	for _, f := range p.After.Findings {
		after[f.Rule] = f.Rows
	}
	g := newGrid("rule", ">rows now", ">rows then")
	for _, f := range p.Before.Findings {
		g.add(f.Rule, count(f.Rows), count(after[f.Rule]))
		delete(after, f.Rule)
	}
	for _, rule := range sortedKeys(after) {
		g.add(rule, "0", count(after[rule]))
	}
	o.grid(g, "Nothing was found before, and nothing would be then.")
	o.leadsThen(p)
	o.line("")
	var examples []fix.LogEntry
	for _, step := range p.Ledger.Steps {
		examples = append(examples, step.Examples...)
	}
	o.line("The first changes of each step:")
	o.changes(examples)
}

// undecided lists the cells of a step of which no rule says what stays.
func (o *output) undecided(step fix.LedgerStep) {
	for _, u := range step.Undecided {
		var choices []string
		for _, c := range u.Choices {
			choices = append(choices, fmt.Sprintf("%s (%s)", visible(c.Text), document.Counted(c.Rows, "row", "rows")))
		}
		o.line("    %s, %s: %s", visible(cellsOf(u.Key)), u.Column, strings.Join(choices, " or "))
	}
	if more := step.Open - int64(len(step.Undecided)); more > 0 {
		o.line("    and %s more; settle these first.", count(more))
	}
}

// leadsThen tells what looks odd that would not any more, and what would look odd that does not now.
func (o *output) leadsThen(p *fix.Preview) {
	told := func(r *audit.Result, l audit.Lead) bool {
		return slices.ContainsFunc(r.Leads, func(other audit.Lead) bool { return other.Kind == l.Kind && other.Column == l.Column })
	}
	for _, l := range p.After.Leads {
		if !told(p.Before, l) {
			o.line("Would look odd then: %s", visible(l.Says))
		}
	}
	for _, l := range p.Before.Leads {
		if !told(p.After, l) {
			o.line("Would not look odd any more: %s", visible(l.Says))
		}
	}
}
