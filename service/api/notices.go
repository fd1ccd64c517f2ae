package api

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/telling"
)

// Told is how somebody is told of what happens.
type Told struct {
	Address  string                 `json:"address" maxLength:"254" doc:"The e-mail address that letters go to; empty for none"`
	Choices  []records.NoticeChoice `json:"choices" maxItems:"50"`
	Datasets []string               `json:"datasets" maxItems:"1000" doc:"The datasets of which they are told; empty for all"`
}

// ToldShown is how somebody is told, with whether letters can be sent at all.
type ToldShown struct {
	Told
	Mails bool `json:"mails" doc:"A mail server is set up"`
}

// Unseen says how much is new to somebody.
type Unseen struct {
	Unseen int64 `json:"unseen" doc:"How many notices they have not seen; 100 stands for that many and more"`
	Newest int64 `json:"newest" doc:"The newest notice there is"`
}

const (
	unseenMost = 100
	// noticeEvery is how often the notices are looked at for those who follow them.
	noticeEvery   = time.Second
	followLongest = 10 * time.Minute
)

// notices adds the operations on what people are told of.
func (s *Server) notices() {
	type listed struct {
		Paging
		Kind    string `query:"kind" enum:"delivery_arrived,delivery_late,fell_short,issue_came_back,question_answered,certificate_signed,certificate_revoked,job_failed" doc:"Only notices of this kind"`
		Dataset string `query:"dataset" maxLength:"63"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-notices", Method: http.MethodGet, Path: "/notices",
		Summary: "What happened that the caller wants to be told of, newest first",
	}, func(ctx context.Context, in *listed) (*body[records.Page[records.Notice]], error) {
		return answer(store.Notices(seen(ctx), s.Store.DB, caller(ctx).ID, in.Kind, in.Dataset, in.cursor()))
	})
	type seen struct {
		Body struct {
			Last int64 `json:"last" minimum:"0" maximum:"9007199254740991" doc:"The last notice that was seen; 0 only asks"`
		}
	}
	register(s, operation{
		Right: access.Read, ID: "see-notices", Method: http.MethodPost, Path: "/notices/seen",
		Summary: "Say that the caller has seen the notices up to one; tells how many are new to them",
	}, func(ctx context.Context, in *seen) (*body[Unseen], error) {
		if err := store.SeeNotices(ctx, s.Store.DB, caller(ctx).ID, in.Body.Last); err != nil {
			return nil, err
		}
		return answer(s.unseen(ctx))
	})
	register(s, operation{
		Right: access.Read, ID: "show-choices", Method: http.MethodGet, Path: "/notices/choices",
		Summary: "How the caller wants to be told of what",
	}, func(ctx context.Context, _ *nothing) (*body[ToldShown], error) {
		return answer(s.toldOf(ctx))
	})
	type choosing struct{ Body Told }
	register(s, operation{
		Right: access.Read, ID: "change-choices", Method: http.MethodPut, Path: "/notices/choices",
		Summary: "Choose how to be told of what: in the list, by mail, of which datasets. Kinds that are left out stay as they are",
	}, func(ctx context.Context, in *choosing) (*body[ToldShown], error) {
		if err := s.choose(ctx, in.Body); err != nil {
			return nil, err
		}
		return answer(s.toldOf(ctx))
	})
	s.noticeEvents()
}

func (s *Server) unseen(ctx context.Context) (*Unseen, error) {
	n, err := store.UnseenNotices(seen(ctx), s.Store.DB, caller(ctx).ID, unseenMost)
	if err != nil {
		return nil, err
	}
	state, err := s.noticed.state(ctx, s.Store.DB)
	return &Unseen{n, state.At}, err
}

func (s *Server) toldOf(ctx context.Context) (*ToldShown, error) {
	out := &ToldShown{Mails: s.Pool.Teller != nil && s.Pool.Teller.Mail != nil}
	var err error
	out.Choices, out.Address, out.Datasets, err = store.NoticeChoices(ctx, s.Store.DB, caller(ctx).ID)
	return out, err
}

func (s *Server) choose(ctx context.Context, in Told) error {
	if in.Address != "" {
		if err := telling.CheckAddress(in.Address); err != nil {
			return invalid("%s", sentence(err))
		}
	}
	for _, c := range in.Choices {
		if c.Mailed && in.Address == "" {
			return invalid("Letters need an address to go to; say yours, or choose no letters.")
		}
	}
	return s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		datasets := []int64{}
		for _, name := range in.Datasets {
			d, err := store.FindDataset(ctx, tx, name)
			if err != nil {
				return err
			}
			if err := mayIn(caller(ctx), access.Read, d.ID); err != nil {
				return err
			}
			datasets = append(datasets, d.ID)
		}
		if err := store.Choose(ctx, tx, caller(ctx).ID, in.Choices, in.Address, datasets); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, "chose what to be told of", caller(ctx).Name, nil)
	})
}

func (s *Server) noticeEvents() {
	sse.Register(s.api, huma.Operation{OperationID: "follow-notices", Method: http.MethodGet, Path: "/notices/events",
		Summary:     "Follow what happens: how much is new to the caller, at first and whenever that changes. It ends now and then, and is asked for anew",
		Middlewares: huma.Middlewares{s.requires(access.Read)}},
		map[string]any{"unseen": Unseen{}}, func(ctx context.Context, _ *nothing, send sse.Sender) {
			// It ends, so that somebody who is let in no more does not follow for ever.
			ctx, cancel := context.WithTimeout(ctx, followLongest)
			defer cancel()
			last := store.NoticeState{At: -1}
			for {
				if state, err := s.noticed.state(ctx, s.Store.DB); err == nil && state != last {
					now, err := s.unseen(ctx)
					if err != nil || send.Data(*now) != nil {
						return
					}
					last = state
				}
				select {
				case <-ctx.Done():
					return
				case <-time.After(noticeEvery):
				}
			}
		})
}

// noticed is how far the notices are, asked of the database once for all who follow them on this node.
type noticed struct {
	mutex sync.Mutex
	asked time.Time
	last  store.NoticeState
}

func (n *noticed) state(ctx context.Context, q store.Querier) (store.NoticeState, error) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if time.Since(n.asked) < noticeEvery*9/10 {
		return n.last, nil
	}
	state, err := store.NoticesNow(ctx, q)
	if err != nil {
		return n.last, err
	}
	n.asked, n.last = time.Now(), *state
	return n.last, nil
}
