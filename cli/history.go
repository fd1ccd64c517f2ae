package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/service/records"
)

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
