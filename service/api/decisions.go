package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/rulebook"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// SavingRulebook is a rulebook that is to be saved.
type SavingRulebook struct {
	IfMatch string `header:"If-Match" doc:"The ETag of the version that this one was made from; needed where there is one"`
	Body    struct {
		Source string             `json:"source" minLength:"1" maxLength:"1048576" doc:"YAML"`
		Reason string             `json:"reason,omitempty" maxLength:"2000" doc:"Why less is asked of a table than by the version before; needed where it is"`
		Lost   []records.LostRule `json:"lost,omitempty" maxItems:"1000" doc:"What becomes of each open issue whose rule is gone; needed where there are any"`
	}
}

// easing is what a next version of a rulebook asks less, and whom that concerns.
type easing struct {
	book   *rulebook.Rulebook
	weaker []rulebook.Difference
	lost   []records.Issue // whose rules are gone
	to     map[string]string
}

// decisions adds the operations on rulebooks that become weaker.
func (s *Server) decisions() {
	type listed struct {
		Paging
		Dataset string `query:"dataset" doc:"Only those of this dataset"`
		Waiting bool   `query:"waiting" doc:"Only those that wait for a second person"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-decisions", Method: http.MethodGet, Path: "/decisions",
		Summary: "By which decisions rulebooks became weaker, or are to become so, newest first",
	}, func(ctx context.Context, in *listed) (*body[records.Page[records.Decision]], error) {
		dataset, err := s.idOfDataset(ctx, in.Dataset)
		if err != nil {
			return nil, err
		}
		return answer(store.Decisions(seen(ctx), s.Store.DB, dataset, in.Waiting, in.cursor()))
	})
	register(s, operation{
		Right: access.Read, ID: "show-decision", Method: http.MethodGet, Path: "/decisions/{id}",
		Summary: "One decision",
	}, func(ctx context.Context, in *ByID) (*body[records.Decision], error) {
		return answer(store.FindDecision(ctx, s.Store.DB, in.ID))
	})
	type outcome struct {
		ByID
		Body struct {
			Agree  bool   `json:"agree" doc:"Whether the rulebook becomes so; a refused text is kept with the decision"`
			Remark string `json:"remark,omitempty" maxLength:"2000"`
		}
	}
	register(s, operation{
		Right: access.Discuss, ID: "take-decision", Method: http.MethodPost, Path: "/decisions/{id}/outcome",
		Summary: "Agree that a rulebook becomes weaker, as somebody else than who asked for it, or refuse it",
	}, func(ctx context.Context, in *outcome) (*body[records.Decision], error) {
		d, err := store.FindDecision(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		if in.Body.Agree && d.AskedByID == caller(ctx).ID {
			return nil, huma.NewError(http.StatusForbidden, fmt.Sprintf("%s asked for decision %d, so somebody else has to agree.", d.AskedBy, d.ID))
		}
		if err := s.decide(ctx, d, in.Body.Agree, in.Body.Remark); err != nil {
			return nil, err
		}
		return answer(store.FindDecision(ctx, s.Store.DB, in.ID))
	})
	type second struct {
		ByName
		Body struct {
			Asked bool `json:"asked"`
		}
	}
	register(s, operation{
		Right: access.Administer, ID: "ask-second-person", Method: http.MethodPut, Path: "/datasets/{name}/second-person",
		Summary: "Say whether the rulebook of a dataset becomes weaker only where a second person agrees",
	}, func(ctx context.Context, in *second) (*body[records.Dataset], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		return s.changeDataset(ctx, d, "said whether a second person agrees to a weaker rulebook", map[string]any{"asked": in.Body.Asked},
			func(tx *sqlx.Tx) error { return store.SetSecondPerson(ctx, tx, d.ID, in.Body.Asked) })
	})
}

// saveRulebook saves a rulebook as the next version of its dataset's. One that asks less than the version before needs a
// reason, and where the dataset asks for that, a second person.
func (s *Server) saveRulebook(ctx context.Context, in *SavingRulebook) (*records.Declaration, error) {
	book, err := rulebook.Parse([]byte(in.Body.Source))
	if err != nil {
		return nil, err
	}
	if err := s.mayDeclare(ctx, book); err != nil {
		return nil, err
	}
	from, err := madeFrom(in.IfMatch)
	if err != nil {
		return nil, err
	}
	var out *records.Declaration
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
		out, err = s.saveIn(ctx, tx, in, book, from)
		return err
	})
	return s.declared(ctx, store.KindRulebook, out, book.Old, err)
}

// saveIn saves a rulebook within a transaction; one that waits for a second person tells its decision.
func (s *Server) saveIn(ctx context.Context, tx *sqlx.Tx, in *SavingRulebook, book *rulebook.Rulebook, from int) (*records.Declaration, error) {
	d, err := store.EnsureDataset(ctx, tx, book.Dataset, book.Title)
	if err != nil {
		return nil, err
	}
	if err := store.LockDataset(ctx, tx, d.ID); err != nil {
		return nil, err
	}
	newest, err := store.OrNil(store.NewestDeclaration(ctx, tx, store.KindRulebook, d.ID, d.Name))
	if err != nil {
		return nil, err
	}
	eased := &easing{book: book}
	if newest != nil && newest.Version == from && newest.Digest != book.Digest {
		if eased, err = s.easingOf(ctx, tx, newest, book, in.Body.Reason, in.Body.Lost); err != nil {
			return nil, err
		}
	}
	if len(eased.weaker) > 0 && d.SecondPerson {
		return s.askSecond(ctx, tx, d, from, in, eased)
	}
	out, err := s.addRulebook(ctx, tx, d, from, in.Body.Source, in.Body.Reason, caller(ctx).ID, eased)
	if err != nil || len(eased.weaker) == 0 {
		return out, err
	}
	asked, err := addDecision(ctx, tx, d, from, in, eased)
	if err != nil {
		return nil, err
	}
	return out, store.Decide(ctx, tx, asked.ID, caller(ctx).ID, &out.ID, "")
}

// easingOf tells what a next version asks less, and which open issues lose their rule by it. Without a reason, or where it is
// not said what becomes of each of these issues, it is refused with all of that.
func (s *Server) easingOf(ctx context.Context, tx *sqlx.Tx, newest *records.Declaration, book *rulebook.Rulebook, reason string, lost []records.LostRule) (*easing, error) {
	e := &easing{book: book, to: map[string]string{}}
	before, err := rulebook.Parse([]byte(newest.Source))
	if err != nil {
		return nil, err
	}
	e.weaker = rulebook.Weaker(before, book)
	if e.lost, err = store.Lost(ctx, tx, newest.DatasetID, book.RuleIDs()); err != nil {
		return nil, err
	}
	for _, l := range lost {
		if l.To != "" && !slices.Contains(book.RuleIDs(), l.To) {
			return nil, invalid("The rulebook has no rule %s with which the issue of %s could go on.", l.To, l.Rule)
		}
		e.to[l.Rule] = l.To
	}
	unsaid := slices.DeleteFunc(slices.Clone(e.lost), func(i records.Issue) bool { _, said := e.to[i.Rule]; return said })
	if (len(e.weaker) == 0 || reason != "") && len(unsaid) == 0 {
		return e, nil
	}
	var details []error
	for _, w := range e.weaker {
		location := "weaker"
		if w.Perhaps {
			location = "perhaps weaker"
		}
		details = append(details, &huma.ErrorDetail{Message: w.Says, Location: location, Value: w.Subject})
	}
	for _, i := range unsaid {
		details = append(details, &huma.ErrorDetail{Message: fmt.Sprintf("Issue %d, which is %s, loses its rule %s: %s", i.ID, i.State, i.Rule, i.Title), Location: "lost", Value: i.Rule})
	}
	says := "By this version less is asked of a table, or may be. Say why, and it is saved as a decision of yours."
	if len(unsaid) > 0 {
		says = "By this version open issues lose their rules. Say why, and of each whether it is closed by that or goes on as that of another rule."
	}
	return nil, huma.NewError(http.StatusConflict, says, details...)
}

// addDecision records that somebody wants a rulebook to ask less.
func addDecision(ctx context.Context, tx *sqlx.Tx, d *records.Dataset, from int, in *SavingRulebook, e *easing) (*records.Decision, error) {
	weaker, err := json.Marshal(e.weaker)
	if err != nil {
		return nil, err
	}
	lost := []records.LostRule{}
	for _, i := range e.lost {
		lost = append(lost, records.LostRule{Rule: i.Rule, To: e.to[i.Rule]})
	}
	raw, err := json.Marshal(lost)
	if err != nil {
		return nil, err
	}
	return store.AddDecision(ctx, tx, store.NewDecision{DatasetID: d.ID, FromVersion: from, Source: in.Body.Source, Digest: e.book.Digest,
		Weaker: weaker, Lost: raw, Reason: in.Body.Reason, AskedBy: caller(ctx).ID})
}

// askSecond keeps the text of a weaker rulebook until a second person has agreed.
func (s *Server) askSecond(ctx context.Context, tx *sqlx.Tx, d *records.Dataset, from int, in *SavingRulebook, e *easing) (*records.Declaration, error) {
	asked, err := addDecision(ctx, tx, d, from, in, e)
	if err != nil {
		return nil, err
	}
	err = store.Record(ctx, tx, caller(ctx).ID, "asked a second person to agree to a weaker rulebook", "decision "+fmt.Sprint(asked.ID)+" of "+d.Name, map[string]any{"reason": in.Body.Reason})
	return &records.Declaration{Kind: store.KindRulebook, Dataset: d.Name, DatasetID: d.ID, Name: d.Name, Source: in.Body.Source,
		Digest: e.book.Digest, Author: asked.AskedBy, CreatedAt: asked.AskedAt, Waits: &asked.ID}, err
}

// addRulebook records the next version of a rulebook, and what becomes of the issues whose rules are gone.
func (s *Server) addRulebook(ctx context.Context, tx *sqlx.Tx, d *records.Dataset, from int, source, reason string, author int64, e *easing) (*records.Declaration, error) {
	made, err := store.AddDeclaration(ctx, tx, store.NewDeclaration{Kind: store.KindRulebook, DatasetID: d.ID, Name: d.Name,
		Source: source, Digest: e.book.Digest, From: from, AuthorID: author})
	if err != nil {
		return nil, err
	}
	for i := range e.lost {
		if err := store.LoseRule(ctx, tx, &e.lost[i], e.to[e.lost[i].Rule], made.Version, reason, caller(ctx).ID); err != nil {
			return nil, err
		}
	}
	return made, recordSaved(ctx, tx, made)
}

// decide takes a decision that waits.
func (s *Server) decide(ctx context.Context, d *records.Decision, agree bool, remark string) error {
	subject := fmt.Sprintf("decision %d of %s", d.ID, d.Dataset)
	return s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		if !agree {
			if err := store.Decide(ctx, tx, d.ID, caller(ctx).ID, nil, remark); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "refused a weaker rulebook", subject, map[string]any{"remark": remark})
		}
		dataset, err := store.FindDataset(ctx, tx, d.Dataset)
		if err != nil {
			return err
		}
		if err := store.LockDataset(ctx, tx, d.DatasetID); err != nil {
			return err
		}
		newest, err := store.NewestDeclaration(ctx, tx, store.KindRulebook, d.DatasetID, d.Dataset)
		if err != nil {
			return err
		}
		if newest.Version != d.FromVersion {
			return huma.NewError(http.StatusConflict, fmt.Sprintf("The rulebook of %s has become version %d since this was asked; ask anew from that one.", d.Dataset, newest.Version))
		}
		book, err := rulebook.Parse([]byte(d.Source))
		if err != nil {
			return err
		}
		var lost []records.LostRule
		if err := json.Unmarshal(d.Lost, &lost); err != nil {
			return err
		}
		e, err := s.easingOf(ctx, tx, newest, book, d.Reason, lost)
		if err != nil {
			return err
		}
		made, err := s.addRulebook(ctx, tx, dataset, d.FromVersion, d.Source, d.Reason, d.AskedByID, e)
		if err != nil {
			return err
		}
		if err := store.Decide(ctx, tx, d.ID, caller(ctx).ID, &made.ID, remark); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, "agreed to a weaker rulebook", subject, map[string]any{"version": made.Version, "remark": remark})
	})
}
