package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/service/records"
)

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
