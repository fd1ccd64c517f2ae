package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/document"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

func noticeCommand() *cli.Command {
	return group("notice", "what happened that you want to be told of",
		verb("list", "what happened, newest first", "", []cli.Flag{
			&cli.StringFlag{Name: "kind", Usage: "only " + document.Join(store.NoticeKinds)},
			&cli.StringFlag{Name: "dataset", Usage: "only of this dataset"},
			&cli.IntFlag{Name: "limit", Value: 30, Usage: "how many at most, from 1 to 500"},
			&cli.StringFlag{Name: "cursor", Usage: "where to go on, as a list says"},
		}, listNotices),
		verb("choices", "how you are told of what", "", nil, func(ctx context.Context, s *session, _ []string) error {
			told, err := client.Decode[api.ToldShown](s.ShowChoices(ctx))
			return show(s, told, err, s.told)
		}),
		verb("choose", "choose how to be told of a kind of notice, or of all: in the list, by mail, by both or by neither", "KIND [HOW]", []cli.Flag{
			&cli.StringFlag{Name: "address", Usage: "the e-mail address that letters go to"},
			&cli.StringSliceFlag{Name: "dataset", Usage: "be told of this dataset; may be given more than once"},
			&cli.BoolFlag{Name: "all-datasets", Usage: "be told of all datasets"},
		}, choose),
	)
}

func listNotices(ctx context.Context, s *session, _ []string) error {
	page, err := s.ListNotices(ctx, &client.ListNoticesParams{Kind: client.ListNoticesParamsKind(s.command.String("kind")), Dataset: s.command.String("dataset"),
		Limit: int64(s.command.Int("limit")), After: s.command.String("cursor")})
	return show(s, page, err, func(p *client.PageNotice) {
		g := newGrid("at", "kind", "by", "what happened")
		for _, n := range p.Items {
			g.add(when(n.At), words(n.Kind), n.By, n.Says)
		}
		s.grid(g, "Nothing happened yet that you want to be told of. To see of what you are told: proudsieve notice choices")
		if p.Next != "" {
			s.line("There are more: add --cursor %s.", p.Next)
		}
	})
}

// words writes the name of a kind for people.
func words(name string) string { return strings.ReplaceAll(name, "_", " ") }

func (s *session) told(t *api.ToldShown) {
	g := newGrid("kind", "in the list", "by mail")
	for _, c := range t.Choices {
		g.add(c.Kind, yes(c.Listed), yes(c.Mailed))
	}
	s.grid(g, "")
	switch {
	case !t.Mails:
		s.line("No mail server is set up, so that no letters are sent.")
	case t.Address == "":
		s.line("You have said no address that letters could go to: proudsieve notice choose all both --address YOU@HOST")
	default:
		s.line("Letters go to %s.", t.Address)
	}
	if len(t.Datasets) > 0 {
		s.line("You are told of %s.", document.Join(t.Datasets))
	}
}

// hows are the ways of being told.
var hows = map[string]records.NoticeChoice{"list": {Listed: true}, "mail": {Mailed: true}, "both": {Listed: true, Mailed: true}, "neither": {}}

func choose(ctx context.Context, s *session, args []string) error {
	now, err := client.Decode[api.ToldShown](s.ShowChoices(ctx))
	if err != nil {
		return err
	}
	if args[0] != "all" && !slices.Contains(store.NoticeKinds, args[0]) {
		return fmt.Errorf("%q is no kind of notice; choose all, or one of %s", args[0], document.Join(store.NoticeKinds))
	}
	wanted := client.Told{Address: now.Address, Choices: []records.NoticeChoice{}, Datasets: now.Datasets}
	if len(args) > 1 {
		how, known := hows[args[1]]
		if !known {
			return fmt.Errorf("%q is no way of being told; choose %s", args[1], document.Join(sortedKeys(hows)))
		}
		for _, kind := range store.NoticeKinds {
			if args[0] == "all" || args[0] == kind {
				wanted.Choices = append(wanted.Choices, records.NoticeChoice{Kind: kind, Listed: how.Listed, Mailed: how.Mailed})
			}
		}
	}
	if s.command.IsSet("address") {
		wanted.Address = s.command.String("address")
	}
	if datasets := s.command.StringSlice("dataset"); len(datasets) > 0 {
		wanted.Datasets = datasets
	}
	if s.command.Bool("all-datasets") {
		wanted.Datasets = []string{}
	}
	told, err := client.Decode[api.ToldShown](s.ChangeChoices(ctx, wanted))
	return show(s, told, err, s.told)
}

func receiverCommand() *cli.Command {
	return group("receiver", "programs that are told of what happens, by an administrator",
		verb("list", "who is told, and how that goes", "", nil, func(ctx context.Context, s *session, _ []string) error {
			all, err := s.ListReceivers(ctx)
			return show(s, all, err, func(all *[]records.Receiver) {
				g := newGrid(">receiver", "name", "address", ">sent", ">waiting", ">given up", "what went wrong last")
				for _, r := range *all {
					g.add(fmt.Sprint(r.ID), r.Name, r.Address, count(r.Sent), count(r.Waiting), count(r.GivenUp), r.Problem)
				}
				s.grid(g, "No program is told. To tell one: proudsieve receiver add NAME ADDRESS")
			})
		}),
		verb("add", "tell a program at a web address", "NAME ADDRESS", []cli.Flag{
			&cli.StringSliceFlag{Name: "kind", Usage: "only of this kind of notice; may be given more than once"}, toFlag(),
		}, func(ctx context.Context, s *session, args []string) error {
			n := client.NewReceiver{Name: args[0], Address: args[1]}
			for _, kind := range s.command.StringSlice("kind") {
				n.Kinds = append(n.Kinds, client.NewReceiverKinds(kind))
			}
			made, err := s.AddReceiver(ctx, n)
			if err == nil {
				err = s.hand(&made.Secret)
			}
			return show(s, made, err, s.receiverMade)
		}),
		ofReceiver("renew", "make the secret of a receiver another one", []cli.Flag{toFlag()}, func(ctx context.Context, s *session, id int64) error {
			made, err := s.RenewReceiver(ctx, id)
			if err == nil {
				err = s.hand(&made.Secret)
			}
			return show(s, made, err, s.receiverMade)
		}),
		ofReceiver("try", "send a receiver an event that says nothing", nil, func(ctx context.Context, s *session, id int64) error {
			tried, err := client.Decode[api.Tried](s.TryReceiver(ctx, id))
			if err := show(s, tried, err, func(t *api.Tried) { s.line("%s", t.Says) }); err != nil {
				return err
			}
			if !tried.Took {
				return fmt.Errorf("receiver %d did not take it", id)
			}
			return nil
		}),
		ofReceiver("remove", "tell a program no more", nil, func(ctx context.Context, s *session, id int64) error {
			err := s.RemoveReceiver(ctx, id)
			return show(s, map[string]int64{"removed": id}, err, func(map[string]int64) { s.line("Receiver %d is told no more.", id) })
		}),
		verb("sent", "what is sent to people and programs, newest first, and what went wrong", "", []cli.Flag{
			&cli.Int64Flag{Name: "receiver", Usage: "only what is sent to this receiver"},
			&cli.StringFlag{Name: "state", Usage: "only what is waiting, sent or given_up"},
			&cli.IntFlag{Name: "limit", Value: 30, Usage: "how many at most, from 1 to 500"},
			&cli.StringFlag{Name: "cursor", Usage: "where to go on, as a list says"},
		}, listSendings),
		verb("again", "try once more to send what was given up", "SENDING", nil, func(ctx context.Context, s *session, args []string) error {
			id, err := idOf(args[0])
			if err != nil {
				return err
			}
			sending, err := s.SendAgain(ctx, id)
			return show(s, sending, err, func(x *records.Sending) { s.line("It is sent to %s once more.", x.To) })
		}),
	)
}

// receiverMade shows a receiver with its secret.
func (s *session) receiverMade(m *records.MadeReceiver) {
	s.line("Receiver %d, %s, is told at %s. It knows what is sent by this secret, which is shown this once:", m.ID, m.Name, m.Address)
	s.handed(m.Secret)
}

func ofReceiver(name, usage string, flags []cli.Flag, action func(ctx context.Context, s *session, id int64) error) *cli.Command {
	return verb(name, usage, "RECEIVER", flags, func(ctx context.Context, s *session, args []string) error {
		id, err := number(args[0], "a receiver; proudsieve receiver list shows the numbers")
		if err != nil {
			return err
		}
		return action(ctx, s, id)
	})
}

func listSendings(ctx context.Context, s *session, _ []string) error {
	page, err := s.ListSendings(ctx, &client.ListSendingsParams{Receiver: s.command.Int64("receiver"), State: client.ListSendingsParamsState(s.command.String("state")),
		Limit: int64(s.command.Int("limit")), After: s.command.String("cursor")})
	return show(s, page, err, func(p *client.PageSending) {
		g := newGrid(">sending", "at", "to", "what", "state", ">tries", "what went wrong last")
		for _, x := range p.Items {
			g.add(fmt.Sprint(x.ID), when(x.CreatedAt), x.To, x.Says, words(x.State), fmt.Sprint(x.Attempts), x.Problem)
		}
		s.grid(g, "Nothing was sent to anybody.")
		if p.Next != "" {
			s.line("There are more: add --cursor %s.", p.Next)
		}
	})
}
