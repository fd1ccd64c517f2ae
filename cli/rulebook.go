package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/propose"
	"proudsieve/core/rulebook"
	"proudsieve/service/store"
)

// alone is a command that needs no service.
func alone(name, usage, args string, flags []cli.Flag, action func(ctx context.Context, c *cli.Command, o *output, args []string) error) *cli.Command {
	return &cli.Command{Name: name, Usage: usage + "; needs no service", ArgsUsage: args, Flags: append(flags, jsonFlag()), Action: func(ctx context.Context, c *cli.Command) error {
		given := c.Args().Slice()
		if !strings.HasSuffix(args, "...") {
			var err error
			if given, err = arguments(c, args); err != nil {
				return err
			}
		} else if len(given) == 0 {
			return fmt.Errorf("%s takes one %s or more", c.FullName(), strings.TrimSuffix(args, "..."))
		}
		return action(ctx, c, outputOf(c), given)
	}}
}

func rulebookCommand() *cli.Command {
	commands := []*cli.Command{
		alone("check", "say what is wrong with a rulebook file", "FILE", nil, checkRulebook),
		alone("propose", "draft a rulebook from files of one dataset, the newest first, with the evidence for each line", "FILE...", append([]cli.Flag{&cli.StringFlag{Name: "dataset", Usage: "the name of the dataset"}}, readingFlags()...), proposeRulebook),
		alone("compare", "say in words how a rulebook file differs from an earlier one", "EARLIER LATER", nil, compareRulebooks),
		alone("to-csvw", "write a rulebook file as CSVW metadata, and list what they cannot carry", "FILE", nil, toCSVW),
		alone("from-csvw", "make a rulebook of CSVW metadata, and list what it cannot carry", "FILE", []cli.Flag{&cli.StringFlag{Name: "dataset", Usage: "the name of the dataset"}}, fromCSVW),
		verb("try", "say what a rulebook file would find in the newest deliveries; nothing is saved", "FILE", []cli.Flag{&cli.IntFlag{Name: "last", Value: 3, Usage: "how many deliveries"}}, tryRulebook),
		verb("changes", "how the newest version differs from the one before, in words", "DATASET", []cli.Flag{&cli.IntFlag{Name: "from", Usage: "the earlier version"}, &cli.IntFlag{Name: "to", Usage: "the later version; 0 for the newest"}}, func(ctx context.Context, s *session, args []string) error {
			pairs := []string{"to", fmt.Sprint(s.command.Int("to"))}
			if from := s.command.Int("from"); from > 0 {
				pairs = append(pairs, "from", fmt.Sprint(from))
			}
			all, err := client.Get[[]rulebook.Difference](ctx, s.Client, "/rulebooks/"+args[0]+"/comparison"+client.Query(pairs...))
			return show(s, all, err, func(all *[]rulebook.Difference) { s.differences(*all) })
		}),
	}
	return group("rulebook", "what must hold for a dataset", append(commands, declarationCommands("rulebooks", "rulebook")...)...)
}

func checkRulebook(_ context.Context, _ *cli.Command, o *output, args []string) error {
	book, err := readRulebook(args[0])
	if err != nil {
		return err
	}
	if o.json {
		return o.printJSON(map[string]any{"good": true, "dataset": book.Dataset, "sha256": book.Digest})
	}
	o.line("%s is a good rulebook for %s: %d columns, %d keys, %d rules.", args[0], book.Dataset, len(book.Columns), len(book.Keys), len(book.Rules)+len(book.TableRules)+len(book.References)+len(book.History))
	return nil
}

// datasetOf is the name given, or one made of a file's name.
func datasetOf(c *cli.Command, path string) string {
	if name := c.String("dataset"); name != "" {
		return name
	}
	base, _, _ := strings.Cut(strings.ToLower(filepath.Base(path)), ".")
	name := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, base), "_0123456789")
	if name == "" {
		return "dataset"
	}
	return name
}

func proposeRulebook(ctx context.Context, c *cli.Command, o *output, args []string) error {
	fixed, err := readingOf(c)
	if err != nil {
		return err
	}
	var deliveries []propose.Delivery
	for _, path := range args {
		if _, err := sizeOf(path); err != nil {
			return err
		}
		deliveries = append(deliveries, propose.Delivery{Name: path, Open: intake.AtPath(path)})
	}
	source, err := propose.Rulebook(ctx, datasetOf(c, args[0]), deliveries, fixed, 2)
	if err != nil {
		return err
	}
	return o.carried(source, []byte(source), nil)
}

// carried prints a text, and on the error stream what could not be carried over.
func (o *output) carried(source any, text []byte, left []string) error {
	if o.json {
		return o.printJSON(map[string]any{"source": source, "left": append([]string{}, left...)})
	}
	_, err := o.out.Write(text)
	if len(left) > 0 {
		fmt.Fprintf(o.err, "Not carried over: %s.\n", strings.Join(left, "; "))
	}
	return err
}

func compareRulebooks(_ context.Context, _ *cli.Command, o *output, args []string) error {
	before, err := readRulebook(args[0])
	if err != nil {
		return err
	}
	after, err := readRulebook(args[1])
	if err != nil {
		return err
	}
	all := rulebook.Compare(before, after)
	if o.json {
		return o.printJSON(all)
	}
	o.differences(all)
	return nil
}

func (o *output) differences(all []rulebook.Difference) {
	for _, d := range all {
		o.line("%s", safe(d.Says))
	}
	if len(all) == 0 {
		o.line("They ask the same.")
	}
}

func toCSVW(_ context.Context, _ *cli.Command, o *output, args []string) error {
	book, err := readRulebook(args[0])
	if err != nil {
		return err
	}
	metadata, left := book.CSVW(book.Dataset + ".csv")
	return o.carried(json.RawMessage(metadata), append(metadata, '\n'), left)
}

func fromCSVW(_ context.Context, c *cli.Command, o *output, args []string) error {
	raw, err := os.ReadFile(args[0])
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%s: there is no such file", args[0])
	}
	if err != nil {
		return err
	}
	source, left, err := rulebook.FromCSVW(datasetOf(c, args[0]), raw)
	if err != nil {
		return fmt.Errorf("%s: %w", args[0], err)
	}
	return o.carried(source, []byte(source), left)
}

// tried is what a rulebook found in one delivery.
type tried struct {
	Table  int64         `json:"table"`
	File   string        `json:"file"`
	Result *audit.Result `json:"result"`
}

func tryRulebook(ctx context.Context, s *session, args []string) error {
	book, err := readRulebook(args[0])
	if err != nil {
		return err
	}
	source, err := os.ReadFile(args[0])
	if err != nil {
		return err
	}
	last := s.command.Int("last")
	if last < 1 {
		return fmt.Errorf("--last is at least 1, not %d", last)
	}
	tables, err := client.All[store.Table](ctx, s.Client, "/datasets/"+book.Dataset+"/tables?origin=delivery")
	if err != nil {
		return err
	}
	all := []tried{}
	for _, t := range tables[:min(len(tables), last)] {
		job, err := client.Post[store.Job](ctx, s.Client, fmt.Sprintf("/tables/%d/trials", t.ID), map[string]string{"source": string(source)})
		if err != nil {
			return err
		}
		done, err := s.Follow(ctx, job.ID, s.progress())
		if err != nil {
			return err
		}
		one := tried{Table: t.ID, File: t.FileName, Result: &audit.Result{}}
		if err := json.Unmarshal(*done.Result, one.Result); err != nil {
			return err
		}
		all = append(all, one)
	}
	return show(s, all, nil, s.trials)
}

// trials shows a row for each rule that is broken somewhere, with a column for each delivery.
func (o *output) trials(all []tried) {
	if len(all) == 0 {
		o.line("Nothing has been delivered yet, so there is nothing to try the rulebook on.")
		return
	}
	heads := []string{"rule", "severity"}
	for _, t := range all {
		heads = append(heads, fmt.Sprintf(">table %d", t.Table))
	}
	g := newGrid(append(heads, "what must hold")...)
	scores := []string{"score", ""}
	for _, t := range all {
		scores = append(scores, percent(t.Result.Score))
	}
	g.add(append(scores, "")...)
	for i, rule := range all[0].Result.Rules {
		line, broken := []string{rule.Rule, string(rule.Severity)}, false
		for _, t := range all {
			cell := "0"
			if i < len(t.Result.Rules) {
				cell = count(t.Result.Rules[i].Rows)
			}
			for _, f := range t.Result.Findings {
				if f.Rule == rule.Rule && f.Rows == 0 {
					cell = "broken"
				}
			}
			broken = broken || cell != "0"
			line = append(line, cell)
		}
		if broken {
			g.add(append(line, rule.Says)...)
		}
	}
	o.grid(g, "")
	o.line("Rules that nothing breaks are left out: of %d, %d are broken somewhere.", len(all[0].Result.Rules), len(g.rows)-1)
}
