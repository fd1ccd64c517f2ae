package cli

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/rulebook"
	"proudsieve/service/records"
)

func decisionCommand() *cli.Command {
	take := func(name, usage string, agree bool) *cli.Command {
		return verb(name, usage, "DECISION", []cli.Flag{&cli.StringFlag{Name: "remark", Usage: "what is said of it"}},
			func(ctx context.Context, s *session, args []string) error {
				id, err := number(args[0], "a decision")
				if err != nil {
					return err
				}
				d, err := s.TakeDecision(ctx, id, client.OutcomeBody{Agree: agree, Remark: s.command.String("remark")})
				return show(s, d, err, s.decision)
			})
	}
	return group("decision", "that a rulebook becomes weaker: by what, why, and who agreed",
		verb("list", "decisions, newest first", "", []cli.Flag{&cli.StringFlag{Name: "dataset", Usage: "only those of this dataset"},
			&cli.BoolFlag{Name: "waiting", Usage: "only those that wait for a second person"}},
			func(ctx context.Context, s *session, _ []string) error {
				all, err := client.All(func(after string, limit int64) (*records.Page[records.Decision], error) {
					return s.ListDecisions(ctx, &client.ListDecisionsParams{After: after, Limit: limit, Dataset: s.command.String("dataset"), Waiting: s.command.Bool("waiting")})
				})
				return show(s, all, err, func(all []records.Decision) {
					g := newGrid(">decision", "dataset", "from version", "asked by", "outcome", "by", "reason")
					for _, d := range all {
						g.add(fmt.Sprint(d.ID), d.Dataset, fmt.Sprint(d.FromVersion), d.AskedBy, optional(d.Outcome, same), optional(d.DecidedBy, same), d.Reason)
					}
					s.grid(g, "No rulebook became weaker.")
				})
			}),
		verb("show", "one decision", "DECISION", nil, func(ctx context.Context, s *session, args []string) error {
			id, err := number(args[0], "a decision")
			if err != nil {
				return err
			}
			d, err := s.ShowDecision(ctx, id)
			return show(s, d, err, s.decision)
		}),
		take("agree", "agree, as somebody else than who asked", true),
		take("refuse", "refuse; the text is kept with the decision", false),
		verb("second-person", "say whether the rulebook of a dataset becomes weaker only where a second person agrees", "DATASET yes|no", nil,
			func(ctx context.Context, s *session, args []string) error {
				if args[1] != "yes" && args[1] != "no" {
					return fmt.Errorf("%q is neither yes nor no", args[1])
				}
				d, err := s.AskSecondPerson(ctx, args[0], client.SecondBody{Asked: args[1] == "yes"})
				return show(s, d, err, func(d *records.Dataset) {
					s.line("A second person %s asked when the rulebook of %s becomes weaker.", map[bool]string{true: "is", false: "is not"}[d.SecondPerson], d.Name)
				})
			}),
	)
}

func (s *session) decision(d *records.Decision) {
	s.line("Decision %d of %s, from version %d of its rulebook, asked for by %s at %s: %s", d.ID, d.Dataset, d.FromVersion, safe(d.AskedBy), when(d.AskedAt), safe(d.Reason))
	var weaker []rulebook.Difference
	if err := json.Unmarshal(d.Weaker, &weaker); err == nil {
		for _, w := range weaker {
			perhaps := ""
			if w.Perhaps {
				perhaps = " (nobody can tell whether this asks less)"
			}
			s.line("- %s%s", safe(w.Says), perhaps)
		}
	}
	var lost []records.LostRule
	if err := json.Unmarshal(d.Lost, &lost); err == nil {
		for _, l := range lost {
			if l.To == "" {
				s.line("- The open issue of the rule %s is closed.", safe(l.Rule))
			} else {
				s.line("- The open issue of the rule %s goes on as that of %s.", safe(l.Rule), safe(l.To))
			}
		}
	}
	switch {
	case d.Outcome == nil:
		s.line("It waits for somebody else to agree.")
	case d.Version != nil:
		s.line("%s agreed at %s; it is version %d. %s", safe(*d.DecidedBy), when(*d.DecidedAt), *d.Version, safe(d.Remark))
	default:
		s.line("%s refused it at %s. %s", safe(*d.DecidedBy), when(*d.DecidedAt), safe(d.Remark))
	}
}
