package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// sifted is what sift prints for programs.
type sifted struct {
	File    siftedFile     `json:"file"`
	Reading intake.Reading `json:"reading"`
	*audit.Result
}

type siftedFile struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
	Bytes  int64  `json:"bytes"`
}

func siftCommand() *cli.Command {
	return &cli.Command{
		Name: "sift", Usage: "audit one file, without any service", ArgsUsage: "FILE",
		Description: "Without --rules the reading of the file is worked out, its columns are described, and values that are not of\ntheir column's type are pointed out. With --rules the file is judged; exit status 1 says that it fell short.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "rules", Usage: "the rulebook to judge by"},
			&cli.IntFlag{Name: "workers", Usage: "how many parts of the file are judged at once", Value: runtime.NumCPU()},
			jsonFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, "FILE")
			if err != nil {
				return err
			}
			if c.Int("workers") < 1 {
				return fmt.Errorf("--workers is at least 1, not %d", c.Int("workers"))
			}
			result, err := sift(ctx, args[0], c.String("rules"), c.Int("workers"))
			if err != nil {
				return err
			}
			o := outputOf(c)
			if o.json {
				err = o.printJSON(result)
			} else {
				o.sifted(result, c.String("rules") != "")
			}
			if err == nil && !result.Passed {
				err = errFellShort
			}
			return err
		},
	}
}

func sift(ctx context.Context, path, rules string, workers int) (*sifted, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, fmt.Errorf("%s: there is no such file", path)
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, fmt.Errorf("%s is a directory; name a file in it", path)
	}
	book, err := readRulebook(rules)
	if err != nil {
		return nil, err
	}
	open := intake.AtPath(path)
	if book == nil {
		if book, _, err = draft(ctx, path, open, intake.Reading{}); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	file, err := intake.Open(open, book.Reading)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	digests := make(chan string, 1)
	go func() { digests <- digest(path) }()
	result, err := audit.Run(ctx, file, book, workers)
	sum := <-digests
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return &sifted{siftedFile{filepath.Base(path), sum, info.Size()}, book.Reading, result}, nil
}

func digest(path string) string {
	f, err := os.Open(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return ""
	}
	return hex.EncodeToString(h.Sum(nil))
}

// readRulebook reads a rulebook file; mistakes get the file's name before their place.
func readRulebook(path string) (*rulebook.Rulebook, error) {
	if path == "" {
		return nil, nil
	}
	source, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%s: there is no such file", path)
	}
	if err != nil {
		return nil, err
	}
	book, err := rulebook.Parse(source)
	return book, inFile(path, err)
}

// inFile puts a file's name before each mistake in it.
func inFile(path string, err error) error {
	var mistakes document.Problems
	if !errors.As(err, &mistakes) {
		return err
	}
	lines := make([]string, len(mistakes))
	for i, m := range mistakes {
		lines[i] = fmt.Sprintf("%s:%d:%d: %s", path, m.Line, m.Column, m.Message)
	}
	return errors.New(strings.Join(lines, "\n"))
}

// draft works out how a file is read, and what its columns are.
func draft(ctx context.Context, path string, open intake.Opener, fixed intake.Reading) (*rulebook.Rulebook, *intake.Detection, error) {
	d, err := intake.Detect(ctx, open, fixed)
	if err != nil {
		return nil, nil, err
	}
	file, err := intake.Open(open, d.Reading)
	if err != nil {
		return nil, nil, err
	}
	return rulebook.Draft(filepath.Base(path), d, file.Columns()), d, nil
}

func (o *output) sifted(s *sifted, judged bool) {
	o.line("%s  %s bytes  SHA-256 %s", safe(s.File.Name), count(s.File.Bytes), s.File.SHA256)
	o.line("Read as %s, delimiter %q, decimal mark %q, dates %s.", s.Reading.Encoding, s.Reading.Delimiter, s.Reading.DecimalMark, strings.Join(s.Reading.Dates, " or "))
	o.auditResult(s.Result, judged)
}

// auditResult shows an audit: the verdict first, then the columns, then what was found.
func (o *output) auditResult(r *audit.Result, judged bool) {
	o.line("%s records: %s rows and %s lines set aside, in %d columns.", count(r.Records), count(r.Rows), count(r.SetAside), len(r.Columns))
	if judged {
		verdict := "Passed"
		if !r.Passed {
			verdict = "Fell short"
		}
		o.line("%s: score %s, pass mark %s.", o.styled("1", verdict), percent(r.Score), percent(r.PassMark))
	}
	o.line("")
	g := newGrid("column", "type", ">filled", ">missing", ">distinct", ">score", "*mesh", "lowest", "highest", ">mean", "most frequent")
	for _, c := range r.Columns {
		distinct := count(c.Distinct)
		if c.DistinctError > 0 {
			distinct = fmt.Sprintf("~%s ±%.1f%%", distinct, 100*c.DistinctError)
		}
		frequent := ""
		if len(c.Frequent) > 0 && c.Distinct < c.Filled {
			frequent = fmt.Sprintf("%s ×%s", visible(shorten(c.Frequent[0].Text, 20)), count(c.Frequent[0].Rows))
		}
		g.add(c.Name, string(c.Type), count(c.Filled), count(c.Missing), distinct, percent(c.Score), o.strip(c.Mesh, 24),
			visible(shorten(c.Lowest, 14)), visible(shorten(c.Highest, 14)), shortNumber(c.Mean), frequent)
	}
	o.grid(g, "The file has no columns.")
	o.legend()
	if len(r.Findings) > 0 {
		o.line("")
		o.findings(r)
	}
	if r.DefectCount > 0 {
		o.line("")
		o.line("%s defects in the bytes; their rows are kept:", count(r.DefectCount))
		g := newGrid(">line", "kind", "column", "detail")
		for _, d := range r.Defects[:min(len(r.Defects), 10)] {
			g.add(count(d.Line), string(d.Kind), d.Column, d.Detail)
		}
		o.grid(g, "")
	}
}

func shortNumber(text string) string {
	d, ok := table.ParseDecimal(text)
	if !ok {
		return ""
	}
	return d.Round(2).Shortest()
}

var graveness = map[rulebook.Severity]int{rulebook.Stop: 0, rulebook.Warn: 1, rulebook.Note: 2}

func (o *output) findings(r *audit.Result) {
	g := newGrid("severity", ">rows", "rule", "what was found")
	gravest := slices.Clone(r.Findings)
	slices.SortStableFunc(gravest, func(a, b audit.Finding) int { return graveness[a.Severity] - graveness[b.Severity] })
	for _, f := range gravest {
		found := f.Found
		if len(f.Texts) > 0 {
			texts := make([]string, 0, 3)
			for _, t := range f.Texts[:min(len(f.Texts), 3)] {
				texts = append(texts, fmt.Sprintf("%q", visible(t.Text)))
			}
			found += " " + strings.Join(texts, ", ")
			if len(f.Texts) > 3 {
				found += ", …"
			}
		}
		rows := make([]string, 0, 3)
		for _, n := range f.FirstRows[:min(len(f.FirstRows), 3)] {
			rows = append(rows, count(int64(n)))
		}
		if len(rows) > 0 {
			found += fmt.Sprintf(" (row %s", strings.Join(rows, "; "))
			if f.Rows > 3 {
				found += "; …"
			}
			found += ")"
		}
		g.add(string(f.Severity), count(f.Rows), f.Rule, found)
	}
	o.grid(g, "Nothing was found.")
}
