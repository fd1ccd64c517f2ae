package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/core/certify"
	"proudsieve/core/certify/pack"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/report"
	"proudsieve/service/store"
)

// certifiedPages adds the page that goes with a certified table to those who own the data and those who use it.
func (s *Server) certifiedPages() {
	register(s, operation{
		Right: access.Read, ID: "show-certificate-report", Method: http.MethodGet, Path: "/certificates/{id}/report",
		Summary: "What a certified table is, whether it may be used and what for not, what was changed, estimated and accepted, and who says so, as one page that needs nothing else",
	}, func(ctx context.Context, in *ByID) (*huma.StreamResponse, error) {
		c, err := store.FindCertificate(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		var said certify.Statement
		if err := json.Unmarshal(c.Statement, &said); err != nil {
			return nil, err
		}
		page, err := s.certifiedPage(ctx, c, &said)
		if err != nil {
			return nil, err
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			out.SetHeader("Content-Type", "text/html; charset=utf-8")
			out.SetHeader("Content-Disposition", fmt.Sprintf("inline; filename=%q", fmt.Sprintf("certificate_%d.html", in.ID)))
			if err := report.WriteCertified(out.BodyWriter(), page); err != nil {
				s.cutOff("the page of a certificate", in.ID, err)
			}
		}}, nil
	})
}

// certifiedPage gathers what the page of a certificate tells.
func (s *Server) certifiedPage(ctx context.Context, c *records.Certificate, said *certify.Statement) (*report.Certified, error) {
	digest, err := certify.Digest(c.Signature)
	if err != nil {
		return nil, err
	}
	t, err := store.TableAsOf(ctx, s.Store.DB, c.TableID, c.CreatedAt)
	if err != nil {
		return nil, err
	}
	d, err := store.FindDataset(ctx, s.Store.DB, c.Dataset)
	if err != nil {
		return nil, err
	}
	page := &report.Certified{Digest: digest, Title: d.Title, Statement: said, Not: notCounting(c, said), Found: map[int64]map[string]string{}}
	if page.Title == "" {
		page.Title = c.Dataset
	}
	if err := json.Unmarshal(c.Signers, &page.Signers); err != nil {
		return nil, err
	}
	for i := range said.Chain {
		l := &said.Chain[i]
		of, err := store.OrNil(store.TableAsOf(ctx, s.Store.DB, l.Number, c.CreatedAt))
		if err != nil {
			return nil, err
		}
		if l.Judged == nil || of == nil || of.AuditID == nil {
			continue
		}
		result, err := s.resultOf(ctx, *of.AuditID)
		if err != nil {
			return nil, err
		}
		page.Found[l.Number] = report.Said(result)
	}
	if t.AuditID == nil {
		return page, nil
	}
	a, err := s.ofAudit(ctx, *t.AuditID)
	if err != nil {
		return nil, err
	}
	profiles := report.Profiles(a.result)
	for _, m := range pack.Meanings(said, a.book) {
		page.Columns = append(page.Columns, report.CertifiedColumn{Meaning: m, Profile: profiles[m.Name]})
	}
	return page, nil
}

// notCounting says why a certificate counts no more; nothing where it does.
func notCounting(c *records.Certificate, said *certify.Statement) string {
	switch {
	case c.Revoked != nil && c.ReplacedBy != nil:
		return fmt.Sprintf("Certificate %d stands in for this one: %s", *c.ReplacedBy, *c.Revoked)
	case c.Revoked != nil:
		return "It was revoked: " + *c.Revoked
	case c.Withdrawn != nil:
		return "What it rests on was withdrawn: " + *c.Withdrawn
	case c.Ended:
		return "It counted until " + said.ValidUntil + "."
	}
	return ""
}
