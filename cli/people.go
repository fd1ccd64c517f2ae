package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/durable"
	"proudsieve/service/records"
)

// toFlag says where the secret of a token goes.
func toFlag() cli.Flag {
	return &cli.StringFlag{Name: "to", Usage: "write the token to this file, mode 0600, instead of printing it"}
}

// hand gives a secret to whom it is for: into the file of --to, or printed, this once.
func (s *session) hand(secret *string) error {
	to := s.command.String("to")
	if to == "" {
		return nil
	}
	if err := durable.WriteFile(to, []byte(*secret+"\n"), 0o600); err != nil {
		return err
	}
	*secret = ""
	return nil
}

func (s *session) handed(secret string) {
	if secret != "" {
		s.line("%s", secret)
	}
}

func personCommand() *cli.Command {
	change := func(name, usage string, disabled bool, says string) *cli.Command {
		return verb(name, usage, "NAME", nil, func(ctx context.Context, s *session, args []string) error {
			p, err := s.ChangePerson(ctx, args[0], client.ChangeBody{Disabled: disabled})
			return show(s, p, err, func(p *records.Person) { s.line(says, p.Name) })
		})
	}
	return group("person", "who works with the service",
		verb("list", "everybody", "", nil, func(ctx context.Context, s *session, _ []string) error {
			all, err := s.ListPeople(ctx)
			return show(s, all, err, func(all *[]records.Person) {
				g := newGrid("name", "role", "sees", "kept out since")
				for _, p := range *all {
					g.add(p.Name, string(p.Role), map[bool]string{true: "some datasets", false: "all datasets"}[p.Confined], optional(p.DisabledAt, when))
				}
				s.grid(g, "There is nobody.")
			})
		}),
		verb("add", "add a person, with a token by which they come in; it is shown this once", "NAME ROLE",
			[]cli.Flag{&cli.StringFlag{Name: "note", Usage: "what the token is for"}, toFlag()},
			func(ctx context.Context, s *session, args []string) error {
				made, err := s.AddPerson(ctx, client.NewPersonBody{Name: args[0],
					Role: client.NewPersonBodyRole(args[1]),
					Note: s.command.String("note")})
				if err == nil {
					err = s.hand(&made.Secret)
				}
				return show(s, made, err, func(m *records.MadePerson) {
					s.line("%s (%s) may come in.", m.Name, string(m.Role))
					s.handed(m.Secret)
				})
			}),
		change("disable", "keep a person out, with all their tokens; what they did stays", true, "%s is kept out."),
		change("enable", "let a person in again", false, "%s may come in again."),
		verb("rights", "to which datasets somebody is confined, and what they may do with each", "NAME", nil, func(ctx context.Context, s *session, args []string) error {
			return s.rights(s.ShowRights(ctx, args[0]))
		}),
		verb("confine", "let somebody see some datasets alone, and do with each what is said; further datasets are added to those of before", "NAME DATASET MAY", []cli.Flag{
			&cli.BoolFlag{Name: "personal", Usage: "they see columns with personal data as they are"},
		}, confine),
		verb("withdraw", "take the right to a dataset back", "NAME DATASET", nil, func(ctx context.Context, s *session, args []string) error {
			now, err := s.ShowRights(ctx, args[0])
			if err != nil {
				return err
			}
			left := slices.DeleteFunc(slices.Clone(now.Rights), func(r records.DatasetRight) bool { return r.Dataset == args[1] })
			if len(left) == len(now.Rights) {
				return fmt.Errorf("%s has no right to a dataset %q; see: proudsieve person rights %s", args[0], args[1], args[0])
			}
			return s.rights(s.SetRights(ctx, args[0], records.Confinement{Confined: true, Rights: left}))
		}),
		verb("unconfine", "let somebody see all datasets, and do what their role allows", "NAME", nil, func(ctx context.Context, s *session, args []string) error {
			return s.rights(s.SetRights(ctx, args[0], records.Confinement{Rights: []records.DatasetRight{}}))
		}),
		verb("link", "say what the provider of identities calls a person who came in by tokens so far", "NAME SUBJECT", nil,
			func(ctx context.Context, s *session, args []string) error {
				person, err := s.LinkPerson(ctx, args[0], client.LinkingBody{Subject: args[1]})
				return show(s, person, err, func(p *records.Person) { s.line("%s comes in by the provider as well.", p.Name) })
			}),
		verb("reset", "end all tokens of a person and make a new one, for somebody who lost theirs", "NAME",
			[]cli.Flag{toFlag()}, func(ctx context.Context, s *session, args []string) error {
				made, err := s.ResetPerson(ctx, args[0])
				if err == nil {
					err = s.hand(&made.Secret)
				}
				return show(s, made, err, func(m *records.MadePerson) {
					s.line("All tokens of %s have ended, and a new one is made.", m.Name)
					s.handed(m.Secret)
				})
			}),
	)
}

// confine adds a right to those that somebody has.
func confine(ctx context.Context, s *session, args []string) error {
	now, err := s.ShowRights(ctx, args[0])
	if err != nil {
		return err
	}
	rights := slices.DeleteFunc(slices.Clone(now.Rights), func(r records.DatasetRight) bool { return r.Dataset == args[1] })
	rights = append(rights, records.DatasetRight{Dataset: args[1], May: args[2], Personal: s.command.Bool("personal")})
	return s.rights(s.SetRights(ctx, args[0], records.Confinement{Confined: true, Rights: rights}))
}

// rights shows what somebody may do with which datasets.
func (s *session) rights(c *records.Confinement, err error) error {
	return show(s, c, err, func(c *records.Confinement) {
		if !c.Confined {
			s.line("All datasets, and what the role allows.")
			return
		}
		g := newGrid("dataset", "may", "personal data")
		for _, r := range c.Rights {
			g.add(r.Dataset, r.May, map[bool]string{true: "as they are", false: "masked"}[r.Personal || r.May == "work"])
		}
		s.grid(g, "No dataset.")
	})
}

func tokenCommand() *cli.Command {
	return group("token", "by what you come in",
		verb("list", "your tokens, and for an administrator everybody's, without their secrets", "", nil,
			func(ctx context.Context, s *session, _ []string) error {
				all, err := client.All(func(after string, limit int64) (*records.Page[records.Token], error) {
					return s.ListTokens(ctx, &client.ListTokensParams{After: after, Limit: limit})
				})
				return show(s, all, err, func(all []records.Token) {
					g := newGrid(">token", "person", "role", "for", "note", "made", "ends", "ended")
					for _, t := range all {
						g.add(fmt.Sprint(t.ID), t.Person, cmp.Or(t.As, t.Role), cmp.Or(t.Datasets, "all that they see"), t.Note, when(t.CreatedAt),
							optional(t.ExpiresAt, when), optional(t.RevokedAt, when))
					}
					s.grid(g, "There are no tokens.")
				})
			}),
		verb("add", "make another token for yourself, or for a program; it is shown this once", "", []cli.Flag{
			&cli.StringFlag{Name: "note", Usage: "what it is for"},
			&cli.StringFlag{Name: "as", Usage: "the role that it lets in as, where that is a lesser one than yours: reader, steward, certifier"},
			&cli.StringSliceFlag{Name: "dataset", Usage: "a dataset that it is for alone; may be given more than once"},
			&cli.IntFlag{Name: "days", Usage: "for how many days it is in force; 0 without end"}, toFlag(),
		}, func(ctx context.Context, s *session, _ []string) error {
			made, err := s.AddToken(ctx, client.NewTokenBody{Note: s.command.String("note"),
				Days: int64(s.command.Int("days")), As: client.NewTokenBodyAs(s.command.String("as")), Datasets: s.command.StringSlice("dataset")})
			if err == nil {
				err = s.hand(&made.Secret)
			}
			return show(s, made, err, func(m *records.MadeToken) {
				s.line("Token %d for %s (%s) is made%s.", m.ID, m.Person, cmp.Or(m.As, m.Role), forDatasets(m.Datasets))
				s.handed(m.Secret)
			})
		}),
		verb("end", "end a token and its sessions", "TOKEN", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				if err := s.RevokeToken(ctx, id); err != nil {
					return err
				}
				return show(s, map[string]string{"ended": args[0]}, nil,
					func(map[string]string) { s.line("Token %s has ended.", args[0]) })
			}),
	)
}

// forDatasets says which datasets a token is for, where it is for some alone.
func forDatasets(names string) string {
	if names == "" {
		return ""
	}
	return ", for " + names + " alone"
}
