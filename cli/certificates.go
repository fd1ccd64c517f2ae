package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/core/document"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

func certificateCommand() *cli.Command {
	verify := &cli.Command{Name: "verify", Usage: "hold a certificate against a table; needs no service",
		ArgsUsage: "TABLE CERTIFICATE",
		Flags: []cli.Flag{&cli.StringFlag{Name: "key", Required: true,
			Usage: "file with the public key, as certificate key prints it"},
			&cli.StringFlag{Name: "marks", Usage: "file that says which cells are estimates, where it does not stand beside the table"}, jsonFlag()},
		Action: func(_ context.Context, c *cli.Command) error {
			args, err := arguments(c, "TABLE CERTIFICATE")
			if err != nil {
				return err
			}
			statement, err := verifyFiles(args[0], cmp.Or(c.String("marks"), besideOf(args[0]).marks), args[1], c.String("key"))
			o := outputOf(c)
			if errors.Is(err, certify.ErrTable) || errors.Is(err, certify.ErrMarks) || errors.Is(err, certify.ErrSignature) ||
				errors.Is(err, certify.ErrMalformed) {
				o.line("Not certified: %s.", err)
				return errFellShort
			}
			if err != nil {
				return err
			}
			if o.json {
				return o.printJSON(statement)
			}
			o.line("Certified: %s is the table of %s that %s certified at %s.", args[0], statement.Dataset,
				statement.CertifiedBy, statement.CertifiedAt)
			o.line("%s, score %s, %d rules judged, %d waived.", document.Counted(statement.Table.Rows, "row", "rows"), statement.Audit.Score,
				len(statement.Audit.Rules), len(statement.Waivers))
			if n := statement.Table.Estimates; n > 0 {
				o.line("%s, which its marks name; the audit counted them as %s.", document.Counted(n, "cell is an estimate", "cells are estimates"), statement.Table.Are)
			}
			return nil
		}}
	return group("certificate", "signed statements about the exact bytes of one table", verify,
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
		verb("issue", "certify a table", "TABLE", nil, func(ctx context.Context, s *session, args []string) error {
			id, err := idOf(args[0])
			if err != nil {
				return err
			}
			made, err := s.CertifyTable(ctx, id)
			return show(s, made, err, func(c *records.Certificate) {
				s.line("Certificate %d of table %d is signed by %s.", c.ID, c.TableID, c.CreatedBy)
			})
		}),
		verb("list", "certificates", "", nil, func(ctx context.Context, s *session, _ []string) error {
			all, err := client.All(func(after string, limit int64) (*records.Page[records.Certificate], error) {
				return s.ListCertificates(ctx, &client.ListCertificatesParams{After: after, Limit: limit})
			})
			return show(s, all, err, func(all []records.Certificate) {
				g := newGrid(">certificate", ">table", "dataset", "certified by", "at", "withdrawn since")
				for _, c := range all {
					g.add(fmt.Sprint(c.ID), fmt.Sprint(c.TableID), c.Dataset, c.CreatedBy, when(c.CreatedAt),
						optional(c.Withdrawn, func(why string) string { return why }))
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
		verb("key", "print the public key that certificates are verified with", "", nil,
			func(ctx context.Context, s *session, _ []string) error {
				key, err := s.SigningKey(ctx)
				if err != nil {
					return err
				}
				return s.printJSON(key)
			}),
	)
}

func verifyFiles(table, marks, certificate, key string) (*certify.Statement, error) {
	public, err := os.ReadFile(key)
	if err != nil {
		return nil, err
	}
	signed, err := os.ReadFile(certificate)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(table)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	m, err := os.Open(marks)
	if errors.Is(err, os.ErrNotExist) { // where the table has none, none are asked for
		return certify.Verify(f, nil, string(signed), public)
	}
	if err != nil {
		return nil, err
	}
	defer m.Close()
	return certify.Verify(f, m, string(signed), public)
}
