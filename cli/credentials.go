package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"proudsieve/service/records"
)

func credentialCommand() *cli.Command {
	return group("credential", "by what the service is let in where deliveries are fetched from, declared by an administrator",
		verb("list", "the hosts that have one", "", nil, func(ctx context.Context, s *session, _ []string) error {
			all, err := s.ListCredentials(ctx)
			return show(s, all, err, func(all *[]records.Credential) {
				g := newGrid("host", "header", "secret", "certificate", "authority")
				for _, c := range *all {
					g.add(c.Host, c.Header, c.Secret, c.Certificate, c.Authority)
				}
				s.grid(g, "Every host is asked without a credential. To declare one: proudsieve credential add --help")
			})
		}),
		verb("add", "declare by what the service is let in at a host; each flag but --header names a secret of the nodes, which each has in the folder secrets of its data, in a file of that name and mode 0600", "HOST", []cli.Flag{
			&cli.StringFlag{Name: "header", Usage: "the header that is sent, as Authorization"},
			&cli.StringFlag{Name: "secret", Usage: "what the header says"},
			&cli.StringFlag{Name: "certificate", Usage: "a certificate with its key, in PEM, by which the service proves who it is"},
			&cli.StringFlag{Name: "authority", Usage: "the certificate of the authority, in PEM, by which the host proves who it is; those that the machine trusts where it is left out"},
		}, func(ctx context.Context, s *session, args []string) error {
			c := s.command
			made, err := s.AddCredential(ctx, records.NewCredential{Host: args[0], Header: c.String("header"), Secret: c.String("secret"), Certificate: c.String("certificate"), Authority: c.String("authority")})
			return show(s, made, err, func(c *records.Credential) {
				s.line("What is fetched from %s is asked for with its credential, and no other host is told of it.", c.Host)
			})
		}),
		verb("remove", "come to a host without a credential", "HOST", nil, func(ctx context.Context, s *session, args []string) error {
			err := s.RemoveCredential(ctx, args[0])
			return show(s, map[string]string{"removed": args[0]}, err, func(map[string]string) { s.line("%s is asked without a credential.", args[0]) })
		}),
	)
}
