package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/core/document"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

func certificateCommand() *cli.Command {
	keyFlag := &cli.StringFlag{Name: "key", Required: true, Usage: "file with the public key, or the set of keys, as certificate key and certificate keys print them"}
	verify := &cli.Command{Name: "verify", Usage: "hold a certificate against a table; needs no service",
		ArgsUsage: "TABLE CERTIFICATE",
		Flags: []cli.Flag{keyFlag,
			&cli.StringFlag{Name: "marks", Usage: "file that says which cells are estimates, where it does not stand beside the table"},
			&cli.StringFlag{Name: "revocations", Usage: "file with the list of certificates that count no more, as certificate revocations prints it"}, jsonFlag()},
		Action: verifyCertificate}
	check := &cli.Command{Name: "check", Usage: "compute every figure of a certificate again, from a pack and tables; needs no service",
		ArgsUsage:   "CERTIFICATE",
		Description: "Each figure holds, differs, or is unchecked since what it takes is not at hand: deliveries and tables are taken by their SHA-256.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "key", Usage: "file with the keys of who signed; those in the pack, where it is left out, only tell that it is of one piece"},
			&cli.StringSliceFlag{Name: "with", Required: true, Usage: "a pack, or a table that it names; may be repeated"},
			&cli.StringFlag{Name: "revocations", Usage: "file with the list of certificates that count no more"}, jsonFlag()},
		Action: checkCertificate}
	return group("certificate", "signed statements about the exact bytes of one table", verify, check,
		verb("obstacles", "each thing that stands between a table and a certificate", "TABLE", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				found, err := client.Decode[api.Obstacles](s.ListObstacles(ctx, id))
				if err := show(s, found, err, func(o *api.Obstacles) {
					for _, one := range o.Obstacles {
						s.line("- %s", safe(one.Says))
					}
					if o.Ready {
						s.line("Nothing stands in the way.")
					}
				}); err != nil {
					return err
				}
				if !found.Ready {
					return errFellShort
				}
				return nil
			}),
		verb("draft", "what a certificate of a table would say now, and what stands in its way; nothing is signed", "TABLE", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				d, err := client.Decode[api.CertificateDraft](s.ShowCertificateDraft(ctx, id))
				return show(s, d, err, s.certificateDraft)
			}),
		verb("issue", "certify a table", "TABLE", []cli.Flag{
			&cli.StringFlag{Name: "conditions", Usage: "under which conditions it may be used, in words"},
			&cli.StringFlag{Name: "until", Usage: "the last day on which it counts, yyyy-MM-dd; no end where it is left out"},
			&cli.IntFlag{Name: "replaces", Usage: "the certificate that it stands in for, which is revoked with it"},
		}, func(ctx context.Context, s *session, args []string) error {
			id, err := idOf(args[0])
			if err != nil {
				return err
			}
			made, err := s.CertifyTable(ctx, id, client.Certifying{Conditions: s.command.String("conditions"), ValidUntil: s.command.String("until"), Replaces: int64(s.command.Int("replaces"))})
			return show(s, made, err, func(c *records.Certificate) {
				s.line("Certificate %d of table %d is signed by %s.", c.ID, c.TableID, c.CreatedBy)
			})
		}),
		verb("sign", "sign a certificate besides who made it", "CERTIFICATE", nil, func(ctx context.Context, s *session, args []string) error {
			id, err := number(args[0], "a certificate")
			if err != nil {
				return err
			}
			c, err := s.SignCertificate(ctx, id)
			return show(s, c, err, func(c *records.Certificate) {
				s.line("Certificate %d is signed by %s.", c.ID, document.Join(signersOf(c)))
			})
		}),
		verb("revoke", "say that a certificate counts no more, and why", "CERTIFICATE", []cli.Flag{&cli.StringFlag{Name: "reason", Required: true}},
			func(ctx context.Context, s *session, args []string) error {
				id, err := number(args[0], "a certificate")
				if err != nil {
					return err
				}
				c, err := s.RevokeCertificate(ctx, id, client.RevokingBody{Reason: s.command.String("reason")})
				return show(s, c, err, func(c *records.Certificate) { s.line("Certificate %d counts no more: %s", c.ID, safe(*c.Revoked)) })
			}),
		verb("revocations", "print the signed list of certificates that count no more, for verify --revocations", "", nil,
			func(ctx context.Context, s *session, _ []string) error {
				list, err := s.ShowRevocations(ctx)
				if err != nil {
					return err
				}
				return s.printJSON(list)
			}),
		verb("list", "certificates", "", nil, func(ctx context.Context, s *session, _ []string) error {
			all, err := client.All(func(after string, limit int64) (*records.Page[records.Certificate], error) {
				return s.ListCertificates(ctx, &client.ListCertificatesParams{After: after, Limit: limit})
			})
			return show(s, all, err, func(all []records.Certificate) {
				g := newGrid(">certificate", ">table", "dataset", "certified by", "at", "counts no more")
				for _, c := range all {
					g.add(fmt.Sprint(c.ID), fmt.Sprint(c.TableID), c.Dataset, document.Join(signersOf(&c)), when(c.CreatedAt), whyNoMore(&c))
				}
				s.grid(g, "Nothing has been certified yet.")
			})
		}),
		verb("save", "write a certificate to a file", "CERTIFICATE FILE", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				c, err := s.ShowCertificate(ctx, id)
				if err != nil {
					return err
				}
				return save(args[1], func(f *os.File) error { _, err := f.WriteString(c.Signature + "\n"); return err })
			}),
		verb("report", "write what a certified table is and may be used for, as a page for those who own the data and those who use it; as PDF where FILE ends in .pdf",
			"CERTIFICATE FILE", nil, func(ctx context.Context, s *session, args []string) error {
				id, err := number(args[0], "a certificate")
				if err != nil {
					return err
				}
				return savePage(ctx, args[1], func(out io.Writer) error {
					page, err := s.ShowCertificateReport(ctx, id)
					return client.Save(out, page, err)
				})
			}),
		verb("pack", "write a certified table with all that is needed to trust it and to run it again, as a zip archive", "CERTIFICATE FILE", []cli.Flag{
			&cli.BoolFlag{Name: "deliveries", Usage: "with the deliveries that it rests on and the tables that it was held against, by which every figure can be computed again"},
			&cli.BoolFlag{Name: "tables", Usage: "with all tables between them and this one too"},
		}, func(ctx context.Context, s *session, args []string) error {
			id, err := number(args[0], "a certificate")
			if err != nil {
				return err
			}
			in, err := s.DownloadPack(ctx, id, &client.DownloadPackParams{Deliveries: s.command.Bool("deliveries"), Tables: s.command.Bool("tables")})
			if err != nil {
				return err
			}
			return save(args[1], func(f *os.File) error { return client.Save(f, in, nil) })
		}),
		verb("key", "print the public key that certificates are verified with", "", nil,
			func(ctx context.Context, s *session, _ []string) error {
				key, err := s.SigningKey(ctx)
				if err != nil {
					return err
				}
				return s.printJSON(key)
			}),
		verb("keys", "print the public keys of all certificates that there are, those too that were put away", "", nil,
			func(ctx context.Context, s *session, _ []string) error {
				keys, err := s.ShowSigningKeys(ctx)
				if err != nil {
					return err
				}
				return s.printJSON(keys)
			}),
		verb("rotate-key", "sign with a new key from now on; what was signed before verifies by the set of keys", "", nil,
			func(ctx context.Context, s *session, _ []string) error {
				key, err := s.RotateSigningKey(ctx)
				if err != nil {
					return err
				}
				return s.printJSON(key)
			}),
	)
}

// signersOf are those who signed a certificate, who made it first.
func signersOf(c *records.Certificate) []string {
	more := []string{}
	_ = json.Unmarshal(c.Signers, &more)
	return append([]string{c.CreatedBy}, more...)
}

// whyNoMore says why a certificate counts no more; nothing where it does.
func whyNoMore(c *records.Certificate) string {
	switch {
	case c.Revoked != nil:
		return "revoked: " + *c.Revoked
	case c.Withdrawn != nil:
		return "withdrawn: " + *c.Withdrawn
	case c.Ended:
		return "its last day is over"
	}
	return ""
}

// certificateDraft tells what a certificate would say.
func (s *session) certificateDraft(d *api.CertificateDraft) {
	var said certify.Statement
	if err := json.Unmarshal(d.Statement, &said); err != nil {
		s.line("%v", err)
		return
	}
	s.statement(&said)
	s.line("")
	for _, one := range d.Obstacles {
		s.line("- %s", safe(one.Says))
	}
	if len(d.Obstacles) == 0 {
		s.line("Nothing stands in the way.")
	}
}

// statement tells what a certificate says, in the order in which it is read: what this is, what was found, done, accepted and
// answered.
func (s *output) statement(said *certify.Statement) {
	s.line("The table of %s with the SHA-256 %s: %s, score %s with a pass mark of %s, by version %d of its rulebook.", said.Dataset, said.Table.SHA256,
		document.Counted(said.Table.Rows, "row", "rows"), said.Audit.Score, said.Audit.PassMark, said.Rulebook.Version)
	if there := said.Table.There; there != nil {
		s.line("It lies in a database, and none of its rows were taken: %s.", safe(there.Says()))
		for _, note := range there.Notes {
			s.line("%s", safe(note))
		}
	}
	if said.Table.Estimates > 0 {
		s.line("%s, which its marks name; the audit counted them as %s.", document.Counted(said.Table.Estimates, "cell is an estimate", "cells are estimates"), said.Table.Are)
	}
	if said.Conditions != "" {
		s.line("Conditions of use: %s", safe(said.Conditions))
	}
	if said.ValidUntil != "" {
		s.line("Valid until %s.", said.ValidUntil)
	}
	if len(said.Chain) > 0 {
		s.line("It rests on:")
		g := newGrid("what", "dataset", "file", ">rows", "score", "findings", "by")
		for _, l := range said.Chain {
			rows, points, findings := "", "", ""
			if j := l.Judged; j != nil {
				rows, points, findings = count(j.Rows), j.Score, fmt.Sprint(len(j.Findings))
			}
			by := l.By
			if l.Plan != nil {
				by = fmt.Sprintf("%s version %d, %s", l.Plan.Name, l.Plan.Version, l.By)
			}
			g.add(l.Origin, l.Dataset, l.FileName, rows, points, findings, by)
		}
		s.grid(g, "")
	}
	for _, e := range said.Eased {
		s.line("Less is asked since version %d of the rulebook of %s, by %s: %s", e.Version, e.Dataset, safe(e.By), safe(e.Reason))
	}
	for _, w := range said.Waivers {
		s.line("Waived by %s, %s of %s, for %s: %s", safe(w.By), w.Rule, w.Dataset, safe(w.Covers), safe(w.Reason))
	}
	if n := len(said.Questions); n > 0 {
		answered := 0
		for _, q := range said.Questions {
			if q.Answer != "" {
				answered++
			}
		}
		s.line("%s were asked, %d of them answered.", document.Counted(int64(n), "question", "questions"), answered)
	}
}

// verifyCertificate holds a certificate against a table, without a service.
func verifyCertificate(_ context.Context, c *cli.Command) error {
	args, err := arguments(c, "TABLE CERTIFICATE")
	if err != nil {
		return err
	}
	opened, err := verifyFiles(args[0], cmp.Or(c.String("marks"), besideOf(args[0]).marks), args[1], c.String("key"), c.String("revocations"))
	o := outputOf(c)
	for _, fault := range []error{certify.ErrTable, certify.ErrMarks, certify.ErrSignature, certify.ErrMalformed, certify.ErrRevoked, certify.ErrEnded} {
		if errors.Is(err, fault) {
			o.line("Not certified: %s.", err)
			return errFellShort
		}
	}
	if err != nil {
		return err
	}
	if o.json {
		return o.printJSON(opened)
	}
	said := opened.Statement
	names := make([]string, len(opened.Signers))
	for i, one := range opened.Signers {
		names[i] = one.By
	}
	o.line("Certified: %s is the table of %s that %s certified at %s.", args[0], said.Dataset, document.Join(names), said.CertifiedAt)
	o.line("%s, score %s, %d rules judged, %d waived.", document.Counted(said.Table.Rows, "row", "rows"), said.Audit.Score,
		len(said.Audit.Rules), len(said.Waivers))
	if n := said.Table.Estimates; n > 0 {
		o.line("%s, which its marks name; the audit counted them as %s.", document.Counted(n, "cell is an estimate", "cells are estimates"), said.Table.Are)
	}
	if said.Conditions != "" {
		o.line("Conditions of use: %s", safe(said.Conditions))
	}
	if said.ValidUntil != "" {
		o.line("Valid until %s.", said.ValidUntil)
	}
	if n := len(said.Chain); n > 1 {
		o.line("It rests on %s, down to each delivery.", document.Counted(int64(n-1), "other table", "other tables"))
	}
	if c.String("revocations") == "" {
		o.line("Whether it was revoked since was not looked at; give the list by --revocations.")
	}
	return nil
}

// verifyFiles holds a certificate against a table, its marks, keys, and a list of revocations where one is given.
func verifyFiles(table, marks, certificate, key, revocations string) (*certify.Opened, error) {
	public, err := os.ReadFile(key)
	if err != nil {
		return nil, err
	}
	signed, err := os.ReadFile(certificate)
	if err != nil {
		return nil, err
	}
	var list *certify.Revocations
	if revocations != "" {
		raw, err := os.ReadFile(revocations)
		if err != nil {
			return nil, err
		}
		if list, err = certify.OpenRevocations(string(raw), public); err != nil {
			return nil, fmt.Errorf("%s: %w", revocations, err)
		}
	}
	opened, err := certify.OpenWhole(string(signed), public)
	if err != nil {
		return nil, err
	}
	if err := holdsFiles(table, marks, string(signed), public); err != nil {
		return nil, err
	}
	if err := opened.Statement.OpenChain(public); err != nil {
		return nil, err
	}
	return opened, opened.Counts(time.Now(), list)
}

// holdsFiles holds a certificate against the bytes of a table and of its marks.
func holdsFiles(table, marks, certificate string, public []byte) error {
	f, err := os.Open(table)
	if err != nil {
		return err
	}
	defer f.Close()
	m, err := os.Open(marks)
	if errors.Is(err, os.ErrNotExist) { // where the table has none, none are asked for
		_, err = certify.Verify(f, nil, certificate, public)
		return err
	}
	if err != nil {
		return err
	}
	defer m.Close()
	_, err = certify.Verify(f, m, certificate, public)
	return err
}
