package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/audit"
	"proudsieve/core/certify"
	"proudsieve/core/fix"
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/core/waiver"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// Obstacles is what stands between a table and a certificate.
type Obstacles struct {
	Ready     bool               `json:"ready"`
	Obstacles []certify.Obstacle `json:"obstacles"`
}

func (s *Server) certificates() {
	register(s, operation{
		Right: access.Read, ID: "list-obstacles", Method: http.MethodGet, Path: "/tables/{id}/obstacles",
		Summary: "Each thing that stands between the table and a certificate by the caller",
	}, func(ctx context.Context, in *ByID) (*body[Obstacles], error) {
		c, err := s.gather(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		found := certify.Obstacles(c.facts)
		return answer(&Obstacles{Ready: len(found) == 0, Obstacles: found}, nil)
	})
	register(s, operation{
		Right: access.Read, ID: "show-certificate-draft", Method: http.MethodGet, Path: "/tables/{id}/certificate-draft",
		Summary: "What a certificate of the table by the caller would say now, and what stands in its way; nothing is signed",
	}, func(ctx context.Context, in *ByID) (*body[CertificateDraft], error) {
		c, err := s.gatherWhole(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		raw, err := json.Marshal(c.statement)
		return answer(&CertificateDraft{Statement: raw, Obstacles: certify.Obstacles(c.facts)}, err)
	})
	type certifying struct {
		ByID
		Body *Certifying `required:"false"`
	}
	register(s, operation{
		Right: access.Certify, ID: "certify-table", Method: http.MethodPost, Path: "/tables/{id}/certificates",
		Summary: "Certify a table",
	}, func(ctx context.Context, in *certifying) (*body[records.Certificate], error) {
		if in.Body == nil {
			in.Body = &Certifying{}
		}
		return shown(s.certify(ctx, in.ID, *in.Body))
	})
	register(s, operation{
		Right: access.Certify, ID: "sign-certificate", Method: http.MethodPost, Path: "/certificates/{id}/signatures",
		Summary: "Sign a certificate besides who made it; what stands in the way of a certificate stands in the way of that too",
	}, func(ctx context.Context, in *ByID) (*body[records.Certificate], error) {
		return shown(s.signToo(ctx, in.ID))
	})
	type revoking struct {
		ByID
		Body struct {
			Reason string `json:"reason" minLength:"3" maxLength:"2000"`
		}
	}
	register(s, operation{
		Right: access.Certify, ID: "revoke-certificate", Method: http.MethodPost, Path: "/certificates/{id}/revocation",
		Summary: "Say that a certificate counts no more, and why; it stays, and stands in the list of revocations",
	}, func(ctx context.Context, in *revoking) (*body[records.Certificate], error) {
		return shown(s.revoke(ctx, in.ID, in.Body.Reason))
	})
	register(s, operation{
		Right: access.Read, ID: "list-certificates", Method: http.MethodGet, Path: "/certificates",
		Summary: "Certificates, newest first",
	}, func(ctx context.Context, in *Paging) (*body[records.Page[records.Certificate]], error) {
		page, err := store.Certificates(seen(ctx), s.Store.DB, in.cursor())
		if err != nil {
			return nil, err
		}
		for i := range page.Items {
			if page.Items[i].Digest, err = certify.Digest(page.Items[i].Signature); err != nil {
				return nil, err
			}
		}
		return answer(page, nil)
	})
	register(s, operation{
		Right: access.Read, ID: "show-certificate", Method: http.MethodGet, Path: "/certificates/{id}",
		Summary: "One certificate",
	}, func(ctx context.Context, in *ByID) (*body[records.Certificate], error) {
		return shown(store.FindCertificate(ctx, s.Store.DB, in.ID))
	})
	s.signingKeys()
}

// CertificateDraft is what a certificate would say.
type CertificateDraft struct {
	Statement json.RawMessage    `json:"statement"`
	Obstacles []certify.Obstacle `json:"obstacles"`
}

// Certifying is what is said with a certificate besides what it states by itself.
type Certifying struct {
	Conditions string `json:"conditions,omitempty" maxLength:"4000" doc:"Under which conditions the table may be used, in words"`
	ValidUntil string `json:"valid_until,omitempty" maxLength:"10" doc:"The last day on which it counts, yyyy-MM-dd; no end where it is left out"`
	Replaces   int64  `json:"replaces,omitempty" minimum:"0" maximum:"9007199254740991" doc:"The certificate that it stands in for, of the same dataset; that one is revoked with it"`
}

// shown is a certificate with its digest.
func shown(c *records.Certificate, err error) (*body[records.Certificate], error) {
	if err != nil {
		return nil, err
	}
	c.Digest, err = certify.Digest(c.Signature)
	return answer(c, err)
}

// signingKeys adds what others check certificates by: it needs no account.
func (s *Server) signingKeys() {
	register(s, operation{
		ID: "show-signing-key", Method: http.MethodGet, Path: "/signing-key",
		Summary: "The public key that certificates are signed with now, as a JSON Web Key",
	}, func(context.Context, *nothing) (*body[map[string]any], error) { return object(s.Signing.Public()) })
	register(s, operation{
		ID: "show-signing-keys", Method: http.MethodGet, Path: "/signing-keys",
		Summary: "The public halves of all keys that certificates were ever signed with, as a JWK set (RFC 7517)",
	}, func(ctx context.Context, _ *nothing) (*body[map[string]any], error) {
		return object(s.Signing.Set(ctx))
	})
	register(s, operation{
		ID: "show-revocations", Method: http.MethodGet, Path: "/revocations",
		Summary: "The certificates that count no more, as a list that is signed as they are",
	}, func(ctx context.Context, _ *nothing) (*body[json.RawMessage], error) {
		list, err := s.revocations(ctx)
		raw := json.RawMessage(list)
		return answer(&raw, err)
	})
	register(s, operation{
		Right: access.Administer, ID: "rotate-signing-key", Method: http.MethodPost, Path: "/signing-key/rotation",
		Summary: "Sign with a new key from now on; certificates of before verify by the set of keys, and links to sheets of questions lead nowhere any more",
	}, func(ctx context.Context, _ *nothing) (*body[map[string]any], error) {
		err := s.Signing.Rotate(ctx, func(tx *sqlx.Tx, id string) error {
			return store.Record(ctx, tx, caller(ctx).ID, "made a new signing key", "key "+id, nil)
		})
		if err != nil {
			return nil, err
		}
		return object(s.Signing.Public())
	})
}

// object answers with a JSON object as it stands.
func object(raw []byte, err error) (*body[map[string]any], error) {
	if err != nil {
		return nil, err
	}
	out := map[string]any{}
	return answer(&out, json.Unmarshal(raw, &out))
}

// revocations is the signed list of the certificates that count no more.
func (s *Server) revocations(ctx context.Context) (string, error) {
	all, err := store.Revoked(ctx, s.Store.DB)
	if err != nil {
		return "", err
	}
	var revoked []certify.Revoked
	for i := range all {
		c := &all[i]
		one := certify.Revoked{At: c.RevokedAt.UTC().Format(time.RFC3339), By: *c.RevokedBy, Reason: *c.Revoked}
		if one.Certificate, err = certify.Digest(c.Signature); err != nil {
			return "", err
		}
		var said certify.Statement
		if err := json.Unmarshal(c.Statement, &said); err != nil {
			return "", err
		}
		one.Table = said.Table.SHA256
		if c.ReplacedBy != nil {
			by, err := store.FindCertificate(ctx, s.Store.DB, *c.ReplacedBy)
			if err != nil {
				return "", err
			}
			if one.ReplacedBy, err = certify.Digest(by.Signature); err != nil {
				return "", err
			}
		}
		revoked = append(revoked, one)
	}
	private, err := s.Signing.Current(ctx)
	if err != nil {
		return "", err
	}
	return certify.SignRevocations(revoked, time.Now(), private)
}

// candidate is a table with all that a certificate has to know of it.
type candidate struct {
	table     *records.Table
	rests     *rests // on which tables it rests
	audit     *records.Audit
	result    audit.Result
	facts     certify.Facts
	statement certify.Statement
}

// refuseFor refuses a signature for what stands in its way.
func refuseFor(id int64, found []certify.Obstacle) error {
	details := make([]error, len(found))
	for i, one := range found {
		details[i] = &huma.ErrorDetail{Message: one.Says}
	}
	return huma.NewError(http.StatusConflict, fmt.Sprintf("Table %d cannot be certified yet.", id), details...)
}

func (s *Server) certify(ctx context.Context, id int64, with Certifying) (*records.Certificate, error) {
	c, err := s.gatherWhole(ctx, id)
	if err != nil {
		return nil, err
	}
	if found := certify.Obstacles(c.facts); len(found) > 0 {
		return nil, refuseFor(id, found)
	}
	c.statement.Conditions, c.statement.ValidUntil = with.Conditions, with.ValidUntil
	if with.ValidUntil != "" {
		if day, err := time.Parse(time.DateOnly, with.ValidUntil); err != nil || day.Before(time.Now().UTC().Truncate(24*time.Hour)) {
			return nil, invalid("A certificate counts until a day that is not over; %q is not one.", with.ValidUntil)
		}
	}
	if with.Replaces > 0 {
		before, err := store.FindCertificate(ctx, s.Store.DB, with.Replaces)
		if err != nil {
			return nil, err
		}
		if before.Dataset != c.table.Dataset || before.RevokedAt != nil {
			return nil, invalid("Certificate %d cannot be replaced by this one: it is of another dataset, or was revoked.", before.ID)
		}
		if c.statement.Replaces, err = certify.Digest(before.Signature); err != nil {
			return nil, err
		}
	}
	private, err := s.Signing.Current(ctx)
	if err != nil {
		return nil, err
	}
	signature, err := certify.Sign(&c.statement, private)
	if err != nil {
		return nil, err
	}
	raw, err := json.Marshal(c.statement)
	if err != nil {
		return nil, err
	}
	var made *records.Certificate
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
		if made, err = store.AddCertificate(ctx, tx, id, c.audit.ID, raw, signature, caller(ctx).ID); err != nil {
			return err
		}
		if with.Replaces > 0 {
			reason := fmt.Sprintf("Certificate %d stands in for it.", made.ID)
			if err := store.Revoke(ctx, tx, with.Replaces, caller(ctx).ID, reason, &made.ID); err != nil {
				return err
			}
			if err := s.tellRevoked(ctx, tx, with.Replaces, reason); err != nil {
				return err
			}
		}
		if err := s.tellCertificate(ctx, tx, store.NoticeSigned, made, fmt.Sprintf("%s signed certificate %d of %s.", caller(ctx).Name, made.ID, made.Dataset)); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, "certified", subject(c.table),
			map[string]any{"sha256": c.table.Digest, "certificate": made.ID})
	})
	return made, err
}

// unrevoked is a certificate that was not revoked.
func (s *Server) unrevoked(ctx context.Context, q store.Querier, id int64) (*records.Certificate, error) {
	c, err := store.FindCertificate(ctx, q, id)
	if err == nil && c.RevokedAt != nil {
		err = huma.NewError(http.StatusConflict, fmt.Sprintf("Certificate %d was revoked: %s", id, *c.Revoked))
	}
	return c, err
}

// signToo adds a signature of somebody else to a certificate.
func (s *Server) signToo(ctx context.Context, id int64) (*records.Certificate, error) {
	c, err := s.unrevoked(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	if c.CreatedBy == caller(ctx).Name {
		return nil, huma.NewError(http.StatusConflict, fmt.Sprintf("%s signed certificate %d already; more signatures are those of others.", c.CreatedBy, id))
	}
	found, err := s.gather(ctx, c.TableID)
	if err != nil {
		return nil, err
	}
	if obstacles := certify.Obstacles(found.facts); len(obstacles) > 0 {
		return nil, refuseFor(c.TableID, obstacles)
	}
	private, err := s.Signing.Current(ctx)
	if err != nil {
		return nil, err
	}
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		if err := store.LockCertificate(ctx, tx, id); err != nil {
			return err
		}
		if c, err = s.unrevoked(ctx, tx, id); err != nil { // it may have been revoked meanwhile
			return err
		}
		whole, err := certify.AddSignature(c.Signature, private, caller(ctx).Name, time.Now())
		if err != nil {
			return err
		}
		if err := store.AddSignature(ctx, tx, id, caller(ctx).ID, whole); err != nil {
			return err
		}
		if err := s.tellCertificate(ctx, tx, store.NoticeSigned, c, fmt.Sprintf("%s signed certificate %d of %s too.", caller(ctx).Name, id, c.Dataset)); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, "signed too", fmt.Sprintf("certificate %d", id), nil)
	})
	if err != nil {
		return nil, err
	}
	return store.FindCertificate(ctx, s.Store.DB, id)
}

// tellCertificate tells what happened to a certificate; each person does it once at most.
func (s *Server) tellCertificate(ctx context.Context, tx *sqlx.Tx, kind string, c *records.Certificate, says string) error {
	d, err := store.FindDataset(ctx, tx, c.Dataset)
	if err != nil {
		return err
	}
	return s.Pool.Tell(ctx, tx, store.NewNotice{Key: fmt.Sprintf("%s %d %d", kind, c.ID, caller(ctx).ID), Kind: kind, DatasetID: d.ID, PersonID: caller(ctx).ID,
		Says: says, Path: fmt.Sprintf("/certificates/%d", c.ID), Facts: map[string]any{"certificate": c.ID, "table": c.TableID}})
}

func (s *Server) tellRevoked(ctx context.Context, tx *sqlx.Tx, id int64, reason string) error {
	c, err := store.FindCertificate(ctx, tx, id)
	if err != nil {
		return err
	}
	return s.tellCertificate(ctx, tx, store.NoticeRevoked, c, fmt.Sprintf("%s revoked certificate %d of %s: %s", caller(ctx).Name, id, c.Dataset, reason))
}

// revoke says that a certificate counts no more.
func (s *Server) revoke(ctx context.Context, id int64, reason string) (*records.Certificate, error) {
	err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		if err := store.LockCertificate(ctx, tx, id); err != nil {
			return err
		}
		if err := store.Revoke(ctx, tx, id, caller(ctx).ID, reason, nil); err != nil {
			return err
		}
		if err := s.tellRevoked(ctx, tx, id, reason); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, "revoked a certificate", fmt.Sprintf("certificate %d", id), map[string]any{"reason": reason})
	})
	if err != nil {
		return nil, err
	}
	return store.FindCertificate(ctx, s.Store.DB, id)
}

func (s *Server) gather(ctx context.Context, id int64) (*candidate, error) {
	t, err := store.FindTable(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	who := caller(ctx).Name
	c := &candidate{table: t, facts: certify.Facts{Origin: t.Origin, There: work.LiesThere(t) != nil, CertifiedBy: who, Waived: map[string]waiver.Covered{}}}
	c.statement = certify.Statement{Kind: certify.StatementKind, Dataset: t.Dataset, Waivers: []certify.Waiver{},
		Accepted: []certify.AcceptedFact{},
		Inputs:   []certify.InputFacts{}, CertifiedBy: who, CertifiedAt: time.Now().UTC().Format(time.RFC3339)}
	c.statement.Table = certify.TableFacts{SHA256: t.Digest, Bytes: t.Bytes}
	if t.Withdrawn != nil {
		c.facts.Withdrawn = *t.Withdrawn
	}
	if c.rests, err = s.restsOn(ctx, id); err != nil {
		return nil, err
	}
	for i := range c.rests.tables { // whoever made one of them, however far down
		if one := &c.rests.tables[i]; one.Origin != store.OriginDelivery {
			c.facts.FixedBy = append(c.facts.FixedBy, one.CreatedBy)
		}
	}
	if err := s.gatherAudit(ctx, c); err != nil {
		return nil, err
	}
	inputs := []records.Table{}
	switch t.Origin {
	case store.OriginCleaned:
		inputs = append(inputs, *t)
	case store.OriginMerged:
		if inputs, err = store.InputsOf(ctx, s.Store.DB, id); err != nil {
			return nil, err
		}
		d, err := store.FindDeclaration(ctx, s.Store.DB, *t.DeclarationID)
		if err != nil {
			return nil, err
		}
		c.statement.Merge = &certify.MergeFacts{Plan: versionOf(d), MergedBy: t.CreatedBy, Accounting: *t.Accounting}
	}
	for i := range inputs {
		if err := s.gatherInput(ctx, c, &inputs[i]); err != nil {
			return nil, err
		}
	}
	if t.Origin == store.OriginMerged {
		if c.facts.Unbalanced, err = unbalanced(c, inputs); err != nil {
			return nil, err
		}
	}
	return c, s.gatherIssues(ctx, c, inputs)
}

// unbalanced says where the accounting of a merge is not that of its table and of those that it was made of.
func unbalanced(c *candidate, inputs []records.Table) (string, error) {
	if c.audit == nil {
		return "", nil // which is told as such
	}
	var a merge.Accounting
	if err := json.Unmarshal(*c.table.Accounting, &a); err != nil {
		return "", err
	}
	var of []merge.Brought
	for i := range inputs {
		in := &inputs[i]
		brought := merge.Brought{Dataset: in.Dataset, Table: in.ID}
		switch {
		case in.Origin == store.OriginCleaned:
			var ledger fix.Ledger
			if err := json.Unmarshal(*in.Accounting, &ledger); err != nil {
				return "", err
			}
			brought.Rows = ledger.RowsOut
		case in.Rows != nil:
			brought.Rows = *in.Rows
		}
		of = append(of, brought)
	}
	if err := a.Holds(c.result.Rows, of); err != nil {
		return err.Error(), nil
	}
	return "", nil
}

func versionOf(d *records.Declaration) certify.Version {
	return certify.Version{Name: d.Name, Version: d.Version, SHA256: d.Digest, Earlier: d.Earlier && d.Kind == store.KindFixPlan}
}

// gatherAudit takes up the newest audit, if it went by the newest rulebook.
func (s *Server) gatherAudit(ctx context.Context, c *candidate) error {
	newest, err := store.OrNil(store.NewestDeclaration(ctx, s.Store.DB, store.KindRulebook, c.table.DatasetID,
		c.table.Dataset))
	if err != nil {
		return err
	}
	c.facts.Ruled = newest != nil
	if c.table.AuditID == nil {
		return nil
	}
	a, err := store.FindAudit(ctx, s.Store.DB, *c.table.AuditID)
	if err != nil {
		return err
	}
	raw, err := store.AuditResult(ctx, s.Store.DB, a.ID)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(raw, &c.result); err != nil {
		return err
	}
	c.audit = a
	if there := work.LiesThere(c.table); there != nil {
		job, err := store.FindJob(ctx, s.Store.DB, a.JobID)
		if err != nil {
			return err
		}
		c.statement.Table.There = certify.ThereOf(&c.result, there.Server, job.CreatedAt)
	}
	c.facts.Audited = newest != nil && a.RulebookID != nil && *a.RulebookID == newest.ID
	c.facts.Passed, c.facts.Score = a.HasPassed(), c.result.Score
	c.facts.PassMark, c.facts.Findings, c.facts.Rules = a.PassMark, c.result.Findings, c.result.Rules
	if newest != nil {
		c.statement.Rulebook = versionOf(newest)
	}
	c.statement.Audit = certify.AuditFacts{Score: certify.Score(c.result.Score), PassMark: certify.Score(a.PassMark), Rules: c.result.Rules}
	c.statement.Table.Rows, c.statement.Table.Sums = c.result.Rows, c.result.Sums
	if e := c.result.Estimates; e != nil {
		c.statement.Table.Marks, c.statement.Table.Estimates, c.statement.Table.Are = e.Marks, e.Cells, e.Are
	}
	c.statement.Table.Columns, c.statement.Accepted = certify.ColumnsOf(&c.result), certify.AcceptedOf(&c.result)
	return nil
}

// gatherInput traces an input to the bytes that arrived.
func (s *Server) gatherInput(ctx context.Context, c *candidate, t *records.Table) error {
	if t.Origin != store.OriginCleaned {
		return nil
	}
	delivery, err := store.FindTable(ctx, s.Store.DB, *t.ParentID)
	if err != nil {
		return err
	}
	d, err := store.FindDeclaration(ctx, s.Store.DB, *t.DeclarationID)
	if err != nil {
		return err
	}
	var ledger fix.Ledger
	if err := json.Unmarshal(*t.Accounting, &ledger); err != nil {
		return err
	}
	plan := versionOf(d)
	in := certify.InputFacts{Dataset: t.Dataset, TableSHA256: t.Digest, Delivery: delivery.Digest,
		FileName: delivery.FileName, FixPlan: &plan, ChangeLog: *t.ChangeLog,
		RowsDelivered: ledger.RowsIn, RowsHanded: ledger.RowsOut, SumsDelivered: ledger.SumsIn,
		SumsHanded: ledger.SumsOut, FixedBy: t.CreatedBy}
	for _, step := range ledger.Steps {
		in.CellsChanged += step.Cells
	}
	c.statement.Inputs = append(c.statement.Inputs, in)
	return nil
}

// gatherIssues looks at the issues, the waivers and the decisions of the table's dataset, of its inputs' and of those of all tables
// that were made on the way to them.
func (s *Server) gatherIssues(ctx context.Context, c *candidate, inputs []records.Table) error {
	tables := []*records.Table{c.table}
	add := func(all []records.Table) {
		for i := range all {
			if !slices.ContainsFunc(tables, func(t *records.Table) bool { return t.ID == all[i].ID }) {
				tables = append(tables, &all[i])
			}
		}
	}
	add(inputs)
	add(slices.DeleteFunc(slices.Clone(c.rests.tables), func(t records.Table) bool { return t.Origin == store.OriginDelivery }))
	seen := map[string]bool{}
	for _, t := range tables {
		if err := s.gatherWaivers(ctx, c, t); err != nil {
			return err
		}
		if seen[t.Dataset] {
			continue
		}
		seen[t.Dataset] = true
		if err := s.gatherOpen(ctx, c, t.Dataset); err != nil {
			return err
		}
		if err := s.gatherDecisions(ctx, c, t); err != nil {
			return err
		}
	}
	return nil
}

// gatherOpen takes up the issues of a dataset that stop its tables.
func (s *Server) gatherOpen(ctx context.Context, c *candidate, dataset string) error {
	return store.Each(func(at store.Cursor) (*store.Page[records.Issue], error) {
		return store.Issues(ctx, s.Store.DB, store.IssueFilter{Dataset: dataset, Severity: string(rulebook.Major)}, at)
	}, func(i *records.Issue) error {
		if i.State == store.IssueOpen || i.State == store.IssueAsked || i.State == store.IssueWaived && i.Waivers == 0 {
			c.facts.OpenStops = append(c.facts.OpenStops, certify.OpenIssue{Number: i.ID, Dataset: i.Dataset, Title: i.Title, Asked: i.State == store.IssueAsked})
		}
		return nil
	})
}

// gatherWaivers takes up the waivers in force for a table, with what they accept of its newest audit.
func (s *Server) gatherWaivers(ctx context.Context, c *candidate, t *records.Table) error {
	all, err := store.WaiversFor(ctx, s.Store.DB, t.DatasetID, t.ID)
	if err != nil {
		return err
	}
	rows := map[int64]int64{}
	if t.AuditID != nil && len(all) > 0 {
		a, err := store.FindAudit(ctx, s.Store.DB, *t.AuditID)
		if err != nil {
			return err
		}
		if err := s.acceptedOf(ctx, a, all, func(of []records.Waiver, covered *waiver.Covered) {
			rows[of[0].IssueID] = covered.Covered
			if t.ID == c.table.ID && of[0].Subject == "rule" {
				c.facts.Waived[of[0].Rule] = *covered
			}
		}); err != nil {
			return err
		}
	}
	for _, w := range all {
		c.facts.WaivedBy = append(c.facts.WaivedBy, w.By)
		one := certify.Waiver{Dataset: w.Dataset, Rule: w.Rule, Reason: w.Reason, By: w.By, Covers: w.Covers, Scope: w.Scope, Only: w.TableID != nil, Table: t.Digest,
			At: w.At.UTC().Format(time.RFC3339), Rows: rows[w.IssueID]}
		if w.Until != nil {
			one.Until = *w.Until
		}
		if w.Subject != "rule" {
			one.Subject = w.Subject
		}
		c.statement.Waivers = append(c.statement.Waivers, one)
	}
	return nil
}

// gatherDecisions takes up by which decisions the rulebook of a table's dataset became weaker. Who made it so, or entered answers
// that were taken up, since the last certificate of the dataset that is certified cannot sign this one.
func (s *Server) gatherDecisions(ctx context.Context, c *candidate, t *records.Table) error {
	last, err := store.OrNil(store.LastCertificate(ctx, s.Store.DB, c.table.DatasetID))
	if err != nil {
		return err
	}
	since := time.Time{}
	if last != nil {
		since = last.CreatedAt
	}
	answered, err := store.EnteredBy(ctx, s.Store.DB, t.DatasetID, since)
	if err != nil {
		return err
	}
	c.facts.AnsweredBy = append(c.facts.AnsweredBy, answered...)
	return store.Each(func(at store.Cursor) (*store.Page[records.Decision], error) {
		return store.Decisions(ctx, s.Store.DB, t.DatasetID, false, at)
	}, func(d *records.Decision) error {
		switch {
		case d.Outcome == nil:
			c.facts.Waiting = append(c.facts.Waiting, certify.Waiting{Number: d.ID, Dataset: d.Dataset})
		case *d.Outcome == "agreed":
			one := certify.Eased{Dataset: d.Dataset, Version: *d.Version, Reason: d.Reason, By: d.AskedBy, AgreedBy: *d.DecidedBy, At: d.DecidedAt.UTC().Format(time.RFC3339)}
			var weaker []rulebook.Difference
			if err := json.Unmarshal(d.Weaker, &weaker); err != nil {
				return err
			}
			for _, w := range weaker {
				one.Says = append(one.Says, w.Says)
			}
			c.statement.Eased = append(c.statement.Eased, one)
			if d.DecidedAt.After(since) {
				c.facts.EasedBy = append(c.facts.EasedBy, d.AskedBy)
			}
		}
		return nil
	})
}
