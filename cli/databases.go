package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/document"
	"proudsieve/engine"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

func databaseCommand() *cli.Command {
	all := group("database", "databases from which deliveries are taken, declared by an administrator",
		verb("list", "the databases, by name", "", nil, func(ctx context.Context, s *session, _ []string) error {
			all, err := s.ListDatabases(ctx)
			return show(s, all, err, func(all *[]records.Database) {
				g := newGrid("name", "engine", "where", "database", "read as", ">minutes", ">per audit", ">rows at most", ">bytes at most")
				for _, d := range *all {
					g.add(d.Name, d.Engine, fmt.Sprintf("%s:%d", d.Host, d.Port), d.Database, d.Login, count(int64(d.TimeoutMinutes)), limitOf(int64(d.AuditMinutes)), limitOf(d.RowLimit), limitOf(d.ByteLimit))
				}
				s.grid(g, "No database is declared. To declare one: proudsieve database add --help")
			})
		}),
		verb("add", "declare a database; its password is a secret of the nodes, and no part of this", "NAME", []cli.Flag{
			&cli.StringFlag{Name: "engine", Required: true, Usage: "what it is: " + strings.Join(engine.Names(), ", ")},
			&cli.StringFlag{Name: "host", Required: true, Usage: "where its server is"},
			&cli.IntFlag{Name: "port", Usage: "where the server listens; the engine's own where it is left out"},
			&cli.StringFlag{Name: "database", Required: true, Usage: "the name that the server knows it by"},
			&cli.StringFlag{Name: "login", Required: true, Usage: "as whom it is read: somebody who may read what stewards are to see, and do nothing else"},
			&cli.StringFlag{Name: "secret", Usage: "the name of the password: each node has it in the folder secrets of its data, in a file of that name and mode 0600, or in the environment as PROUDSIEVE_SECRET_NAME"},
			&cli.BoolFlag{Name: "tls", Usage: "the server must prove who it is"},
			&cli.DurationFlag{Name: "timeout", Value: engine.DefaultTimeout, Usage: "how long a statement may take"},
			&cli.DurationFlag{Name: "budget", Usage: "how long the questions of one audit may take together, of a table that is judged where it lies; 0 for no end"},
			&cli.Int64Flag{Name: "rows", Usage: "how many rows may be taken at once; 0 for no limit"},
			&cli.Int64Flag{Name: "bytes", Usage: "how many bytes may be taken at once; 0 for the service's own limit"},
		}, func(ctx context.Context, s *session, args []string) error {
			c := s.command
			made, err := s.AddDatabase(ctx, records.NewDatabase{Name: args[0], Engine: c.String("engine"), Host: c.String("host"), Port: c.Int("port"), Database: c.String("database"),
				Login: c.String("login"), Secret: c.String("secret"), TLS: c.Bool("tls"), TimeoutMinutes: int(c.Duration("timeout") / time.Minute),
				AuditMinutes: int((c.Duration("budget") + time.Minute - 1) / time.Minute), RowLimit: c.Int64("rows"), ByteLimit: c.Int64("bytes")})
			return show(s, made, err, func(d *records.Database) {
				s.line("Database %s is declared. Whether it can be reached: proudsieve database try %s", d.Name, d.Name)
			})
		}),
		verb("try", "reach a database, and tell what it is", "NAME", nil, func(ctx context.Context, s *session, args []string) error {
			tried, err := client.Decode[api.TriedDatabase](s.TryDatabase(ctx, args[0]))
			if err := show(s, tried, err, func(t *api.TriedDatabase) { s.line("%s", t.Says) }); err != nil {
				return err
			}
			if !tried.Reached {
				return fmt.Errorf("database %s was not reached", args[0])
			}
			return nil
		}),
		verb("tables", "the tables and views that can be taken", "NAME", nil, func(ctx context.Context, s *session, args []string) error {
			all, err := s.ListDatabaseTables(ctx, args[0])
			return show(s, all, err, func(all *[]records.DatabaseTable) {
				g := newGrid("table", "", ">rows, about")
				for _, t := range *all {
					kind, rows := "", ""
					if t.View {
						kind = "view"
					}
					if t.Rows >= 0 {
						rows = count(t.Rows)
					}
					g.add(t.Schema+"."+t.Name, kind, rows)
				}
				s.grid(g, "Nothing in it can be read by its user.")
			})
		}),
		verb("remove", "take nothing more from a database; what was taken stays", "NAME", nil, func(ctx context.Context, s *session, args []string) error {
			err := s.RemoveDatabase(ctx, args[0])
			return show(s, map[string]string{"removed": args[0]}, err, func(map[string]string) { s.line("Nothing more is taken from %s.", args[0]) })
		}),
	)
	// Before there were others, it printed the address of the service's own.
	all.Flags, all.Action = []cli.Flag{dataFlag()}, printOwnDatabase
	return all
}

func limitOf(n int64) string {
	if n == 0 {
		return ""
	}
	return count(n)
}

// takeFlags say what is taken of a database.
func takeFlags() []cli.Flag {
	return append(sourceFlags(),
		&cli.StringFlag{Name: "table", Usage: "the table or view, with its schema: SCHEMA.TABLE"},
		&cli.StringFlag{Name: "query", Usage: "a SELECT in the words of the engine, instead of a table; @FILE for one in a file"},
		&cli.DurationFlag{Name: "every", Usage: "how often it is taken, as 24h; the same bytes make no new delivery"},
		&cli.BoolFlag{Name: "in-place", Usage: "judge it where it lies, and take none of its rows"},
		&cli.BoolFlag{Name: "foresee", Usage: "with --in-place: begin nothing, and tell what would be asked of the server"})
}

// foresee tells what would be asked of a relation that is judged where it lies.
func (s *session) foresee(ctx context.Context, dataset string, r *records.Relation) error {
	if !r.InPlace {
		return errors.New("--foresee tells what --in-place would ask; give both")
	}
	plan, err := client.Decode[api.PlanInPlace](s.ForeseeInPlace(ctx, dataset, client.Relation{Database: r.Database, Schema: r.Schema, Table: r.Table, Query: r.Query, InPlace: true}))
	return show(s, plan, err, func(p *api.PlanInPlace) {
		of := "the first " + document.Counted(p.Rows, "row", "rows") + " of the table; where the others are not like them, other questions come"
		if p.Whole {
			of = "all " + document.Counted(p.Rows, "row", "rows") + " of the table"
		}
		s.line("%s would be asked this, by %s. Nothing is begun.", safe(p.Server), of)
		s.line("")
		g := newGrid("what it answers", "what the engine expects", "in the engine's own SQL")
		for _, q := range p.Questions {
			g.add(safe(q.Says), safe(q.Estimate), safe(q.SQL))
		}
		s.grid(g, "Nothing.")
		for _, rule := range p.Unjudged {
			s.line("Unjudged would be %s", safe(rule))
		}
		for _, note := range p.Notes {
			s.line("%s", safe(note))
		}
	})
}

// takeDelivery takes a delivery from a database.
func takeDelivery(ctx context.Context, s *session, args []string) error {
	asked := records.NewFetch{Relation: records.Relation{Database: args[1], Query: s.command.String("query"), InPlace: s.command.Bool("in-place")}, SourceNotes: s.sourceNotes()}
	if path, file := strings.CutPrefix(asked.Query, "@"); file {
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		asked.Query = string(raw)
	}
	if name := s.command.String("table"); name != "" {
		schema, table, both := strings.Cut(name, ".")
		if !both {
			return fmt.Errorf("--table is SCHEMA.TABLE, as proudsieve database tables %s shows them, and not %q", args[1], name)
		}
		asked.Schema, asked.Table = schema, table
	}
	if s.command.Bool("foresee") {
		return s.foresee(ctx, args[0], &asked.Relation)
	}
	return s.beginFetch(ctx, args[0], &asked)
}
