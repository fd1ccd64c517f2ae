package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/fix"
	"proudsieve/service/records"
)

func fixPlanCommand() *cli.Command {
	type begin func(ctx context.Context, table int64, body client.PlannedBody) (*records.Job, error)
	start := func(ctx context.Context, s *session, args []string, begin begin) (*records.Job, error) {
		table, err := idOf(args[0])
		if err != nil {
			return nil, err
		}
		job, err := begin(ctx, table, client.PlannedBody{FixPlan: args[1], Version: int64(s.command.Int("version"))})
		if err != nil {
			return nil, err
		}
		return s.Follow(ctx, job.ID, s.progress())
	}
	version := func() []cli.Flag { return []cli.Flag{&cli.IntFlag{Name: "version", Usage: "0 for the newest"}} }
	return group("fix-plan", "steps that turn a delivery into a cleaned table",
		append(declarationCommands("fix-plans", "fix plan"),
			verb("preview", "show what a fix plan would do, without doing it", "TABLE PLAN", version(),
				func(ctx context.Context, s *session, args []string) error {
					job, err := start(ctx, s, args, s.PreviewFix)
					if err != nil {
						return err
					}
					var p fix.Preview
					if err := json.Unmarshal(*job.Result, &p); err != nil {
						return err
					}
					return show(s, &p, nil, s.preview)
				}),
			verb("apply", "apply a fix plan: makes a cleaned table, and the delivery stays as it is", "TABLE PLAN",
				version(), func(ctx context.Context, s *session, args []string) error {
					job, err := start(ctx, s, args, s.ApplyFix)
					if err != nil {
						return err
					}
					t, err := s.ShowTable(ctx, *job.ResultTable)
					return show(s, t, err, func(t *records.Table) {
						var ledger fix.Ledger
						if json.Unmarshal(*t.Accounting, &ledger) == nil {
							s.ledger(&ledger)
						}
						s.line("The cleaned table is table %d, SHA-256 %s.", t.ID, t.Digest)
					})
				}),
		)...)
}

func (o *output) ledger(l *fix.Ledger) {
	g := newGrid("", ">rows", ">cells changed", "sums", "reason")
	g.add("arrived", count(l.RowsIn), "", sums(l.SumsIn), "")
	for _, s := range l.Steps {
		rows := ""
		if s.Rows > 0 {
			rows = "-" + count(s.Rows)
		}
		g.add(fmt.Sprintf("%d %s", s.Step, s.Kind), rows, count(s.Cells), changes(s.Sums),
			strings.TrimSpace(s.Reason+" "+s.Note))
	}
	g.add("handed over", count(l.RowsOut), "", sums(l.SumsOut), "")
	o.grid(g, "")
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

func (s *session) preview(p *fix.Preview) {
	s.line("Nothing has been done yet. The plan would change %s cells and rows:", count(p.ChangeCount))
	s.ledger(&p.Ledger)
	s.line("")
	s.line("Score %s, would be %s; passes: %s, would be: %s.", percent(p.Before.Score), percent(p.After.Score),
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
	s.grid(g, "Nothing was found before, and nothing would be then.")
	s.line("")
	g = newGrid(">row", ">step", "column", "old", "new")
	for _, c := range p.Changes[:min(len(p.Changes), 20)] {
		column, old, now := c.Column, visible(c.Old), visible(c.New)
		if c.Gone != nil {
			column, old, now = "(row)", "", "leaves the table"
		}
		g.add(count(int64(c.Row)), fmt.Sprint(c.Step), column, old, now)
	}
	s.grid(g, "No cell and no row would change.")
}
