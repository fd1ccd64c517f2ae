// Package cli is the command line. sift runs the core alone; up and serve run the
// service; everything else talks to a service through its client.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"proudsieve/client"
)

// Exit codes.
const (
	exitPassed    = 0
	exitFellShort = 1 // the data did not reach what was asked of it
	exitFailed    = 2 // the command could not be carried out
)

// errFellShort ends a command that did its work and found the data wanting.
var errFellShort = errors.New("the data fell short")

// Run runs the command line and returns the exit code.
func Run(args []string, stdout, stderr io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	tune(0)
	app := application(stdout, stderr)
	err := app.Run(ctx, args)
	switch {
	case err == nil:
		return exitPassed
	case errors.Is(err, errFellShort):
		return exitFellShort
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		fmt.Fprintln(stderr, "proudsieve: stopped; nothing was left half done")
		return exitFailed
	}
	fmt.Fprintln(stderr, "proudsieve: "+lines(err.Error()))
	return exitFailed
}

func application(stdout, stderr io.Writer) *cli.Command {
	app := &cli.Command{
		Name:  "proudsieve",
		Usage: "audit incoming tables against declared rules, follow what is wrong, put it right, join and certify",
		Description: "sift looks at one file and needs no service. up starts the service with a database of its own;\n" +
			"the other commands talk to a service. Exit status: 0 passed, 1 the data fell short, 2 it could not be done.",
		Writer: stdout, ErrWriter: stderr,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "server", Value: "http://127.0.0.1:7305", Usage: "address of the service",
				Sources: cli.EnvVars("PROUDSIEVE_SERVER")},
			&cli.StringFlag{Name: "token-file",
				Usage:   "file with your token (default: the administrator's of a service started by up on this machine)",
				Sources: cli.EnvVars("PROUDSIEVE_TOKEN_FILE")},
		},
		Commands: []*cli.Command{
			lookCommand(), siftCommand(), tallyCommand(), upCommand(), serveCommand(),
			backupCommand(), restoreCommand(), checkCommand(), ownDatabaseCommand(),
			datasetCommand(), rulebookCommand(), deliveryCommand(), tableCommand(), auditCommand(),
			issueCommand(), decisionCommand(), questionCommand(), fixPlanCommand(), mergeCommand(), certificateCommand(),
			noticeCommand(), receiverCommand(), databaseCommand(), credentialCommand(), jobCommand(), personCommand(), tokenCommand(), signInCommand(), signOutCommand(), historyCommand(), tourCommand(), openAPICommand(),
		},
	}
	quietUsage(app)
	return app
}

// quietUsage makes every command answer wrong usage with one line that says what to do.
func quietUsage(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		return fmt.Errorf("%w; see: %s --help", err, c.FullName())
	}
	if len(c.Commands) > 0 && c.Name != "proudsieve" {
		names := make([]string, len(c.Commands))
		for i, sub := range c.Commands {
			names[i] = sub.Name
		}
		alone := c.Action
		c.Action = func(ctx context.Context, c *cli.Command) error {
			if wrong := c.Args().First(); wrong != "" {
				return fmt.Errorf("%s has no command %q; it has %s", c.FullName(), wrong, strings.Join(names, ", "))
			}
			if alone != nil {
				return alone(ctx, c)
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	if c.Name == "proudsieve" {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if wrong := c.Args().First(); wrong != "" {
				return fmt.Errorf("there is no command %q; see: proudsieve --help", wrong)
			}
			return cli.ShowAppHelp(c)
		}
	}
	for _, sub := range c.Commands {
		quietUsage(sub)
	}
}

// output is where a command writes, and how.
type output struct {
	out, err io.Writer
	json     bool
	all      bool // lists to their end
	colour   bool
}

func outputOf(c *cli.Command) *output {
	root := c.Root()
	o := &output{out: root.Writer, err: root.ErrWriter, json: c.Bool("json"), all: c.Bool("all")}
	if f, ok := root.Writer.(*os.File); ok && os.Getenv("NO_COLOR") == "" {
		o.colour = term.IsTerminal(int(f.Fd()))
	}
	return o
}

// allFlag asks for lists to their end.
func allFlag() cli.Flag {
	return &cli.BoolFlag{Name: "all", Usage: "show what looks odd, and the columns, to the end"}
}

func jsonFlag() cli.Flag { return &cli.BoolFlag{Name: "json", Usage: "print JSON, for programs"} }

// session is a command that talks to a service.
type session struct {
	*output
	*client.Client
	command *cli.Command
}

// withService is the action of a command that takes exactly the named arguments.
func withService(names string, action deed) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := arguments(c, names)
		if err != nil {
			return err
		}
		token, err := tokenOf(c)
		if err != nil {
			return err
		}
		return action(ctx, &session{outputOf(c), &client.Client{Server: serverOf(c), Token: token}, c}, args)
	}
}

// arguments holds what was given against the names of what is wanted; those in brackets may be left out.
func arguments(c *cli.Command, names string) ([]string, error) {
	wanted := strings.Fields(names)
	needed := slices.IndexFunc(wanted, func(name string) bool { return strings.HasPrefix(name, "[") })
	if needed < 0 {
		needed = len(wanted)
	}
	if given := c.Args().Len(); given < needed || given > len(wanted) {
		return nil, fmt.Errorf("%s takes %s; %d given. See: %s --help", c.FullName(), describeArguments(wanted),
			c.Args().Len(), c.FullName())
	}
	return c.Args().Slice(), nil
}

func describeArguments(wanted []string) string {
	if len(wanted) == 0 {
		return "no arguments"
	}
	return strings.Join(wanted, " ")
}

// number reads an argument that is an id.
func number(text, what string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%q is not the number of %s", text, what)
	}
	return n, nil
}

// serverOf is the address of the service that a command talks to.
func serverOf(c *cli.Command) string { return strings.TrimRight(c.String("server"), "/") }

// tokenOf finds the caller's token: in the environment, in the named file, where they signed in, or where
// a service that was started on this machine has put the administrator's.
func tokenOf(c *cli.Command) (string, error) {
	if token := os.Getenv("PROUDSIEVE_TOKEN"); token != "" {
		return token, nil
	}
	path := c.String("token-file")
	if path == "" {
		kept, err := signedInAt(serverOf(c))
		if err != nil {
			return "", err
		}
		if kept != nil {
			return kept.inForce()
		}
		path = filepath.Join(defaultDirectory(), "administrator-token")
		if _, err := os.Stat(path); err != nil {
			return "",
				errors.New("no token: come in with proudsieve sign-in, name the file that holds yours with --token-file or PROUDSIEVE_TOKEN_FILE, or put it into PROUDSIEVE_TOKEN")
		}
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("reading the token: %w", err)
	}
	return strings.TrimSpace(string(raw)), nil
}
