package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/core/question"
	"proudsieve/core/rulebook"
	"proudsieve/service/access"
	"proudsieve/service/lineage"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// Somebody may be confined to datasets. What they ask for is held here against their grants, before any handler sees it: an address
// that names something belongs to the datasets of that thing, and all of them must be granted. What names nothing in its address is
// refused, but for what is listed: such operations restrict their answers themselves, or hold what they are sent against the
// grants (mayIn).

// withoutThing lists the operations that somebody who is confined may ask for though their addresses name nothing.
var withoutThing = []string{
	// lists, which leave out what may not be seen
	"list-audits", "list-certificates", "list-datasets", "list-decisions", "list-issues", "list-jobs", "list-sheets", "list-rulebooks",
	"list-fix-plans", "list-notices", "see-notices", "follow-notices", "show-desk", "search-records",
	// what is the caller's own, and who works here
	"who-am-i", "list-tokens", "add-token", "show-choices", "change-choices", "list-people", "show-sign-in-request", "answer-sign-in-request",
	// texts that name datasets, which are held against the grants
	"add-rulebook", "check-rulebook", "outline-rulebook", "edit-rulebook", "add-fix-plan", "check-fix-plan", "edit-fix-plan",
	// what names things in its body
	"add-sheet", "take-answers", "change-issues",
}

// ofPerson lists those that are for a person, and tell of all that they see: not for a token that is for some datasets alone.
var ofPerson = []string{"list-tokens", "show-choices", "change-choices", "see-notices"}

// ownThing lists those that name something which belongs to a person; the handlers look whose it is.
var ownThing = []string{"revoke-token", "look-at-arrival", "deliver-arrival"}

// ofChain lists the operations on a table that tell of all tables it rests on.
var ofChain = []string{"list-inputs", "show-lineage", "download-provenance", "trace-row", "show-certificate-draft", "certify-table", "list-obstacles"}

// showCells lists the operations that show cells as they are, some of which may be personal data.
var showCells = []string{"download-rows", "export-table", "download-table", "show-codes", "show-groups", "show-tally", "list-gaps", "list-points",
	"list-changes", "list-previewed-changes", "list-row-steps", "trace-row", "show-revision", "download-revision", "show-revised-rows", "show-totals",
	"show-total-rows", "download-findings", "check-condition", "show-job", "follow-job", "compare-audits", "list-keys", "show-certificate",
	"show-certificate-report", "download-pack", "show-reading", "list-steps"}

// errNothingThere is what somebody who is confined is told of what is not there and of what they may not see alike.
var errNothingThere = huma.NewError(http.StatusNotFound, "There is nothing at this address that you may see.")

// reach holds an operation against the grants of a caller who is confined.
func (s *Server) reach(ctx huma.Context, right access.Right) error {
	c, op := caller(ctx.Context()), ctx.Operation()
	if !c.Confined {
		return nil
	}
	noun, key := named(op.Path, ctx.Param)
	switch {
	case c.Scoped && slices.Contains(ofPerson, op.OperationID):
		return huma.NewError(http.StatusForbidden, "This tells of all that a person sees, and the token is for some datasets alone.")
	case slices.Contains(ownThing, op.OperationID):
		return nil
	case key == "" && !slices.Contains(withoutThing, op.OperationID):
		return huma.NewError(http.StatusForbidden, "This is for those who see all datasets; ask an administrator.")
	}
	asked := [][2]string{}
	if key != "" {
		asked = append(asked, [2]string{noun, key})
	}
	if slices.Contains(ofChain, op.OperationID) {
		asked = append(asked, [2]string{"chains", key})
	}
	for name, of := range map[string]string{"dataset": "datasets", "with": noun, "audit": "audits", "table": "tables"} {
		if value := ctx.Query(name); value != "" && value != "0" {
			asked = append(asked, [2]string{of, value})
		}
	}
	shows := slices.Contains(showCells, op.OperationID)
	for _, one := range asked {
		if err := s.reachThing(ctx.Context(), c, right, one[0], one[1]); err != nil {
			return err
		}
		if !shows {
			continue
		}
		if err := s.reachCells(ctx.Context(), c, one[0], one[1]); err != nil {
			return err
		}
	}
	return nil
}

// named is what the address of an operation names: its noun, and what stands for the thing; "" where it names nothing.
func named(path string, parameter func(string) string) (noun, key string) {
	parts := strings.Split(strings.Trim(path, "/"), "/")
	if len(parts) < 2 || !strings.HasPrefix(parts[1], "{") {
		return parts[0], ""
	}
	return parts[0], parameter(strings.Trim(parts[1], "{}"))
}

func (s *Server) reachThing(ctx context.Context, c *store.Caller, right access.Right, noun, key string) error {
	datasets, err := store.Reached(ctx, s.Store.DB, noun, key)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		if store.Passing(err) {
			return s.refusal(err)
		}
		return errNothingThere // as a key that is no number
	}
	if len(datasets) == 0 {
		return errNothingThere
	}
	for _, d := range datasets {
		if err := mayIn(c, right, d); err != nil {
			return err
		}
	}
	return nil
}

// mayIn refuses a caller who is confined and may not do something with a dataset.
func mayIn(c *store.Caller, right access.Right, dataset int64) error {
	switch {
	case !c.Confined || c.May(right, dataset):
		return nil
	case !c.May(access.Read, dataset):
		return errNothingThere
	}
	return huma.NewError(http.StatusForbidden, c.Name+" may read this dataset, and this needs the right to "+string(right)+"; ask an administrator.")
}

// seen is the context in which lists leave out what the caller may not see. It is for what is shown to them alone.
func seen(ctx context.Context) context.Context { return store.SeenBy(ctx, caller(ctx)) }

// lineageOf is the lineage of a table, without what the caller may not see.
func (s *Server) lineageOf(ctx context.Context, id int64) (*lineage.Lineage, error) {
	l, err := store.LineageOf(ctx, s.Store.DB, id)
	if err != nil || !caller(ctx).Confined {
		return l, err
	}
	hidden := map[int64]bool{}
	l.Tables = slices.DeleteFunc(l.Tables, func(t records.Table) bool {
		hidden[t.ID] = !caller(ctx).May(access.Read, t.DatasetID)
		return hidden[t.ID]
	})
	l.Links = slices.DeleteFunc(l.Links, func(k lineage.Link) bool { return hidden[k.Of] || hidden[k.Made] })
	l.Certificates = slices.DeleteFunc(l.Certificates, func(c records.Certificate) bool { return hidden[c.TableID] })
	return l, nil
}

// withoutOthers takes out of the result of a job what it tells somebody who is confined of merges: those put datasets together.
func (s *Server) withoutOthers(ctx context.Context, job *records.Job) error {
	if !caller(ctx).Confined || job.Result == nil {
		return nil
	}
	var result map[string]json.RawMessage
	if json.Unmarshal(*job.Result, &result) != nil || result["merges"] == nil {
		return nil // of another kind
	}
	result["merges"] = json.RawMessage("[]")
	raw, err := json.Marshal(result)
	job.Result = (*json.RawMessage)(&raw)
	return err
}

// mayName refuses a declaration that names datasets which the caller may not see, but for those that are named already by what it is
// the next version of: somebody who may see them wrote that.
func (s *Server) mayName(ctx context.Context, right access.Right, dataset string, others, already []string) error {
	c := caller(ctx)
	if !c.Confined {
		return nil
	}
	check := func(right access.Right, name string) error {
		d, err := store.OrNil(store.FindDataset(ctx, s.Store.DB, name))
		if err != nil {
			return err
		}
		if d == nil || mayIn(c, right, d.ID) != nil {
			return huma.NewError(http.StatusForbidden, "The text names the dataset "+name+", with which you may not do this; ask an administrator.")
		}
		return nil
	}
	if err := check(right, dataset); err != nil {
		return err
	}
	for _, name := range others {
		if slices.Contains(already, name) {
			continue
		}
		if err := check(access.Read, name); err != nil {
			return err
		}
	}
	return nil
}

// mayDeclare refuses a rulebook that names datasets which the caller may not see.
func (s *Server) mayDeclare(ctx context.Context, book *rulebook.Rulebook) error {
	if !caller(ctx).Confined {
		return nil
	}
	_, before, err := s.ruled(ctx, book.Dataset)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	var already []string
	if before != nil {
		already = before.Others()
	}
	return s.mayName(ctx, access.Work, book.Dataset, book.Others(), already)
}

// reachCells refuses a caller who may not see the personal data of a dataset what would show them as they are: of a table held
// beside another one, and of those that one rests on, as well.
func (s *Server) reachCells(ctx context.Context, c *store.Caller, noun, key string) error {
	datasets, err := store.Reached(ctx, s.Store.DB, noun, key)
	if err != nil {
		return s.refusal(err)
	}
	for _, d := range datasets {
		if c.SeesPersonal(d) {
			continue
		}
		if noun == "tables" {
			if err := s.reachAudited(ctx, key); err != nil {
				return err
			}
		}
		names, err := s.personalIn(ctx, d)
		if err != nil {
			return s.refusal(err)
		}
		if len(names) > 0 {
			return huma.NewError(http.StatusForbidden, "This would show personal data, of "+strings.Join(names, ", ")+", which you may not see; ask an administrator.")
		}
	}
	return nil
}

// errUnaudited is what somebody who may not see personal data is told of a table of which nobody knows yet whether it has any.
var errUnaudited = huma.NewError(http.StatusForbidden, "The table is not audited yet, so that nobody knows whether it has personal data, which you may not see.")

func (s *Server) reachAudited(ctx context.Context, table string) error {
	id, err := strconv.ParseInt(table, 10, 64)
	if err != nil {
		return errNothingThere
	}
	t, err := store.FindTable(ctx, s.Store.DB, id)
	if err != nil {
		return s.refusal(err)
	}
	if t.AuditID == nil {
		return errUnaudited
	}
	return nil
}

// hidden are the columns of a table whose cells a caller who is confined sees masked; nil for most callers.
func (s *Server) hidden(ctx context.Context, dataset int64) ([]string, error) {
	if caller(ctx).SeesPersonal(dataset) {
		return nil, nil
	}
	return s.personalIn(ctx, dataset)
}

// personalIn are the columns with personal data in any of the newest audits of a dataset's tables, of each origin.
func (s *Server) personalIn(ctx context.Context, dataset int64) ([]string, error) {
	names := []string{}
	for _, origin := range []string{store.OriginDelivery, store.OriginCleaned, store.OriginMerged} {
		audits, _, err := store.NewestAudits(ctx, s.Store.DB, dataset, origin, personalFrom)
		if err != nil {
			return nil, err
		}
		for i := range audits {
			of, err := s.personalOf(ctx, &audits[i])
			if err != nil {
				return nil, err
			}
			names = append(names, of...)
		}
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// personalFrom is how many of the newest audits of an origin are asked which columns have personal data.
const personalFrom = 3

func (s *Server) personalOf(ctx context.Context, a *records.Audit) ([]string, error) {
	names, err := recall(ctx, &s.remembered, fmt.Sprintf("personal %d", a.ID), func(ctx context.Context) (*[]string, error) {
		result, err := s.resultOf(ctx, a.ID)
		if err != nil {
			return nil, err
		}
		found := question.Personal(result)
		return &found, nil
	})
	if err != nil {
		return nil, err
	}
	return *names, nil
}
