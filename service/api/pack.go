package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/core/audit"
	"proudsieve/core/certify"
	"proudsieve/core/certify/pack"
	"proudsieve/core/export"
	"proudsieve/core/guard"
	"proudsieve/core/question"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
	"proudsieve/core/table"
	"proudsieve/service/access"
	"proudsieve/service/lineage"
	"proudsieve/service/records"
	"proudsieve/service/report"
	"proudsieve/service/store"
)

// packing adds what hands a certified table over.
func (s *Server) packing() {
	type asked struct {
		ByID
		Deliveries bool `query:"deliveries" doc:"With the deliveries that the table rests on and the tables that it was held against, by which every figure can be computed again"`
		Tables     bool `query:"tables" doc:"With all tables between them and this one too"`
	}
	register(s, operation{
		Right: access.Read, ID: "download-pack", Method: http.MethodGet, Path: "/certificates/{id}/pack",
		Summary: "A certified table with all that is needed to trust it and to run it again, as a zip archive that is the same each time",
	}, func(ctx context.Context, in *asked) (*huma.StreamResponse, error) {
		p, err := s.packOf(ctx, in.ID, in.Deliveries, in.Tables)
		if err != nil {
			return nil, err
		}
		if err := store.Record(ctx, s.Store.DB, caller(ctx).ID, "handed a pack over", fmt.Sprintf("certificate %d", in.ID), map[string]any{"deliveries": in.Deliveries, "tables": in.Tables}); err != nil {
			return nil, err
		}
		private, err := s.Signing.Current(ctx)
		if err != nil {
			return nil, err
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			out.SetHeader("Content-Type", "application/zip")
			out.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", fmt.Sprintf("%s-certificate-%d.zip", p.certificate.Dataset, in.ID)))
			if err := pack.Write(out.BodyWriter(), p.certificate.Signature, p.parts, private); err != nil {
				s.cutOff("a pack", in.ID, err)
			}
		}}, nil
	})
}

// packed is a pack that is being put together.
type packed struct {
	s           *Server
	certificate *records.Certificate
	said        certify.Statement
	parts       []pack.Part
	have        map[string]bool // paths
}

func (p *packed) add(part pack.Part) {
	if !p.have[part.Path] {
		p.have[part.Path] = true
		p.parts = append(p.parts, part)
	}
}

func (p *packed) bytes(path string, content []byte) { p.add(pack.Bytes(path, content)) }

// file adds a kept file by its digest.
func (p *packed) file(path, digest string) {
	if digest != "" {
		p.add(pack.Part{Path: path, Open: func() (io.ReadCloser, error) { return p.s.Files.Open(digest) }})
	}
}

// packOf puts together what a certificate speaks of.
func (s *Server) packOf(ctx context.Context, id int64, deliveries, tables bool) (*packed, error) {
	c, err := store.FindCertificate(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	p := &packed{s: s, certificate: c, have: map[string]bool{}}
	if err := json.Unmarshal(c.Statement, &p.said); err != nil {
		return nil, err
	}
	if len(p.said.Chain) == 0 {
		return nil, huma.NewError(http.StatusConflict, fmt.Sprintf("Certificate %d is of an earlier version and tells no chain; certify the table anew, and hand that over.", id))
	}
	readable, err := json.MarshalIndent(&p.said, "", "  ")
	if err != nil {
		return nil, err
	}
	p.bytes("statement.json", append(readable, '\n'))
	keys, err := s.Signing.Set(ctx)
	if err != nil {
		return nil, err
	}
	p.bytes(pack.KeysFile, keys)
	for i := range p.said.Chain {
		l := &p.said.Chain[i]
		if err := errors.Join(p.link(ctx, l), p.found(ctx, l)); err != nil {
			return nil, err
		}
		if tables && i < len(p.said.Chain)-1 || deliveries && l.Origin == store.OriginDelivery && p.said.Table.There == nil {
			p.file(fmt.Sprintf("tables/%d-%s", l.Number, path.Base(l.FileName)), l.SHA256)
		}
		if l.Judged == nil {
			continue
		}
		for _, b := range l.Judged.Beside {
			if tables || deliveries {
				p.file(fmt.Sprintf("tables/beside-%s-%s.csv", b.Dataset, b.SHA256[:8]), b.SHA256)
			}
		}
	}
	return p, p.table(ctx)
}

// link adds what one table of the chain rests on: declarations, logs, and the profiles of earlier tables.
func (p *packed) link(ctx context.Context, l *certify.Link) error {
	versions := slices.Clone(l.Ruled)
	if l.Judged != nil {
		if l.Judged.Rulebook != nil {
			versions = append(versions, *l.Judged.Rulebook)
		}
		for _, b := range l.Judged.Beside {
			if b.Rulebook != nil {
				versions = append(versions, *b.Rulebook)
			}
		}
	}
	for _, v := range versions {
		if err := p.declaration(ctx, store.KindRulebook, v.Name, v); err != nil {
			return err
		}
	}
	if l.Plan != nil {
		kind, dataset := store.KindMerge, l.Plan.Name
		if l.Origin == store.OriginCleaned {
			kind = store.KindFixPlan
			t, err := store.FindTable(ctx, p.s.Store.DB, l.Number)
			if err != nil {
				return err
			}
			delivery, err := store.FindTable(ctx, p.s.Store.DB, *t.ParentID)
			if err != nil {
				return err
			}
			dataset = delivery.Dataset
		}
		if err := p.declaration(ctx, kind, dataset, *l.Plan); err != nil {
			return err
		}
	}
	name := fmt.Sprintf("logs/%d-%s", l.Number, l.Dataset)
	p.file(name+"-changes.jsonl", l.ChangeLog)
	p.file(name+"-rows"+map[string]string{store.OriginMerged: ".parquet", store.OriginCleaned: ".jsonl"}[l.Origin], l.RowMap)
	p.file(name+"-marks.jsonl", l.Marks)
	return p.past(ctx, l)
}

func (p *packed) declaration(ctx context.Context, kind, dataset string, v certify.Version) error {
	d, err := p.s.declaration(ctx, kind, dataset, v.Name, v.Version)
	if err == nil {
		p.bytes(fmt.Sprintf("declarations/%s-%s-version-%d.yaml", strings.ReplaceAll(kind, "_", "-"), v.Name, v.Version), []byte(d.Source))
	}
	return err
}

// past adds the profiles of earlier tables that rules went by.
func (p *packed) past(ctx context.Context, l *certify.Link) error {
	if l.Judged == nil || len(l.Judged.Past) == 0 {
		return nil
	}
	t, err := store.TableAsOf(ctx, p.s.Store.DB, l.Number, p.certificate.CreatedAt)
	if err != nil || t.AuditID == nil {
		return err
	}
	a, err := store.FindAudit(ctx, p.s.Store.DB, *t.AuditID)
	if err != nil {
		return err
	}
	past, err := p.s.pastOf(ctx, t, a)
	if err != nil {
		return err
	}
	for _, raw := range past {
		if digest := rulebook.DigestOf(raw); slices.Contains(l.Judged.Past, digest) {
			p.bytes("history/"+digest[:16]+".json", raw)
		}
	}
	return nil
}

// table adds the certified table itself, with what describes it.
func (p *packed) table(ctx context.Context) error {
	t, err := store.TableAsOf(ctx, p.s.Store.DB, p.certificate.TableID, p.certificate.CreatedAt)
	if err != nil {
		return err
	}
	name := path.Base(t.FileName)
	if p.said.Table.There != nil {
		name = "in-place.json" // which tells where it lies, and what it was
	}
	p.file("table/"+name, t.Digest)
	if t.Marks != nil {
		p.file("table/"+strings.TrimSuffix(name, path.Ext(name))+"_marks.jsonl", *t.Marks)
	}
	if t.AuditID == nil {
		return nil
	}
	of, err := p.s.ofAudit(ctx, *t.AuditID)
	if err != nil {
		return err
	}
	if of.there == nil {
		if err := p.columns(ctx, of, name); err != nil {
			return err
		}
	}
	dictionary, err := pack.Dictionary(pack.Meanings(&p.said, of.book))
	if err != nil {
		return err
	}
	p.bytes("dictionary.csv", dictionary)
	if err := p.provenance(ctx); err != nil {
		return err
	}
	whole, err := p.s.certifiedPage(ctx, p.certificate, &p.said)
	if err != nil {
		return err
	}
	whole.Not = "" // a pack is the same each time; what counts no more is told by the list of revocations
	p.add(pack.Part{Path: "report.html", Open: written(func(out io.Writer) error { return report.WriteCertified(out, whole) })})
	p.add(pack.Part{Path: "dictionary.html", Open: written(func(out io.Writer) error { return report.WriteDictionary(out, whole) })})
	asked, err := pack.Questions(&p.said)
	if err != nil {
		return err
	}
	p.bytes("questions.csv", asked)
	page, err := p.s.report(ctx, *t.AuditID)
	if err != nil {
		return err
	}
	page.Questions = nil // those of the certificate stand in report.html
	p.add(pack.Part{Path: "audit.html", Open: written(func(out io.Writer) error { return report.Write(out, page) })})
	if of.there != nil {
		return nil
	}
	return p.findings(ctx, "findings.csv", of, nil)
}

// columns adds the certified table by columns, and what describes these.
func (p *packed) columns(ctx context.Context, of *auditFile, name string) error {
	columns, err := export.Measure(ctx, of.file, of.book, &export.Asked{Format: export.FormatOf("parquet"), Mixed: true, Title: name, Workers: p.s.Pool.Workers})
	if err != nil {
		return err
	}
	p.add(pack.Part{Path: "table/" + strings.TrimSuffix(name, path.Ext(name)) + ".parquet", Open: written(func(out io.Writer) error { return columns.Write(ctx, out) })})
	metadata, _ := csvw.Of(of.book, name)
	p.bytes("table/"+name+csvw.Suffix, metadata)
	return nil
}

// found adds what was found of an earlier table of the chain, with personal data masked: the certified table may have none of them.
func (p *packed) found(ctx context.Context, l *certify.Link) error {
	t, err := store.TableAsOf(ctx, p.s.Store.DB, l.Number, p.certificate.CreatedAt)
	if err != nil || t.AuditID == nil || t.ID == p.certificate.TableID {
		return err
	}
	if now, err := store.FindTable(ctx, p.s.Store.DB, t.ID); err != nil || now.BytesLetGo {
		return err // nothing tells its cells any more
	}
	of, err := p.s.ofAudit(ctx, *t.AuditID)
	if err != nil {
		return err
	}
	return p.findings(ctx, fmt.Sprintf("findings/%d-%s.csv", l.Number, l.Dataset), of, question.Personal(of.result))
}

// findings adds every cell that an audit caught.
func (p *packed) findings(ctx context.Context, path string, of *auditFile, masked []string) error {
	rows, done, err := p.s.auditRows(ctx, of.Audit)
	if err != nil {
		return err
	}
	defer done()
	sets := map[string]*table.RowSet{}
	for _, f := range of.result.Findings {
		if sets[f.Rule], err = rows.Where(f.Rule, "", ""); err != nil {
			return err
		}
	}
	p.add(pack.Part{Path: path, Open: written(func(out io.Writer) error {
		return audit.WriteFindings(ctx, out, &audit.Export{Source: of.file, Book: of.book, Result: of.result, Workers: p.s.Pool.Workers, Masked: masked,
			Rows: func(f *audit.Finding) (*table.RowSet, error) { return sets[f.Rule], nil }})
	})})
	return nil
}

// written opens what a function writes, as it is written.
func written(write func(io.Writer) error) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		in, out := io.Pipe()
		guard.Go(func() error { return write(out) }, func(err error) { _ = out.CloseWithError(err) })
		return in, nil
	}
}

// provenance adds where the table is from, in the words of W3C PROV: what was made of it since is no part of it.
func (p *packed) provenance(ctx context.Context) error {
	rests, err := p.s.restsOn(ctx, p.certificate.TableID)
	if err != nil {
		return err
	}
	l := &lineage.Lineage{Table: p.certificate.TableID, Tables: rests.tables, Certificates: []records.Certificate{*p.certificate}}
	for _, t := range rests.tables {
		for _, of := range rests.of[t.ID] {
			l.Links = append(l.Links, lineage.Link{Of: of, Made: t.ID})
		}
	}
	var out bytes.Buffer
	if err := l.PROV(&out); err != nil {
		return err
	}
	p.bytes("lineage.jsonld", out.Bytes())
	return nil
}
