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
			savingFlags(path),
			func(ctx context.Context, s *session, args []string) error {
				source, err := os.ReadFile(args[0])
				if err != nil {
					return err
				}
				d, err := declareFrom(ctx, s, path, source)
				var p *client.Problem
				if errors.As(err, &p) && (p.Status == http.StatusPreconditionFailed ||
					p.Status == http.StatusPreconditionRequired) {
					return fmt.Errorf("%w\nThen save it with --after and the number of that version", err)
				}
				return show(s, d, err, func(d *records.Declaration) {
					if d.Waits != nil {
						s.line("Kept as decision %d, which waits for a second person: decision agree %d.", *d.Waits, *d.Waits)
						return
					}
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

// savingFlags are those of saving a declaration; a rulebook may ask less than before.
func savingFlags(path string) []cli.Flag {
	flags := []cli.Flag{&cli.IntFlag{Name: "after", Usage: "the version that it was made from; needed from the second one on"}}
	if path != "rulebooks" {
		return flags
	}
	return append(flags, &cli.StringFlag{Name: "reason", Usage: "why less is asked of a table than before; needed where it is"},
		&cli.StringSliceFlag{Name: "lost", Usage: "what becomes of the open issue of a rule that is gone: RULE to close it, RULE=OTHER to let it go on as that of another; may be repeated"})
}

func declareFrom(ctx context.Context, s *session, path string, source []byte) (*records.Declaration, error) {
	after, reason, lost := s.command.Int("after"), s.command.String("reason"), s.command.StringSlice("lost")
	if path != "rulebooks" || reason == "" && len(lost) == 0 {
		return s.DeclareAfter(ctx, path, source, after)
	}
	rules := make([]records.LostRule, len(lost))
	for i, one := range lost {
		rules[i].Rule, rules[i].To, _ = strings.Cut(one, "=")
	}
	return s.Ease(ctx, source, after, reason, rules...)
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
