package storm

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"proudsieve/client"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/telling"
	"proudsieve/service/telling/standin"
)

// told is who is told of what happens: stand-ins for a mail server and a program, which are out now and then.
type told struct {
	mail     *standin.Mail
	receiver *standin.Receiver
}

// toldPatience is how long what waits to be sent may take after the storm: the pauses between tries have become long by then.
const toldPatience = 5 * time.Minute

func (t *told) begin() (err error) {
	if t.mail, err = standin.StartMail("127.0.0.1:0", ""); err == nil {
		t.receiver, err = standin.StartReceiver("127.0.0.1:0", "")
	}
	return err
}

func (t *told) end() {
	if t.mail != nil {
		_ = t.mail.Stop()
	}
	if t.receiver != nil {
		_ = t.receiver.Stop()
	}
}

// options are those of a service that tells them.
func (t *told) options() []string {
	return []string{"--mail-server", t.mail.Address, "--mail-from", "sieve@alder-vale.example", "--tell-private", "--address", "https://sieve.example"}
}

// introduce has the receiver told of everything, and the administrator by mail of what others do.
func (t *told) introduce(ctx context.Context, admin *client.Client) error {
	made, err := admin.AddReceiver(ctx, client.NewReceiver{Name: "stand-in", Address: t.receiver.Address})
	if err != nil {
		return err
	}
	t.receiver.SetSecret(made.Secret)
	choices := []records.NoticeChoice{}
	for _, kind := range store.NoticeKinds {
		choices = append(choices, records.NoticeChoice{Kind: kind, Listed: true, Mailed: true})
	}
	_, err = admin.ChangeChoices(ctx, client.Told{Address: "office@alder-vale.example", Choices: choices, Datasets: []string{}})
	return err
}

// maybeOut makes the stand-ins take nothing for a while, now and then.
func (s *storm) maybeOut() {
	s.told.mail.SetOut(s.rand.IntN(3) == 0)
	s.told.receiver.SetOut(s.rand.IntN(3) == 0)
}

// judgeTold waits until everything is sent, and holds what arrived against what happened: each notice once, by its key, to each who is
// told, and of each accepted delivery one.
func (s *storm) judgeTold(ctx context.Context, admin *client.Client) error {
	s.told.mail.SetOut(false)
	s.told.receiver.SetOut(false)
	sendings, err := s.sent(ctx, admin)
	if err != nil {
		return err
	}
	notices, err := client.All(func(after string, limit int64) (*records.Page[records.Notice], error) {
		return admin.ListNotices(ctx, &client.ListNoticesParams{After: after, Limit: limit})
	})
	if err != nil {
		return err
	}
	arrived := map[int64]int{}
	for _, n := range notices {
		body, ok := s.told.receiver.Of(n.Event)
		var event telling.Event
		if !ok || json.Unmarshal([]byte(body), &event) != nil || event.Data.Says != n.Says {
			s.wrong("the receiver was not told that %s", n.Says)
		}
		var facts struct {
			Table int64 `json:"table"`
		}
		if n.Kind == store.NoticeArrived && json.Unmarshal(n.Facts, &facts) == nil {
			arrived[facts.Table]++
		}
	}
	for _, one := range s.things {
		if one.kind == "delivery" && arrived[one.id] != 1 {
			s.wrong("it was told %d times that delivery %d arrived", arrived[one.id], one.id)
		}
	}
	letters := 0
	for _, one := range sendings {
		if one.ReceiverID != nil {
			continue
		}
		letters++
		if _, ok := s.told.mail.Of(one.Key + "@sieve.example"); !ok {
			s.wrong("letter %d never arrived: %s", one.ID, one.Says)
		}
	}
	events, eventsAgain := s.told.receiver.All()
	mailed, mailedAgain := s.told.mail.All()
	s.result.Told, s.result.ToldAgain = len(events)+len(mailed), eventsAgain+mailedAgain
	if len(events) != len(notices) || len(mailed) != letters {
		s.wrong("%d events arrived of %d notices, and %d letters of %d", len(events), len(notices), len(mailed), letters)
	}
	return nil
}

// sent waits until nothing waits to be sent.
func (s *storm) sent(ctx context.Context, admin *client.Client) ([]records.Sending, error) {
	for deadline := time.Now().Add(toldPatience); ; s.pause(ctx, 500*time.Millisecond) {
		all, err := client.All(func(after string, limit int64) (*records.Page[records.Sending], error) {
			return admin.ListSendings(ctx, &client.ListSendingsParams{After: after, Limit: limit})
		})
		if err != nil {
			return nil, errors.Join(err, ctx.Err())
		}
		waiting := 0
		for _, one := range all {
			switch one.State {
			case "waiting":
				waiting++
			case "given_up":
				s.wrong("sending %d was given up: %s", one.ID, one.Problem)
			}
		}
		if waiting == 0 {
			return all, nil
		}
		if time.Now().After(deadline) || ctx.Err() != nil {
			return nil, fmt.Errorf("%d things still wait to be sent", waiting)
		}
	}
}
