package cli

import (
	"context"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/durable"
)

// group is a noun with its verbs.
func group(name, usage string, commands ...*cli.Command) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, Commands: commands}
}

// deed does what a command is for, with the arguments that were given.
type deed func(ctx context.Context, s *session, args []string) error

// verb is a command that talks to the service and takes exactly the named arguments.
func verb(name, usage, args string, flags []cli.Flag, action deed) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, ArgsUsage: args, Flags: append(flags, jsonFlag()),
		Action: withService(args, action)}
}

// show prints v as JSON, or lets text show it to people.
func show[T any](s *session, v T, err error, text func(T)) error {
	if err != nil {
		return err
	}
	if s.json {
		return s.printJSON(v)
	}
	text(v)
	return nil
}

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func optional[T any](v *T, text func(T) string) string {
	if v == nil {
		return ""
	}
	return text(*v)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// verdict says whether a table passed; nil where nothing was declared.
func verdict(passed *bool) string {
	if passed == nil {
		return "no verdict"
	}
	return yes(*passed)
}

// idOf reads the number of what is meant, as lists show it.
func idOf(text string) (int64, error) { return number(text, "anything; the lists show the numbers") }

// save writes a file whole or not at all.
func save(path string, write func(*os.File) error) error { return durable.Write(path, 0o600, write) }
