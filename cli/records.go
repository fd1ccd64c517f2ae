package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/relation"
	"proudsieve/durable"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

// group is a noun with its verbs.
func group(name, usage string, commands ...*cli.Command) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, Commands: commands}
}

// verb is a command that talks to the service and takes exactly the named arguments.
func verb(name, usage, args string, flags []cli.Flag, action func(ctx context.Context, s *session,
	args []string) error) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, ArgsUsage: args, Flags: append(flags, jsonFlag()),
		Action: withService(args, action)}
}

// show prints v as JSON, or lets text show it to people.
func show[T any](s *session, v T, err error, text func(T)) error {
	if err != nil {
		return err
	}
	if s.json {
		return s.printJSON(v)
	}
	text(v)
	return nil
}

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func optional[T any](v *T, text func(T) string) string {
	if v == nil {
		return ""
	}
	return text(*v)
}

func datasetCommand() *cli.Command {
	return group("dataset", "tables that arrive again and again under one name",
		verb("list", "all datasets, with where each stands", "", nil,
			func(ctx context.Context, s *session, _ []string) error {
				all, err := client.All(func(after string, limit int64) (*records.Page[records.Dataset], error) {
					return s.ListDatasets(ctx, &client.ListDatasetsParams{After: after, Limit: limit})
				})
				return show(s, all, err, s.datasets)
			}),
		verb("show", "one dataset with its tables", "DATASET", nil,
			func(ctx context.Context, s *session, args []string) error {
				d, err := s.ShowDataset(ctx, args[0])
				if err != nil {
					return err
				}
				tables, err := client.All(func(after string, limit int64) (*records.Page[records.Table], error) {
					return s.ListTables(ctx, args[0], &client.ListTablesParams{After: after, Limit: limit})
				})
				return show(s, map[string]any{"dataset": d, "tables": tables}, err, func(map[string]any) {
					s.datasets([]records.Dataset{*d})
					s.line("")
					s.tables(tables)
				})
			}),
		verb("add", "add a dataset", "DATASET", []cli.Flag{&cli.StringFlag{Name: "title"}},
			func(ctx context.Context, s *session, args []string) error {
				d, err := s.AddDataset(ctx, client.NewDatasetBody{Name: args[0], Title: s.command.String("title")})
				return show(s, d, err, func(d *records.Dataset) { s.line("The dataset %s is there.", d.Name) })
			}),
		verb("keep", "say how many deliveries of a dataset are kept, besides those that something certified rests on",
			"DATASET NUMBER|all", nil, func(ctx context.Context, s *session, args []string) error {
				var keep *int64
				if args[1] != "all" {
					n, err := number(args[1], "deliveries to keep")
					if err != nil {
						return err
					}
					keep = &n
				}
				d, err := s.SetRetention(ctx, args[0], client.RetentionBody{KeepDeliveries: keep})
				return show(s, d, err, func(d *records.Dataset) {
					if d.Keep == nil {
						s.line("All deliveries of %s are kept.", d.Name)
						return
					}
					s.line("The newest %d deliveries of %s are kept, besides those that something certified rests on.",
						*d.Keep, d.Name)
				})
			}),
	)
}

func (o *output) datasets(all []records.Dataset) {
	g := newGrid("dataset", "title", ">rulebook", ">deliveries", ">score", "passed", ">issues open", ">of them stop",
		"last table")
	for _, d := range all {
		rulebook := "none"
		if d.Rulebook > 0 {
			rulebook = fmt.Sprint(d.Rulebook)
		}
		g.add(d.Name, d.Title, rulebook, count(d.Deliveries), optional(d.Score, percent), optional(d.Passed, yes),
			count(d.OpenIssues), count(d.Stops), optional(d.LastAt, when))
	}
	o.grid(g, "There are no datasets yet. Save a rulebook with: proudsieve rulebook save FILE")
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (o *output) tables(all []records.Table) {
	g := newGrid(">table", "origin", "file", ">bytes", ">rows", ">score", "passed", "made by", "arrived", "certified",
		"withdrawn")
	for _, t := range all {
		g.add(fmt.Sprint(t.ID), t.Origin, t.FileName, count(t.Bytes), optional(t.Rows, count),
			optional(t.Score, percent), optional(t.Passed, yes),
			t.CreatedBy, when(t.CreatedAt), yes(t.CertificateID != nil), optional(t.Withdrawn,
				func(why string) string { return why }))
	}
	o.grid(g, "Nothing has arrived yet. Take in a file with: proudsieve delivery add DATASET FILE")
}

// declarationCommands are the verbs that rulebooks, fix plans and merges share.
func declarationCommands(path, what string) []*cli.Command {
	return []*cli.Command{
		verb("save", "save a "+what+" as the newest version", "FILE",
			[]cli.Flag{&cli.IntFlag{Name: "after",
				Usage: "the version that it was made from; needed from the second one on"}},
			func(ctx context.Context, s *session, args []string) error {
				source, err := os.ReadFile(args[0])
				if err != nil {
					return err
				}
				d, err := s.DeclareAfter(ctx, path, source, s.command.Int("after"))
				var p *client.Problem
				if errors.As(err, &p) && (p.Status == http.StatusPreconditionFailed ||
					p.Status == http.StatusPreconditionRequired) {
					return fmt.Errorf("%w\nThen save it with --after and the number of that version", err)
				}
				return show(s, d, err, func(d *records.Declaration) {
					s.line("Version %d of the %s %s is the newest.", d.Version, what, d.Name)
					for _, old := range d.OldWords {
						s.line("%s.", visible(old))
					}
				})
			}),
		verb("list", "the versions of every "+what, "",
			[]cli.Flag{&cli.StringFlag{Name: "dataset", Usage: "only those of this dataset"}},
			func(ctx context.Context, s *session, _ []string) error {
				all, err := declarationsOf(ctx, s, path, s.command.String("dataset"))
				return show(s, all, err, func(all []records.Declaration) {
					g := newGrid("dataset", "name", ">version", "author", "saved", "SHA-256")
					for _, d := range all {
						g.add(d.Dataset, d.Name, fmt.Sprint(d.Version), d.Author, when(d.CreatedAt), d.Digest[:16])
					}
					s.grid(g, "There is no "+what+" yet. Save one with: proudsieve "+strings.TrimSuffix(path, "s")+
						" save FILE")
				})
			}),
		verb("show", "the text of a "+what, "DATASET NAME",
			[]cli.Flag{&cli.IntFlag{Name: "version", Usage: "0 for the newest"}},
			func(ctx context.Context, s *session, args []string) error {
				d, err := declarationOf(ctx, s, path, args[0], args[1], int64(s.command.Int("version")))
				return show(s, d, err, func(d *records.Declaration) { _ = s.raw(d.Source) })
			}),
	}
}

func deliveryCommand() *cli.Command {
	return group("delivery", "arrivals of a dataset",
		verb("add", "take in a file: it is kept as it is and audited", "DATASET FILE",
			append(sourceFlags(), &cli.BoolFlag{Name: "no-wait", Usage: "do not wait for the audit"}), addDelivery),
		verb("fetch", "fetch deliveries from a web address, now and, with --every, again and again", "DATASET ADDRESS",
			append(sourceFlags(), &cli.DurationFlag{Name: "every",
				Usage: "how often it is fetched, as 24h; what has not changed is not fetched again"}), addFetch),
		verb("fetch-again", "fetch from an address now", "FETCH", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				job, err := s.RunFetch(ctx, id)
				if err != nil {
					return err
				}
				return s.followFetch(ctx, job)
			}),
		verb("fetch-end", "fetch no more from an address", "FETCH", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				if _, err := s.EndFetch(ctx, id); err != nil {
					return err
				}
				s.line("Nothing more is fetched from there.")
				return nil
			}),
		verb("fetches", "the addresses from which a dataset's deliveries are fetched", "DATASET", nil,
			func(ctx context.Context, s *session, args []string) error {
				all, err := s.ListFetches(ctx, args[0])
				return show(s, all, err, s.fetchList)
			}),
		verb("withdraw",
			"withdraw a delivery that was taken in by mistake, with all that was made of it; its record stays", "TABLE",
			[]cli.Flag{
				&cli.StringFlag{Name: "reason", Required: true, Usage: "why"},
				&cli.BoolFlag{Name: "let-go-of-bytes", Usage: "remove its bytes from the file store"},
			}, func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				w, err := s.WithdrawDelivery(ctx, id, client.WithdrawalBody{Reason: s.command.String("reason"),
					LetGoOfBytes: s.command.Bool("let-go-of-bytes")})
				return show(s, w, err, func(w *records.Withdrawal) {
					s.line("Delivery %d is withdrawn, and counts no more.", w.TableID)
				})
			}),
		verb("list", "the deliveries of a dataset", "DATASET", nil,
			func(ctx context.Context, s *session, args []string) error {
				all, err := client.All(func(after string, limit int64) (*records.Page[records.Table], error) {
					return s.ListTables(ctx, args[0], &client.ListTablesParams{After: after, Limit: limit,
						Origin: client.ListTablesParamsOriginDelivery})
				})
				return show(s, all, err, s.tables)
			}),
	)
}

func sourceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "provider", Usage: "who sent it"},
		&cli.StringFlag{Name: "contact", Usage: "who can be asked about it"},
		&cli.StringFlag{Name: "period", Usage: "the period it covers"},
		&cli.StringFlag{Name: "method", Usage: "how the numbers were made"},
		&cli.StringFlag{Name: "limits", Usage: "known limits"},
		&cli.StringFlag{Name: "note", Usage: "anything else that is known of it"},
	}
}

func (s *session) sourceNotes() records.SourceNotes {
	c := s.command
	return records.SourceNotes{Provider: c.String("provider"), Contact: c.String("contact"), Period: c.String("period"),
		Method: c.String("method"), Limits: c.String("limits"), Note: c.String("note")}
}

func addFetch(ctx context.Context, s *session, args []string) error {
	asked := records.NewFetch{Address: args[1], SourceNotes: s.sourceNotes()}
	if every := s.command.Duration("every"); every != 0 {
		minutes := int(every.Minutes())
		if minutes < 1 {
			return fmt.Errorf("--every is at least a minute, not %s", every)
		}
		asked.EveryMinutes = &minutes
	}
	f, err := s.AddFetch(ctx, args[0], asked)
	if err != nil {
		return err
	}
	return s.followFetch(ctx, f.Job)
}

// followFetch waits for a fetch and says what came of it.
func (s *session) followFetch(ctx context.Context, job *records.Job) error {
	ended, err := s.Follow(ctx, job.ID, s.progress())
	if err != nil {
		return err
	}
	var result struct {
		Outcome string `json:"outcome"`
		Message string `json:"message"`
	}
	if ended.Result != nil {
		if err := json.Unmarshal(*ended.Result, &result); err != nil {
			return err
		}
	}
	return show(s, &result, nil, func(*struct {
		Outcome string `json:"outcome"`
		Message string `json:"message"`
	}) {
		s.line("%s", result.Message)
	})
}

func (s *session) fetchList(all *[]records.Fetch) {
	g := newGrid(">fetch", "address", "how often", "last time", "what came of it", ">delivery")
	for _, f := range *all {
		often, table := "on request", ""
		if f.EveryMinutes != nil {
			often = "every " + (time.Duration(*f.EveryMinutes) * time.Minute).String()
		}
		if f.EndedAt != nil {
			often = "ended"
		}
		if f.TableID != nil {
			table = count(*f.TableID)
		}
		checked := "not yet"
		if f.CheckedAt != nil {
			checked = f.CheckedAt.Local().Format("2006-01-02 15:04")
		}
		g.add(count(f.ID), f.Address, often, checked, f.Message, table)
	}
	s.grid(g, "Nothing is fetched for this dataset; see: proudsieve delivery fetch --help")
}

func addDelivery(ctx context.Context, s *session, args []string) error {
	f, err := os.Open(args[1])
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	d, err := s.Deliver(ctx, args[0], filepath.Base(args[1]), s.sourceNotes(), s.sending(f, info.Size()))
	if err != nil {
		return err
	}
	if d.Known || s.command.Bool("no-wait") {
		return show(s, d, nil, func(d *records.Delivered) { s.line("%s", d.Message) })
	}
	if !s.json {
		s.line("%s", d.Message)
	}
	return s.showAudit(ctx, d.Table.ID)
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
	if err == nil && !a.Passed {
		err = errFellShort
	}
	return err
}

func tableCommand() *cli.Command {
	return group("table", "deliveries, cleaned and merged tables",
		verb("show", "one table, and where it is on its way", "TABLE", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				t, err := s.ShowTable(ctx, id)
				if err != nil {
					return err
				}
				path, err := s.ShowPath(ctx, t.ID)
				return show(s, map[string]any{"table": t, "path": path}, err, func(map[string]any) {
					s.tables([]records.Table{*t})
					s.line("SHA-256 %s", t.Digest)
					s.line("")
					g := newGrid("stage", "state", "")
					for _, stage := range path.Stages {
						g.add(stage.Name, stage.State, stage.Says)
					}
					s.grid(g, "")
				})
			}),
		verb("rows", "rows as they stand in the file, with what was caught", "TABLE", []cli.Flag{
			&cli.StringFlag{Name: "rule", Usage: "only rows that break this rule"},
			&cli.StringFlag{Name: "column", Usage: "only rows caught in this column"},
			&cli.StringFlag{Name: "dimension",
				Usage: "only rows caught in completeness, validity, uniqueness or consistency"},
			&cli.IntFlag{Name: "after", Usage: "rows after this one"}, &cli.IntFlag{Name: "limit", Value: 20},
		}, showRows),
		verb("groups", "rows that share the values of columns, side by side", "TABLE COLUMN,COLUMN",
			[]cli.Flag{&cli.StringFlag{Name: "kind", Value: "conflicting", Usage: "equal, conflicting or near"},
				&cli.IntFlag{Name: "offset"}, &cli.IntFlag{Name: "limit", Value: groupsShown}},
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				found, err := client.Decode[api.GroupsPage](s.ShowGroups(ctx, id,
					&client.ShowGroupsParams{Columns: strings.Split(args[1], ","),
						Kind:   client.ShowGroupsParamsKind(s.command.String("kind")),
						Offset: int64(s.command.Int("offset")),
						Limit:  int64(s.command.Int("limit"))}))
				return show(s, found, err, func(found *api.GroupsPage) {
					s.groupCounts(&found.Groups)
					s.groupPage(found.Names, found.Columns, relation.GroupKind(found.Kind), found.Page,
						int64(found.Listed))
				})
			}),
		verb("codes", "what the texts of a column stand for", "TABLE COLUMN", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				codes, err := client.Decode[relation.Codes](s.ShowCodes(ctx, id,
					&client.ShowCodesParams{Column: args[1]}))
				return show(s, codes, err, s.codes)
			}),
		verb("download", "the bytes of a table", "TABLE FILE",
			[]cli.Flag{&cli.BoolFlag{Name: "change-log", Usage: "the change log of a cleaned table instead"}},
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				what := client.DownloadTableParams{}
				if s.command.Bool("change-log") {
					what.What = client.DownloadTableParamsWhatChangeLog
				}
				return save(args[1], func(f *os.File) error {
					bytes, err := s.DownloadTable(ctx, id, &what)
					return client.Save(f, bytes, err)
				})
			}),
	)
}

// exactFlag is of commands that write findings as CSV.
func exactFlag() cli.Flag {
	return &cli.BoolFlag{Name: "exact",
		Usage: "write the texts as they are, also those that a spreadsheet would run as a formula"}
}

// idOf reads the number of what is meant, as lists show it.
func idOf(text string) (int64, error) { return number(text, "anything; the lists show the numbers") }

// declarationsOf lists the declarations of a kind, of a dataset where one is named.
func declarationsOf(ctx context.Context, s *session, kind, dataset string) ([]records.Declaration, error) {
	return client.All(func(after string, limit int64) (*records.Page[records.Declaration], error) {
		switch kind {
		case "rulebooks":
			return s.ListRulebooks(ctx, &client.ListRulebooksParams{After: after, Limit: limit, Dataset: dataset})
		case "fix-plans":
			return s.ListFixPlans(ctx, &client.ListFixPlansParams{After: after, Limit: limit, Dataset: dataset})
		}
		return s.ListMerges(ctx, &client.ListMergesParams{After: after, Limit: limit, Dataset: dataset})
	})
}

// declarationOf returns one declaration; version 0 is the newest.
func declarationOf(ctx context.Context, s *session, kind, dataset, name string,
	version int64) (*records.Declaration, error) {
	switch kind {
	case "rulebooks":
		return s.ShowRulebooks(ctx, dataset, name, &client.ShowRulebooksParams{Version: version})
	case "fix-plans":
		return s.ShowFixPlans(ctx, dataset, name, &client.ShowFixPlansParams{Version: version})
	}
	return s.ShowMerges(ctx, dataset, name, &client.ShowMergesParams{Version: version})
}

// save writes a file whole or not at all.
func save(path string, write func(*os.File) error) error { return durable.Write(path, 0o600, write) }

func showRows(ctx context.Context, s *session, args []string) error {
	c := s.command
	id, err := idOf(args[0])
	if err != nil {
		return err
	}
	page, err := client.Decode[api.RowsPage](s.ShowRows(ctx, id, &client.ShowRowsParams{Rule: c.String("rule"),
		Column:    c.String("column"),
		Dimension: client.ShowRowsParamsDimension(c.String("dimension")), After: int32(c.Int("after")),
		Limit: int64(c.Int("limit"))}))
	return show(s, page, err, func(page *api.RowsPage) {
		g := newGrid(append([]string{">row", ">line", "caught by"}, safeHeads(page.Columns)...)...)
		for _, r := range page.Rows {
			rules := make([]string, len(r.Caught))
			for i, one := range r.Caught {
				rules[i] = one.Rule
			}
			cells := []string{count(int64(r.Row)), count(r.Line), strings.Join(rules, ", ")}
			for _, cell := range r.Cells {
				cells = append(cells, visible(shorten(cell, 30)))
			}
			g.add(cells...)
		}
		s.grid(g, "There are no such rows.")
		if page.Total >= 0 {
			s.line("%d of %s rows shown.", len(page.Rows), count(page.Total))
		}
		if page.Next > 0 {
			s.line("More with --after %d.", page.Next)
		}
	})
}

// safeHeads are the names of a file's columns as heads of a grid, which gives > and * a meaning.
func safeHeads(names []string) []string {
	heads := make([]string, len(names))
	for i, name := range names {
		if heads[i] = safe(name); strings.HasPrefix(name, ">") || strings.HasPrefix(name, "*") {
			heads[i] = " " + heads[i]
		}
	}
	return heads
}

func auditCommand() *cli.Command {
	return group("audit", "runs of a rulebook over a table",
		verb("start", "audit a table by the newest rulebook of its dataset", "TABLE", nil,
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
		verb("show", "what an audit found", "AUDIT", nil, func(ctx context.Context, s *session, args []string) error {
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
		verb("report", "write an audit as a page for the owner of the data, who needs no account", "AUDIT FILE", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				return save(args[1], func(f *os.File) error {
					page, err := s.ShowReport(ctx, id)
					return client.Save(f, page, err)
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
		verb("list", "audits, newest first", "", nil, func(ctx context.Context, s *session, _ []string) error {
			all, err := client.All(func(after string, limit int64) (*records.Page[records.Audit], error) {
				return s.ListAudits(ctx, &client.ListAuditsParams{After: after, Limit: limit})
			})
			return show(s, all, err, func(all []records.Audit) {
				g := newGrid(">audit", "dataset", ">table", "origin", ">rows", ">score", "passed", "at")
				for _, a := range all {
					g.add(fmt.Sprint(a.ID), a.Dataset, fmt.Sprint(a.TableID), a.Origin, count(a.Rows), percent(a.Score),
						yes(a.Passed), when(a.CreatedAt))
				}
				s.grid(g, "Nothing has been audited yet. Take in a file with: proudsieve delivery add DATASET FILE")
			})
		}),
	)
}
