package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/propose"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/table"
	"proudsieve/service/records"
)

// alone is a command that needs no service.
func alone(name, usage, args string, flags []cli.Flag, action func(ctx context.Context, c *cli.Command, o *output,
	args []string) error) *cli.Command {
	return &cli.Command{Name: name, Usage: usage + "; needs no service", ArgsUsage: args,
		Flags: append(flags, jsonFlag()), Action: func(ctx context.Context, c *cli.Command) error {
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
		alone("propose",
			"draft a rulebook from files of one dataset, the newest first, with the evidence for each line", "FILE...",
			append(append([]cli.Flag{&cli.StringFlag{Name: "dataset", Usage: "the name of the dataset"}}, besideFlags()...), readingFlags()...),
			proposeRulebook),
		alone("codes",
			"put the codes of a file into a code list of a rulebook file, which is printed; comments and order stay",
			"FILE LIST CODES", append([]cli.Flag{
				&cli.StringFlag{Name: "column", Usage: "the column of the codes; the first one where it is left out"},
				&cli.StringFlag{Name: "labels", Usage: "the column of their labels"}}, readingFlags()...), putCodes),
		alone("meant",
			"write into a rulebook file that what looks odd in a file is meant so; it is printed, comments and order stay",
			"RULEBOOK FILE LEAD COLUMN",
			[]cli.Flag{&cli.StringFlag{Name: "reason", Required: true, Usage: "why"}}, meantSo),
		alone("compare", "say in words how a rulebook file differs from an earlier one", "EARLIER LATER", nil,
			compareRulebooks),
		alone("to-csvw", "write a rulebook file as CSVW metadata, and list what they cannot carry", "FILE", nil,
			toCSVW),
		alone("from-csvw", "make a rulebook of CSVW metadata, and list what it cannot carry", "FILE",
			[]cli.Flag{&cli.StringFlag{Name: "dataset", Usage: "the name of the dataset"}}, fromCSVW),
		verb("try", "say what a rulebook file would find in the newest deliveries; nothing is saved", "FILE",
			[]cli.Flag{&cli.IntFlag{Name: "last", Value: 3, Usage: "how many deliveries"}}, tryRulebook),
		verb("changes", "how the newest version differs from the one before, in words", "DATASET",
			[]cli.Flag{&cli.IntFlag{Name: "from", Usage: "the earlier version"},
				&cli.IntFlag{Name: "to", Usage: "the later version; 0 for the newest"}},
			func(ctx context.Context, s *session, args []string) error {
				found, err := s.CompareRulebooks(ctx, args[0],
					&client.CompareRulebooksParams{From: int64(s.command.Int("from")), To: int64(s.command.Int("to"))})
				all, err := differencesOf(found, err)
				return show(s, &all, err, func(all *[]rulebook.Difference) { s.differences(*all) })
			}),
	}
	return group("rulebook", "what must hold for a dataset",
		append(commands, declarationCommands("rulebooks", "rulebook")...)...)
}

// differencesOf reads what a comparison was answered with.
func differencesOf(found *[]client.Difference, err error) ([]rulebook.Difference, error) {
	if err != nil {
		return nil, err
	}
	all := make([]rulebook.Difference, len(*found))
	for i, raw := range *found {
		if err := json.Unmarshal(raw, &all[i]); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func checkRulebook(_ context.Context, _ *cli.Command, o *output, args []string) error {
	book, err := readRulebook(args[0])
	if err != nil {
		return err
	}
	if o.json {
		return o.printJSON(map[string]any{"good": true, "dataset": book.Dataset, "sha256": book.Digest,
			"old_words": orEmpty(book.Old)})
	}
	keys, rules := 0, 0
	for _, d := range book.Rules {
		switch {
		case d.Kind.Section == "keys":
			keys++
		case d.Column == "" && d.ID != rulebook.EqualRowsID:
			rules++
		}
	}
	o.line("%s is a good rulebook for %s: %s, %s, %s.", args[0], book.Dataset, several(int64(len(book.Columns)), "column"),
		several(int64(keys), "key"), several(int64(rules), "rule"))
	o.oldWords(book.Old)
	return nil
}

// oldWords tells of words of earlier versions in a declaration.
func (o *output) oldWords(old []document.Problem) {
	for _, one := range old {
		o.line("%s.", visible(one.String()))
	}
}

// orEmpty keeps a list from being null in JSON.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
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
		deliveries = append(deliveries, propose.Delivery{Name: path, Open: content.AtPath(path)})
	}
	beside, err := besides(c)
	if err != nil {
		return err
	}
	var others []propose.Other
	for _, pair := range c.StringSlice("beside") {
		name, _, _ := strings.Cut(pair, "=")
		others = append(others, propose.Other{Dataset: name, Open: func(ctx context.Context) (table.Source, *rulebook.Rulebook, error) {
			return beside.Open(ctx, name)
		}})
	}
	proposal, err := propose.Rulebook(ctx, datasetOf(c, args[0]), deliveries, others, fixed, 2)
	if err != nil {
		return err
	}
	source := proposal.Source(propose.Choice{})
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

// meantSo writes that what looks odd in a file by a rulebook is meant so.
func meantSo(ctx context.Context, c *cli.Command, o *output, args []string) error {
	source, err := readFile(args[0])
	if err != nil {
		return err
	}
	book, err := readRulebook(args[0])
	if err != nil {
		return err
	}
	read, err := openFile(ctx, args[1], book, intake.Reading{})
	if err != nil {
		return fmt.Errorf("%s: %w", args[1], err)
	}
	defer read.file.Close()
	result, err := audit.Run(ctx, read.file, read.book, runtime.NumCPU())
	if err == nil {
		err = result.LookAgain(ctx, read.file, runtime.NumCPU())
	}
	if err != nil {
		return fmt.Errorf("%s: %w", args[1], err)
	}
	changed, err := result.MeantSoIn(string(source), args[2], args[3], c.String("reason"))
	if err != nil {
		return err
	}
	return o.carried(changed, []byte(changed), nil)
}

// putCodes adds the codes of a file to a code list, those left out that it has already.
func putCodes(ctx context.Context, c *cli.Command, o *output, args []string) error {
	source, err := readFile(args[0])
	if err != nil {
		return err
	}
	codes, labels, err := codesIn(ctx, c, args[2])
	if err != nil {
		return fmt.Errorf("%s: %w", args[2], err)
	}
	outline, err := edit.OutlineOf(string(source))
	if err != nil {
		return inFile(args[0], err)
	}
	known := map[string]bool{}
	for _, list := range outline.Codes {
		for _, code := range list.Codes {
			known[code] = known[code] || list.Name == args[1]
		}
	}
	add := edit.Change{Section: "code_lists", Item: args[1], Add: true}
	for i, code := range codes {
		if known[code] {
			continue
		}
		known[code] = true
		add.Values = append(add.Values, code)
		if labels != nil && labels[i] != "" {
			add.Fields = append(add.Fields, edit.Field{Name: code, Value: labels[i]})
		}
	}
	changed := string(source)
	if len(add.Values) > 0 {
		changed, err = edit.Apply(changed, []edit.Change{add})
	}
	if err != nil {
		return inFile(args[0], err)
	}
	if _, err := rulebook.Parse([]byte(changed)); err != nil {
		return fmt.Errorf("with these codes the rulebook would be wrong:\n%w", err)
	}
	return o.carried(changed, []byte(changed), nil)
}

// codesLimit is how many codes a list can be given at once.
const codesLimit = 5000

// codesIn reads the codes of a file, and their labels where these are asked for.
func codesIn(ctx context.Context, c *cli.Command, path string) (codes, labels []string, err error) {
	fixed, err := readingOf(c)
	if err != nil {
		return nil, nil, err
	}
	if _, err := sizeOf(path); err != nil {
		return nil, nil, err
	}
	read, err := openFile(ctx, path, nil, fixed)
	if err != nil {
		return nil, nil, err
	}
	file := read.file
	defer file.Close()
	columns := map[string]int{}
	for i, name := range file.Columns() {
		columns[name] = i
	}
	at, label := 0, -1
	for flag, into := range map[string]*int{"column": &at, "labels": &label} {
		if name := c.String(flag); name != "" {
			i, ok := columns[name]
			if !ok {
				return nil, nil, fmt.Errorf("there is no column %q%s", name, document.Nearest(name, file.Columns()))
			}
			*into = i
		}
	}
	err = table.Scan(ctx, file, 1, func(b *table.Batch) (*table.Batch, error) { return b, nil },
		func(b *table.Batch) error {
			for i := range b.Rows {
				code := table.Trim(b.Columns[at].At(i))
				if code == "" {
					continue
				}
				if codes = append(codes, code); len(codes) > codesLimit {
					return fmt.Errorf("there are more than %d rows; deliver the list as a dataset, and let the code list take its codes from there", codesLimit)
				}
				if label >= 0 {
					labels = append(labels, table.Trim(b.Columns[label].At(i)))
				}
			}
			return nil
		})
	return codes, labels, err
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
	metadata, left := csvw.Of(book, book.Dataset+".csv")
	return o.carried(json.RawMessage(metadata), append(metadata, '\n'), left)
}

func fromCSVW(_ context.Context, c *cli.Command, o *output, args []string) error {
	raw, err := readFile(args[0])
	if err != nil {
		return err
	}
	source, left, err := csvw.Read(datasetOf(c, args[0]), raw)
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
	tables, err := client.All(func(after string, limit int64) (*records.Page[records.Table], error) {
		return s.ListTables(ctx, book.Dataset, &client.ListTablesParams{After: after, Limit: limit,
			Origin: client.ListTablesParamsOriginDelivery})
	})
	if err != nil {
		return err
	}
	all := []tried{}
	for _, t := range tables[:min(len(tables), last)] {
		job, err := s.TryRulebook(ctx, t.ID, client.TriedBody{Source: string(source)})
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
	o.line("Rules that nothing breaks are left out: of %d, %d are broken somewhere.", len(all[0].Result.Rules),
		len(g.rows)-1)
}
