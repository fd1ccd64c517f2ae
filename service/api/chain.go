package api

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/certify"
	"proudsieve/core/fix"
	"proudsieve/core/question"
	"proudsieve/core/rulebook"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// gatherWhole is gather with the chain of all tables that the certified one rests on, and what was asked about them.
func (s *Server) gatherWhole(ctx context.Context, id int64) (*candidate, error) {
	c, err := s.gather(ctx, id)
	if err != nil {
		return nil, err
	}
	rests := c.rests
	digests := map[int64]string{}
	asked := map[int64]bool{}
	for i := range rests.tables {
		t := &rests.tables[i]
		digests[t.ID] = t.Digest
		var of []records.Table
		for _, k := range rests.of[t.ID] {
			at := slices.IndexFunc(rests.tables, func(o records.Table) bool { return o.ID == k })
			of = append(of, rests.tables[at])
		}
		link, err := s.link(ctx, t, of)
		if err != nil {
			return nil, err
		}
		for _, of := range rests.of[t.ID] {
			link.Of = append(link.Of, digests[of])
		}
		if t.ID == id {
			link.Certificate = "" // it is what this one is about
		}
		c.statement.Chain = append(c.statement.Chain, *link)
		if asked[t.DatasetID] {
			continue
		}
		asked[t.DatasetID] = true
		facts, err := s.questionFacts(ctx, t.DatasetID)
		if err != nil {
			return nil, err
		}
		c.statement.Questions = append(c.statement.Questions, facts...)
	}
	return c, nil
}

// rests are the tables that one rests on, and itself, in the order in which they came.
type rests struct {
	tables []records.Table
	of     map[int64][]int64 // by table: those that it was made of
}

func (s *Server) restsOn(ctx context.Context, id int64) (*rests, error) {
	whole, err := store.LineageOf(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	out := &rests{of: map[int64][]int64{}}
	up := map[int64]bool{id: true}
	for grew := true; grew; {
		grew = false
		for _, l := range whole.Links {
			if up[l.Made] && !up[l.Of] {
				up[l.Of], grew = true, true
			}
		}
	}
	for _, l := range whole.Links {
		if up[l.Made] {
			out.of[l.Made] = append(out.of[l.Made], l.Of)
		}
	}
	for _, t := range whole.Tables {
		if !up[t.ID] {
			continue
		}
		full, err := store.FindTable(ctx, s.Store.DB, t.ID) // the lineage leaves out what is long
		if err != nil {
			return nil, err
		}
		out.tables = append(out.tables, *full)
	}
	slices.SortFunc(out.tables, func(a, b records.Table) int { return int(a.ID - b.ID) })
	return out, nil
}

// link tells of one table of the chain.
func (s *Server) link(ctx context.Context, t *records.Table, of []records.Table) (*certify.Link, error) {
	l := &certify.Link{Number: t.ID, SHA256: t.Digest, Dataset: t.Dataset, Origin: t.Origin, FileName: t.FileName, Bytes: t.Bytes, By: t.CreatedBy, At: t.CreatedAt.UTC().Format(time.RFC3339)}
	for _, one := range []struct {
		from *string
		into *string
	}{{t.ChangeLog, &l.ChangeLog}, {t.RowMap, &l.RowMap}, {t.Marks, &l.Marks}} {
		if one.from != nil {
			*one.into = *one.from
		}
	}
	if t.Origin == store.OriginDelivery && string(t.Source) != "{}" {
		l.Source = t.Source
	}
	if t.Reading != nil {
		l.Reading = *t.Reading
	}
	if t.DeclarationID != nil {
		d, err := store.FindDeclaration(ctx, s.Store.DB, *t.DeclarationID)
		if err != nil {
			return nil, err
		}
		version := versionOf(d)
		l.Plan = &version
		if l.Ruled, err = s.ruledBy(ctx, t, of); err != nil {
			return nil, err
		}
	}
	if t.Accounting != nil {
		var err error
		if t.Origin == store.OriginMerged {
			l.Accounting = *t.Accounting
		} else if l.Ledger, err = withoutExamples(*t.Accounting); err != nil {
			return nil, err
		}
	}
	own, err := store.OrNil(store.CertificateOf(ctx, s.Store.DB, t.ID))
	if err != nil {
		return nil, err
	}
	if own != nil {
		l.Certificate = own.Signature
	}
	l.Judged, err = s.judgedLink(ctx, t)
	return l, err
}

// withoutExamples is a ledger without the first changes of each step, which show what stands in the table.
func withoutExamples(raw json.RawMessage) (json.RawMessage, error) {
	var ledger fix.Ledger
	if err := json.Unmarshal(raw, &ledger); err != nil {
		return nil, err
	}
	for i := range ledger.Steps {
		ledger.Steps[i].Examples, ledger.Steps[i].Undecided = []fix.LogEntry{}, nil
	}
	return json.Marshal(ledger)
}

// judgedLink tells what the newest audit of a table found, and what became of it.
func (s *Server) judgedLink(ctx context.Context, t *records.Table) (*certify.JudgedLink, error) {
	if t.AuditID == nil {
		return nil, nil
	}
	a, err := store.FindAudit(ctx, s.Store.DB, *t.AuditID)
	if err != nil {
		return nil, err
	}
	result, err := s.resultOf(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	past, err := s.pastOf(ctx, t, a)
	if err != nil {
		return nil, err
	}
	job, err := store.FindJob(ctx, s.Store.DB, a.JobID)
	if err != nil {
		return nil, err
	}
	j := &certify.JudgedLink{At: job.CreatedAt.UTC().Format(time.RFC3339), Rows: result.Rows, Score: certify.Score(result.Score), Passed: result.Passed, Sums: result.Sums, Findings: certify.FindingsOf(result)}
	for _, one := range past {
		j.Past = append(j.Past, rulebook.DigestOf(one))
	}
	if j.Beside, err = s.besideFacts(ctx, result.Beside, job.CreatedAt); err != nil {
		return nil, err
	}
	if a.RulebookID != nil {
		d, err := store.FindDeclaration(ctx, s.Store.DB, *a.RulebookID)
		if err != nil {
			return nil, err
		}
		version := versionOf(d)
		j.Rulebook = &version
	}
	became, err := s.becameOf(ctx, t.Dataset)
	if err != nil {
		return nil, err
	}
	for i := range j.Findings {
		j.Findings[i].Became = became[j.Findings[i].Rule]
	}
	return j, nil
}

// ruledBy are the rulebooks that counted when a table was made: of the datasets of what it was made of, and of its own.
func (s *Server) ruledBy(ctx context.Context, t *records.Table, of []records.Table) (out []certify.Version, err error) {
	for _, one := range append(slices.Clone(of), *t) {
		if slices.ContainsFunc(out, func(v certify.Version) bool { return v.Name == one.Dataset }) {
			continue
		}
		d, err := store.OrNil(store.DeclarationAt(ctx, s.Store.DB, store.KindRulebook, one.DatasetID, one.Dataset, t.CreatedAt))
		if err != nil {
			return nil, err
		}
		if d != nil {
			out = append(out, versionOf(d))
		}
	}
	return out, nil
}

// besideFacts are the tables of other datasets that one was held against at a time.
func (s *Server) besideFacts(ctx context.Context, beside map[string]string, at time.Time) (out []certify.BesideFact, err error) {
	for _, dataset := range slices.Sorted(maps.Keys(beside)) {
		var id int64
		if _, err := fmt.Sscanf(beside[dataset], "table %d,", &id); err != nil {
			continue // an earlier version did not say it so
		}
		t, err := store.FindTable(ctx, s.Store.DB, id)
		if err != nil {
			return nil, err
		}
		one := certify.BesideFact{Dataset: dataset, SHA256: t.Digest, Origin: t.Origin}
		if t.Reading != nil {
			one.Reading = *t.Reading
		}
		d, err := store.OrNil(store.DeclarationAt(ctx, s.Store.DB, store.KindRulebook, t.DatasetID, dataset, at))
		if err != nil {
			return nil, err
		}
		if d != nil {
			version := versionOf(d)
			one.Rulebook = &version
		}
		out = append(out, one)
	}
	return out, nil
}

// pastOf are the profiles of the tables that came before one, of the same origin, as its rules against earlier deliveries saw
// them, each as JSON.
func (s *Server) pastOf(ctx context.Context, t *records.Table, a *records.Audit) ([]json.RawMessage, error) {
	if a.RulebookID == nil {
		return nil, nil
	}
	book, err := s.rulebook(ctx, *a.RulebookID)
	if err != nil {
		return nil, err
	}
	results, err := store.PastResults(ctx, s.Store.DB, t.DatasetID, t.ID, t.Origin, book.Deliveries())
	if err != nil {
		return nil, err
	}
	out := make([]json.RawMessage, len(results))
	for i, raw := range results {
		var result audit.Result
		if err := json.Unmarshal(raw, &result); err != nil {
			return nil, err
		}
		if out[i], err = json.Marshal(result.Past()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// becameOf says how the issues of a dataset's rules stand, or ended.
func (s *Server) becameOf(ctx context.Context, dataset string) (map[string]string, error) {
	out := map[string]string{}
	err := store.Each(func(at store.Cursor) (*store.Page[records.Issue], error) {
		return store.Issues(ctx, s.Store.DB, store.IssueFilter{Dataset: dataset}, at)
	}, func(i *records.Issue) error {
		if i.Subject != "rule" {
			return nil
		}
		out[i.Rule] = fmt.Sprintf("issue %d, %s", i.ID, i.State)
		if i.Ended != nil {
			out[i.Rule] += ", " + *i.Ended
		}
		return nil
	})
	return out, err
}

// questionFacts are what was asked about a dataset, and what was answered.
func (s *Server) questionFacts(ctx context.Context, dataset int64) ([]certify.QuestionFact, error) {
	all, err := store.QuestionsForDataset(ctx, s.Store.DB, dataset)
	if err != nil {
		return nil, err
	}
	var out []certify.QuestionFact
	for i := range all {
		r := &all[i]
		q, err := asQuestion(r)
		if err != nil {
			return nil, err
		}
		item := q.Item.Shown()
		one := certify.QuestionFact{Code: r.Code, Dataset: r.Dataset, Found: r.Found, About: item.Says(), Became: r.Became}
		if r.Answer != nil {
			one.Answer, one.Note, one.By, one.At = *r.Answer, *r.Note, *r.AnsweredBy, r.AnsweredAt.UTC().Format(time.RFC3339)
			if err := json.Unmarshal(*r.Right, &one.Right); err != nil {
				return nil, err
			}
			for column := range one.Right {
				if slices.Contains(q.Item.Masked, column) {
					one.Right[column] = question.Hidden
				}
			}
		}
		out = append(out, one)
	}
	return out, nil
}
