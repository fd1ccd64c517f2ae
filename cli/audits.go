package cli

import (
	"context"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

func auditCommand() *cli.Command {
	return group("audit", "runs of a rulebook over a table",
		verb("start", "audit a table by the newest rulebook of its dataset", "TABLE", []cli.Flag{allFlag()},
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				job, err := s.StartAudit(ctx, id)
				if err != nil {
					return err
				}
				done, err := s.Follow(ctx, job.ID, s.progress())
				if err != nil {
					return err
				}
				a, err := client.Decode[api.AuditShown](s.ShowAudit(ctx, *done.AuditID))
				if err != nil {
					return err
				}
				return s.audited(a)
			}),
		verb("show", "what an audit found", "AUDIT", []cli.Flag{allFlag()}, func(ctx context.Context, s *session, args []string) error {
			id, err := idOf(args[0])
			if err != nil {
				return err
			}
			a, err := client.Decode[api.AuditShown](s.ShowAudit(ctx, id))
			if err != nil {
				return err
			}
			return s.audited(a)
		}),
		verb("compare", "what is new, gone, worse and better since an earlier audit", "AUDIT",
			[]cli.Flag{&cli.IntFlag{Name: "with", Usage: "the earlier audit; the one before where it is left out"}},
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				c, err := client.Decode[api.ComparisonShown](s.CompareAudits(ctx, id,
					&client.CompareAuditsParams{With: int64(s.command.Int("with"))}))
				return show(s, c, err, func(c *api.ComparisonShown) {
					s.line("Audit %d of %s, against audit %d of %s.", c.After.ID, safe(c.After.FileName), c.Before.ID,
						safe(c.Before.FileName))
					s.comparison(&c.Comparison)
				})
			}),
		verb("asked", "the questions that were put to a server, of a table that was judged where it lies", "AUDIT", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				a, err := client.Decode[api.AuditShown](s.ShowAudit(ctx, id))
				return show(s, a, err, func(a *api.AuditShown) { s.asked(&a.Result) })
			}),
		verb("report", "write an audit as a page for the owner of the data, who needs no account; as PDF where FILE ends in .pdf", "AUDIT FILE", []cli.Flag{personalFlag()},
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				return savePage(ctx, args[1], func(out io.Writer) error {
					page, err := s.ShowReport(ctx, id, &client.ShowReportParams{Personal: s.command.Bool("personal")})
					return client.Save(out, page, err)
				})
			}),
		verb("findings", "write every cell that was caught as CSV, for whoever delivered the table", "AUDIT FILE",
			[]cli.Flag{exactFlag()}, func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				return save(args[1], func(f *os.File) error {
					list, err := s.DownloadFindings(ctx, id,
						&client.DownloadFindingsParams{Exact: s.command.Bool("exact")})
					return client.Save(f, list, err)
				})
			}),
		verb("meant", "say that what looks odd is meant so; it is written into the rulebook", "AUDIT LEAD COLUMN",
			[]cli.Flag{&cli.StringFlag{Name: "reason", Required: true, Usage: "why"}},
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				d, err := s.MeantSo(ctx, id, client.MeantSoJSONRequestBody{Lead: args[1], Column: args[2],
					Reason: s.command.String("reason")})
				return show(s, d, err, func(d *records.Declaration) {
					s.line("Version %d of the rulebook says so. It is told again only if it grows.", d.Version)
				})
			}),
		verb("list", "audits, newest first", "", nil, func(ctx context.Context, s *session, _ []string) error {
			all, err := client.All(func(after string, limit int64) (*records.Page[records.Audit], error) {
				return s.ListAudits(ctx, &client.ListAuditsParams{After: after, Limit: limit})
			})
			return show(s, all, err, func(all []records.Audit) {
				g := newGrid(">audit", "dataset", ">table", "origin", ">rows", ">score", "passed", "at")
				for _, a := range all {
					g.add(fmt.Sprint(a.ID), a.Dataset, fmt.Sprint(a.TableID), a.Origin, count(a.Rows),
						optional(a.Score, percent), verdict(a.Passed), when(a.CreatedAt))
				}
				s.grid(g, "Nothing has been audited yet. Take in a file with: proudsieve delivery add DATASET FILE")
			})
		}),
	)
}

// made waits until the table that a job made is audited.
func (s *session) made(ctx context.Context, job *records.Job) (*records.Table, error) {
	if _, err := s.AuditOf(ctx, *job.ResultTable, s.progress()); err != nil {
		return nil, err
	}
	return s.ShowTable(ctx, *job.ResultTable)
}

// judged says what the newest audit of a table came to.
func (s *session) judged(t *records.Table) {
	switch {
	case t.Score == nil:
	case t.Passed == nil:
		s.line("It scores %s; there is no rulebook by which it could pass.", percent(*t.Score))
	case *t.Passed:
		s.line("It scores %s, and passes.", percent(*t.Score))
	default:
		s.line("It scores %s, and falls short; see: proudsieve audit show %d", percent(*t.Score), *t.AuditID)
	}
}

// showAudit waits for the audit of a table and shows it; a table that does not pass ends with errFellShort.
func (s *session) showAudit(ctx context.Context, table int64) error {
	a, err := client.Decode[api.AuditShown](s.AuditOf(ctx, table, s.progress()))
	if err != nil {
		return err
	}
	return s.audited(a)
}

func (s *session) audited(a *api.AuditShown) error {
	err := show(s, a, nil, func(a *api.AuditShown) {
		s.line("Audit %d of table %d, %s (%s).", a.ID, a.TableID, safe(a.FileName), a.Dataset)
		s.auditResult(&a.Result, a.Rulebook != nil)
	})
	if err == nil && a.FellShort() {
		err = errFellShort
	}
	return err
}
