package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/durable"
	"proudsieve/postgres"
	"proudsieve/service/keeping"
)

// placeFlags say which service is meant: by its data directory, and by its database and its bucket where these are not in it.
func placeFlags() []cli.Flag {
	return append(bucketFlags(), dataFlag(), &cli.StringFlag{Name: "database-url",
		Usage:   "of a service started by serve; better given in PROUDSIEVE_DATABASE_URL",
		Sources: cli.EnvVars("PROUDSIEVE_DATABASE_URL")}, jsonFlag())
}

// database finds the database of a service: the one that is named, the private one that runs,
// or the private one started for as long as this takes.
func database(ctx context.Context, c *cli.Command) (address string, done func() error, err error) {
	nothing := func() error { return nil }
	if named := c.String("database-url"); named != "" {
		return named, nothing, nil
	}
	directory := filepath.Join(c.String("data"), "postgres")
	if _, err := os.Stat(filepath.Join(directory, "cluster")); err != nil {
		return "", nil,
			fmt.Errorf("%s has no database of its own (%w); name the service's directory with --data, or its database in PROUDSIEVE_DATABASE_URL", c.String("data"), err)
	}
	server, err := postgres.Start(ctx, postgres.Options{Directory: directory})
	var used *postgres.InUseError
	if errors.As(err, &used) { // the service is running
		raw, err := durable.ReadSecret(postgres.AddressFile(directory))
		return strings.TrimSpace(string(raw)), nothing, err
	}
	if err != nil {
		return "", nil, err
	}
	return server.URL(), server.Stop, nil
}

// keeper is a command that works on the place of a service itself, with no service between.
func keeper(name, usage, args, description string, action func(ctx context.Context, o *output,
	place keeping.Place, args []string) error) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, ArgsUsage: args, Description: description, Flags: placeFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			given, err := arguments(c, args)
			if err != nil {
				return err
			}
			place := keeping.Place{Data: c.String("data")}
			if place.Bucket, err = bucketOf(c); err != nil {
				return err
			}
			var done func() error
			if place.Database, done, err = database(ctx, c); err != nil {
				return err
			}
			return errors.Join(action(ctx, outputOf(c), place, given), done())
		}}
}

func backupCommand() *cli.Command {
	return keeper("backup", "make a backup of a service, also while it runs", "DIRECTORY",
		"The records are written down first, then the files that the directory does not have yet, and the signing key.\nThe same directory may be used again and again; keep it where this machine's end is not its own.",
		func(ctx context.Context, o *output, place keeping.Place, args []string) error {
			b, err := keeping.Make(ctx, place, args[0])
			if err != nil {
				return err
			}
			if o.json {
				return o.printJSON(b)
			}
			o.line("The backup in %s holds the records and their %s files, %s bytes; %s of them are new.", args[0],
				count(int64(b.Files)), count(b.Bytes), count(int64(b.Copied)))
			return nil
		})
}

func checkCommand() *cli.Command {
	return keeper("check", "read all files of a service again and hold them against its records", "", "",
		func(ctx context.Context, o *output, place keeping.Place, _ []string) error {
			found, err := keeping.Check(ctx, place)
			if err != nil {
				return err
			}
			if o.json {
				err = o.printJSON(found)
			} else {
				o.checked(found)
			}
			if err == nil && !found.Good() {
				err = errFellShort
			}
			return err
		})
}

func (o *output) checked(found *keeping.Checked) {
	o.line("%s files, %s bytes, are as they were kept.", count(int64(found.Files-len(found.Altered))),
		count(found.Bytes))
	for _, one := range []struct {
		says string
		list []string
	}{
		{"are missing; put them back from a backup:", found.Missing},
		{"were altered; put them back from a backup:", found.Altered},
		{"belong to no record; the service removes them when it sweeps, every hour:", found.TooMuch},
	} {
		if len(one.list) == 0 {
			continue
		}
		o.line("%s %s", count(int64(len(one.list))), one.says)
		for _, text := range one.list {
			o.line("  %s", text)
		}
	}
	if found.Resting > 0 {
		o.line("%s in the bucket belong to no record; what has had none for a day is set aside.", count(int64(found.Resting)))
	}
}

func restoreCommand() *cli.Command {
	return &cli.Command{Name: "restore", Usage: "put a backup back, into an empty place", ArgsUsage: "DIRECTORY",
		Flags: placeFlags(), Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, "DIRECTORY")
			if err != nil {
				return err
			}
			if _, err := keeping.Read(args[0]); err != nil {
				return err // before anything is made
			}
			bucket, err := bucketOf(c)
			if err != nil {
				return err
			}
			o, data := outputOf(c), c.String("data")
			address := c.String("database-url")
			done := func() error { return nil }
			if address == "" {
				if err := errors.Join(os.MkdirAll(data, 0o711), os.Chmod(data, 0o711)); err != nil {
					return err
				}
				server, err := postgres.Start(ctx, postgres.Options{Directory: filepath.Join(data, "postgres")})
				if err != nil {
					return err
				}
				address, done = server.URL(), server.Stop
			}
			b, err := keeping.Restore(ctx, args[0], keeping.Place{Database: address, Data: data, Bucket: bucket})
			if err := errors.Join(err, done()); err != nil {
				return err
			}
			if o.json {
				return o.printJSON(b)
			}
			o.line("The backup of %s is put back: the records and %s files. Everybody comes in by the tokens they had.",
				b.MadeAt.Local().Format("2006-01-02 15:04"), count(int64(b.Copied)))
			return nil
		}}
}

func ownDatabaseCommand() *cli.Command {
	return &cli.Command{Name: "own-database",
		Usage: "print the address of the database of a running service, for tools of your own, as: psql \"$(proudsieve own-database)\"",
		Flags: []cli.Flag{dataFlag()}, Action: printOwnDatabase}
}

func printOwnDatabase(_ context.Context, c *cli.Command) error {
	if _, err := arguments(c, ""); err != nil {
		return err
	}
	raw, err := durable.ReadSecret(postgres.AddressFile(filepath.Join(c.String("data"), "postgres")))
	if err != nil {
		return fmt.Errorf("the address of the database is not known: %w", err)
	}
	outputOf(c).line("%s", strings.TrimSpace(string(raw)))
	return nil
}
