package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/core/fix"
	"proudsieve/core/merge"
	"proudsieve/service/records"
)

func issueCommand() *cli.Command {
	edit := func(name, usage, args string, flags []cli.Flag, change func(
		ctx context.Context, s *session, id int64, args []string) (*records.IssueShown, error)) *cli.Command {
		return verb(name, usage, args, flags, func(ctx context.Context, s *session, args []string) error {
			id, err := number(args[0], "an issue")
			if err != nil {
				return err
			}
			i, err := change(ctx, s, id, args)
			return show(s, i, err, s.issue)
		})
	}
	return group("issue", "findings that people follow across deliveries",
		verb("list", "issues", "", []cli.Flag{
			&cli.StringFlag{Name: "dataset"}, &cli.StringFlag{Name: "assignee"},
			&cli.StringFlag{Name: "state", Value: "unsettled",
				Usage: "open, asked, waived, closed, unsettled (open or asked), or all"},
		}, func(ctx context.Context, s *session, _ []string) error {
			state := s.command.String("state")
			if state == "all" {
				state = ""
			}
			all, err := client.All(func(after string, limit int64) (*records.Page[records.Issue], error) {
				return s.ListIssues(ctx, &client.ListIssuesParams{After: after, Limit: limit,
					Dataset: s.command.String("dataset"), State: client.ListIssuesParamsState(state),
					Assignee: s.command.String("assignee")})
			})
			return show(s, all, err, func(all []records.Issue) {
				g := newGrid(">issue", "dataset", "severity", "state", ">rows", "assigned to", "rule", "what was found")
				for _, i := range all {
					g.add(fmt.Sprint(i.ID), i.Dataset, i.Severity, i.State, count(i.Rows), optional(i.Assignee, same),
						i.Rule, i.Title)
				}
				s.grid(g, "No issue is unsettled.")
			})
		}),
		verb("show", "one issue with all that happened to it", "ISSUE", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				i, err := s.ShowIssue(ctx, id)
				return show(s, i, err, s.issue)
			}),
		verb("comment", "say something about an issue", "ISSUE TEXT", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				i, err := s.CommentIssue(ctx, id, client.CommentBody{Text: args[1]})
				return show(s, i, err, s.issue)
			}),
		edit("assign", "give an issue to somebody", "ISSUE PERSON", nil,
			func(ctx context.Context, s *session, id int64, args []string) (*records.IssueShown, error) {
				return s.EditIssue(ctx, id, client.IssueChangeBody{Assignee: &args[1]})
			}),
		edit("ask", "say that the owner of the data was asked", "ISSUE", nil,
			func(ctx context.Context, s *session, id int64, _ []string) (*records.IssueShown, error) {
				asked := client.IssueChangeBodyStateAsked
				return s.EditIssue(ctx, id, client.IssueChangeBody{State: &asked})
			}),
		edit("waive", "accept what was found, for a reason, until a date", "ISSUE", []cli.Flag{
			&cli.StringFlag{Name: "reason", Required: true}, &cli.StringFlag{Name: "until", Required: true,
				Usage: "the last day it holds, yyyy-MM-dd"},
		}, func(ctx context.Context, s *session, id int64, _ []string) (*records.IssueShown, error) {
			return s.Waive(ctx, id, client.WaiverBody{Reason: s.command.String("reason"),
				Until: s.command.String("until")})
		}),
	)
}

func same(s string) string { return s }

func (s *session) issue(i *records.IssueShown) {
	s.line("Issue %d of %s: %s", i.ID, i.Dataset, safe(i.Title))
	s.line("Rule %s, severity %s, %s, %s rows, assigned to %s.", i.Rule, i.Severity, i.State, count(i.Rows),
		orNobody(i.Assignee))
	if i.WaiverUntil != nil {
		s.line("Waived by %s until %s: %s", *i.WaiverBy, *i.WaiverUntil, safe(*i.WaiverReason))
	}
	s.line("")
	g := newGrid("when", "who", "what", "")
	for _, e := range i.Entries {
		who := "audit"
		if e.Person != nil {
			who = *e.Person
		} else if e.AuditID != nil {
			who = fmt.Sprintf("audit %d", *e.AuditID)
		}
		g.add(when(e.At), who, e.Kind, e.Text)
	}
	s.grid(g, "")
}

func orNobody(name *string) string {
	if name == nil {
		return "nobody"
	}
	return *name
}

func fixPlanCommand() *cli.Command {
	start := func(ctx context.Context, s *session, args []string, begin func(
		ctx context.Context, table int64, body client.PlannedBody) (*records.Job, error)) (*records.Job, error) {
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
		yes(p.Before.Passed), yes(p.After.Passed))
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

func mergeCommand() *cli.Command {
	return group("merge", "stacking and joining cleaned tables", append(declarationCommands("merges", "merge"),
		verb("run", "run a merge on the newest cleaned tables", "MERGE",
			[]cli.Flag{&cli.IntFlag{Name: "version", Usage: "0 for the newest"}},
			func(ctx context.Context, s *session, args []string) error {
				job, err := s.RunMerge(ctx, args[0], client.RunBody{Version: int64(s.command.Int("version"))})
				if err != nil {
					return err
				}
				done, err := s.Follow(ctx, job.ID, s.progress())
				if err != nil {
					return err
				}
				t, err := s.ShowTable(ctx, *done.ResultTable)
				return show(s, t, err, func(t *records.Table) {
					var a merge.Accounting
					if json.Unmarshal(*t.Accounting, &a) == nil {
						s.accounting(&a)
					}
					s.line("The merged table is table %d, SHA-256 %s.", t.ID, t.Digest)
				})
			}),
	)...)
}

func (o *output) accounting(a *merge.Accounting) {
	g := newGrid("", ">rows", "sums")
	for _, in := range a.Inputs {
		g.add(in.Dataset, count(in.Rows), sums(in.Sums))
	}
	g.add("stacked", count(a.Stack.Rows), sums(a.Stack.Sums))
	for _, j := range a.Joins {
		g.add("joined with "+j.With, count(j.RowsOut), sums(j.SumsOut))
	}
	g.add("merged table", count(a.Rows), sums(a.Sums))
	o.grid(g, "")
	for _, j := range a.Joins {
		o.line("Of %s rows, %s met a row of %s by %s, %s did not; %s were set aside, %s added. %s of its %s rows were not asked for.", count(j.RowsIn), count(j.Matched), j.With,
			strings.Join(j.On, " and "), count(j.Unmatched), count(j.SetAside), count(j.Multiplied),
			count(j.JoinedUnused), count(j.JoinedRows))
	}
	for _, column := range sortedKeys(a.Stack.Lacking) {
		o.line("The column %s is missing in %s; its cells are empty there.", column,
			strings.Join(a.Stack.Lacking[column], " and "))
	}
}

func certificateCommand() *cli.Command {
	verify := &cli.Command{Name: "verify", Usage: "hold a certificate against a table; needs no service",
		ArgsUsage: "TABLE CERTIFICATE",
		Flags: []cli.Flag{&cli.StringFlag{Name: "key", Required: true,
			Usage: "file with the public key, as certificate key prints it"}, jsonFlag()},
		Action: func(_ context.Context, c *cli.Command) error {
			args, err := arguments(c, "TABLE CERTIFICATE")
			if err != nil {
				return err
			}
			statement, err := verifyFiles(args[0], args[1], c.String("key"))
			o := outputOf(c)
			if errors.Is(err, certify.ErrTable) || errors.Is(err, certify.ErrSignature) ||
				errors.Is(err, certify.ErrMalformed) {
				o.line("Not certified: %s.", err)
				return errFellShort
			}
			if err != nil {
				return err
			}
			if o.json {
				return o.printJSON(statement)
			}
			o.line("Certified: %s is the table of %s that %s certified at %s.", args[0], statement.Dataset,
				statement.CertifiedBy, statement.CertifiedAt)
			o.line("%s rows, score %s, %d rules judged, %d waived.", count(statement.Table.Rows), statement.Audit.Score,
				len(statement.Audit.Rules), len(statement.Waivers))
			return nil
		}}
	return group("certificate", "signed statements about the exact bytes of one table", verify,
		verb("obstacles", "each thing that stands between a table and a certificate", "TABLE", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				found, err := s.ListObstacles(ctx, id)
				if err := show(s, found, err, func(o *records.Obstacles) {
					for _, one := range o.Obstacles {
						s.line("- %s", one)
					}
					if o.Ready {
						s.line("Nothing stands in the way.")
					}
				}); err != nil {
					return err
				}
				if !found.Ready {
					return errFellShort
				}
				return nil
			}),
		verb("issue", "certify a table", "TABLE", nil, func(ctx context.Context, s *session, args []string) error {
			id, err := idOf(args[0])
			if err != nil {
				return err
			}
			made, err := s.CertifyTable(ctx, id)
			return show(s, made, err, func(c *records.Certificate) {
				s.line("Certificate %d of table %d is signed by %s.", c.ID, c.TableID, c.CreatedBy)
			})
		}),
		verb("list", "certificates", "", nil, func(ctx context.Context, s *session, _ []string) error {
			all, err := client.All(func(after string, limit int64) (*records.Page[records.Certificate], error) {
				return s.ListCertificates(ctx, &client.ListCertificatesParams{After: after, Limit: limit})
			})
			return show(s, all, err, func(all []records.Certificate) {
				g := newGrid(">certificate", ">table", "dataset", "certified by", "at", "withdrawn since")
				for _, c := range all {
					g.add(fmt.Sprint(c.ID), fmt.Sprint(c.TableID), c.Dataset, c.CreatedBy, when(c.CreatedAt),
						optional(c.Withdrawn, func(why string) string { return why }))
				}
				s.grid(g, "Nothing has been certified yet.")
			})
		}),
		verb("save", "write a certificate to a file", "CERTIFICATE FILE", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				c, err := s.ShowCertificate(ctx, id)
				if err != nil {
					return err
				}
				return save(args[1], func(f *os.File) error { _, err := f.WriteString(c.Signature + "\n"); return err })
			}),
		verb("key", "print the public key that certificates are verified with", "", nil,
			func(ctx context.Context, s *session, _ []string) error {
				key, err := s.SigningKey(ctx)
				if err != nil {
					return err
				}
				return s.printJSON(key)
			}),
	)
}

func verifyFiles(table, certificate, key string) (*certify.Statement, error) {
	public, err := os.ReadFile(key)
	if err != nil {
		return nil, err
	}
	signed, err := os.ReadFile(certificate)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(table)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return certify.Verify(f, string(signed), public)
}

func jobCommand() *cli.Command {
	return group("job", "what runs in the background",
		verb("list", "jobs, newest first", "",
			[]cli.Flag{&cli.BoolFlag{Name: "running", Usage: "only those that have not ended"}},
			func(ctx context.Context, s *session, _ []string) error {
				page, err := s.ListJobs(ctx, &client.ListJobsParams{Running: s.command.Bool("running")})
				return show(s, page, err, func(page *records.Page[records.Job]) {
					g := newGrid(">job", "kind", "dataset", "state", ">attempt", ">rows read", "asked for by", "at",
						"error")
					for _, j := range page.Items {
						g.add(fmt.Sprint(j.ID), j.Kind, j.Dataset, j.State, fmt.Sprint(j.Attempt), count(j.RowsRead),
							j.CreatedBy, when(j.CreatedAt), j.Error)
					}
					s.grid(g, "There are no jobs.")
				})
			}),
		verb("follow", "wait for a job to end", "JOB", nil, func(ctx context.Context, s *session, args []string) error {
			id, err := number(args[0], "a job")
			if err != nil {
				return err
			}
			job, err := s.Follow(ctx, id, s.progress())
			return show(s, job, err, func(j *records.Job) { s.line("Job %d is done.", j.ID) })
		}),
		verb("stop", "stop a job; nothing of it is kept", "JOB", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				job, err := s.StopJob(ctx, id)
				return show(s, job, err, func(j *records.Job) { s.line("Job %d is stopped.", j.ID) })
			}),
	)
}

func historyCommand() *cli.Command {
	return verb("history", "who did what when", "", []cli.Flag{&cli.IntFlag{Name: "limit", Value: 50}},
		func(ctx context.Context, s *session, _ []string) error {
			page, err := s.ListHistory(ctx, &client.ListHistoryParams{Limit: int64(s.command.Int("limit"))})
			return show(s, page, err, func(page *records.Page[records.Deed]) {
				g := newGrid("when", "who", "did", "to")
				for _, d := range page.Items {
					g.add(when(d.At), orNobody(d.Person), d.Action, d.Subject)
				}
				s.grid(g, "Nothing has happened yet.")
			})
		})
}
