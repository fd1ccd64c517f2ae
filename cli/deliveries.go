package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/service/records"
)

func deliveryCommand() *cli.Command {
	return group("delivery", "arrivals of a dataset",
		verb("add", "take in a file: it is kept as it is and audited", "DATASET FILE",
			append(sourceFlags(), allFlag(), &cli.BoolFlag{Name: "no-wait", Usage: "do not wait for the audit"}), addDelivery),
		verb("fetch", "fetch deliveries from a web address, now and, with --every, again and again", "DATASET ADDRESS",
			append(sourceFlags(), &cli.DurationFlag{Name: "every",
				Usage: "how often it is fetched, as 24h; what has not changed is not fetched again"}), addFetch),
		verb("take", "take deliveries from a table or a query in a database, now and, with --every, again and again", "DATASET DATABASE", takeFlags(), takeDelivery),
		verb("fetch-again", "fetch from an address or a database now", "FETCH", nil,
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
		verb("fetch-end", "fetch no more from an address or a database", "FETCH", nil,
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
		verb("fetches", "the addresses and databases from which a dataset's deliveries are fetched", "DATASET", nil,
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
	return s.beginFetch(ctx, args[0], &records.NewFetch{Address: args[1], SourceNotes: s.sourceNotes()})
}

// beginFetch has a dataset's deliveries fetched, and follows the first time.
func (s *session) beginFetch(ctx context.Context, dataset string, asked *records.NewFetch) error {
	if every := s.command.Duration("every"); every != 0 {
		minutes := int(every.Minutes())
		if minutes < 1 {
			return fmt.Errorf("--every is at least a minute, not %s", every)
		}
		asked.EveryMinutes = &minutes
	}
	f, err := s.AddFetch(ctx, dataset, *asked)
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
	g := newGrid(">fetch", "from", "how often", "last time", "what came of it", ">delivery")
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
