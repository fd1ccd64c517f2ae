package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/service/records"
)

func datasetCommand() *cli.Command {
	return group("dataset", "tables that arrive again and again under one name", append([]*cli.Command{
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
		verb("standing-plan", "say which fix plan is applied to every delivery of a dataset once it was audited", "DATASET PLAN|none", nil,
			func(ctx context.Context, s *session, args []string) error {
				var plan *string
				if args[1] != "none" {
					plan = &args[1]
				}
				d, err := s.SetStandingPlan(ctx, args[0], client.StandingBody{FixPlan: plan})
				return show(s, d, err, func(d *records.Dataset) {
					if d.StandingPlan == nil {
						s.line("No fix plan is applied to the deliveries of %s by itself.", d.Name)
						return
					}
					s.line("The fix plan %s is applied to every delivery of %s once it was audited.", *d.StandingPlan, d.Name)
				})
			}),
	}, datasetRecordCommands()...)...)
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
