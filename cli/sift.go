package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// sifted is what sift prints for programs.
type sifted struct {
	File    siftedFile     `json:"file"`
	Reading intake.Reading `json:"reading"`
	// OwnReading says that the metadata beside the file say that it is in the standard reading, as tables of ours are.
	OwnReading bool              `json:"own_reading,omitempty"`
	Detection  *detect.Detection `json:"detection,omitempty"`
	*audit.Result
	Between *between `json:"between,omitempty"`
}

type siftedFile struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256,omitempty"`
	Bytes  int64  `json:"bytes"`
}

// between is what columns have to do with one another.
type between struct {
	Keys         []relation.Key         `json:"keys"`
	Correlations *relation.Correlations `json:"correlations"`
}

func siftCommand() *cli.Command {
	return &cli.Command{
		Name: "sift", Usage: "audit files, without any service", ArgsUsage: "FILE...",
		Description: "Without --rules the reading of the file is worked out, its columns are described, and values that are not of\ntheir column's type are pointed out. With --rules the file is judged; exit status 1 says that it fell short.\nA file named - is what comes in on the standard input. Of several files each gets a line, and the exit status is that of the worst.",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "rules", Usage: "the rulebook to judge by"},
			&cli.IntFlag{Name: "workers", Usage: "how many parts of the file are judged at once",
				Value: runtime.NumCPU()},
			&cli.StringFlag{Name: "column", Usage: "show everything about one column"},
			&cli.BoolFlag{Name: "between", Usage: "also look for keys and correlations, which takes longer"},
			&cli.BoolFlag{Name: "once", Usage: "read the file once, and leave out what looks odd by a second reading alone"},
			&cli.BoolFlag{Name: "digest", Usage: "also print the SHA-256 of the file"},
			allFlag(), jsonFlag(),
		}, append(judgeFlags(), readingFlags()...)...),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Int("workers") < 1 {
				return fmt.Errorf("--workers is at least 1, not %d", c.Int("workers"))
			}
			o := outputOf(c)
			if c.Args().Len() > 1 {
				return o.siftEach(ctx, c, c.Args().Slice())
			}
			args, err := arguments(c, "FILE")
			if err != nil {
				return err
			}
			path, done, err := orInput(c, args[0])
			if err != nil {
				return err
			}
			defer done()
			args[0] = path
			result, file, book, err := sift(ctx, c, args[0], c.Int("workers"))
			if err != nil {
				return err
			}
			defer file.Close()
			shown, err := o.lookInto(ctx, c, args[0], result, file, book)
			if err != nil {
				return err
			}
			switch name := c.String("column"); {
			case shown:
			case o.json:
				err = o.printJSON(result)
			case name != "":
				err = o.oneColumn(result, name)
			default:
				o.sifted(result, c.String("rules") != "")
			}
			if err == nil && result.FellShort() {
				err = errFellShort
			}
			return err
		},
	}
}

// sift audits a file; it returns the open file and its rulebook too.
func sift(ctx context.Context, c *cli.Command, path string, workers int) (*sifted, *intake.File, *rulebook.Rulebook, error) {
	fail := func(err error) (*sifted, *intake.File, *rulebook.Rulebook, error) { return nil, nil, nil, err }
	tune(siftMemory)
	size, err := sizeOf(path)
	if err != nil {
		return fail(err)
	}
	fixed, err := readingOf(c)
	if err != nil {
		return fail(err)
	}
	book, err := readRulebook(c.String("rules"))
	if err != nil {
		return fail(err)
	}
	past, err := earlier(ctx, c, book)
	if err != nil {
		return fail(err)
	}
	read, err := openFile(ctx, path, book, fixed)
	if err != nil {
		return fail(fmt.Errorf("%s: %w", path, err))
	}
	file, book := read.file, read.book
	if len(file.Columns()) > wideFile {
		tune(wideMemory)
	}
	out := &sifted{File: siftedFile{Name: filepath.Base(path), Bytes: size}, OwnReading: read.own, Detection: read.detection, Reading: book.Reading}
	if book.Beside, err = besides(c); err != nil {
		return fail(err)
	}
	book.Beside.Past = past
	digests := make(chan string, 1)
	if c.Bool("digest") {
		go func() { digests <- digest(path) }()
	} else {
		digests <- ""
	}
	out.Result, err = audit.Run(ctx, file, book, workers)
	out.File.SHA256 = <-digests
	if err == nil {
		book = out.Book()
		if !c.Bool("once") {
			err = out.LookAgain(ctx, file, workers)
		}
	}
	if err == nil && c.Bool("between") {
		out.Between, err = findBetween(ctx, &relation.Table{Source: file, Book: book, Workers: workers}, out.Result)
	}
	if err != nil {
		return fail(fmt.Errorf("%s: %w", path, err))
	}
	return out, file, book, nil
}

func findBetween(ctx context.Context, t *relation.Table, result *audit.Result) (*between, error) {
	keys, err := relation.Keys(ctx, t, result.Rows, result.KeyCandidates())
	if err != nil {
		return nil, err
	}
	correlations, err := relation.Correlate(ctx, t, t.NumberColumns())
	return &between{keys, correlations}, err
}

func sizeOf(path string) (int64, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return 0, fmt.Errorf("%s: there is no such file", path)
	case err != nil:
		return 0, err
	case info.IsDir():
		return 0, fmt.Errorf("%s is a directory; name a file in it", path)
	}
	return info.Size(), nil
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

// readFile reads a file that a command names.
func readFile(path string) ([]byte, error) {
	content, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%s: there is no such file", path)
	}
	return content, err
}

// readRulebook reads a rulebook file; mistakes get the file's name before their place.
func readRulebook(path string) (*rulebook.Rulebook, error) {
	if path == "" {
		return nil, nil
	}
	source, err := readFile(path)
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

func (o *output) sifted(s *sifted, judged bool) {
	o.file(s)
	o.auditResult(s.Result, judged)
	if !judged {
		o.patterns(s.Result)
	}
	if s.Between != nil {
		o.between(s.Between)
	}
	if !judged {
		o.line("")
		o.line("Everything about one column: --column NAME. Keys and correlations: --between. How it was read, and why: proudsieve look %s", safe(s.File.Name))
	}
}

func (o *output) file(s *sifted) {
	o.line("%s  %s bytes", o.styled("1", safe(s.File.Name)), count(s.File.Bytes))
	if s.OwnReading {
		o.line("Read as its metadata beside it say: commas, points, ISO dates.")
	}
	if s.File.SHA256 != "" {
		o.line("SHA-256 %s", s.File.SHA256)
	}
}

// auditResult shows an audit: the verdict first, then the columns, then what was found.
func (o *output) auditResult(r *audit.Result, judged bool) {
	o.records(r.Records, r.Rows, r.SetAside, len(r.Columns))
	for _, name := range slices.Sorted(maps.Keys(r.Renamed)) {
		o.line("%s stands as %s in the file, a name that it had before.", safe(name), safe(r.Renamed[name]))
	}
	if r.There != nil {
		o.there(r)
	}
	switch {
	case r.Passed == nil:
		o.line("No verdict: nothing was declared.")
	case *r.Passed:
		o.line("%s: score %s, pass mark %s.", o.styled("1", "Passed"), percent(r.Score), percent(r.PassMark))
	default:
		o.line("%s: score %s, pass mark %s.", o.styled("1", "Fell short"), percent(r.Score), percent(r.PassMark))
	}
	if len(r.Findings) > 0 {
		o.line("")
		o.findings(r)
	}
	o.leads(r)
	if r.DefectCount > 0 {
		o.line("")
		o.defects(r.Defects, r.DefectCount)
	}
	o.line("")
	if judged {
		o.judgedColumns(r)
	} else {
		o.profiledColumns(r)
	}
}

// there says where a table was judged that was not taken.
func (o *output) there(r *audit.Result) {
	t, took := r.There, time.Duration(0)
	for i := range t.Statements {
		took += time.Duration(t.Statements[i].Milliseconds) * time.Millisecond
	}
	o.line("Judged where it lies: %s of the database %s, %s. None of its rows were taken.", safe(t.Relation), safe(t.Database), safe(t.Server))
	o.line("%s in %s; digest %s (%s).", document.Counted(int64(len(t.Statements)), "question", "questions"), took.Round(100*time.Millisecond), t.Digest, safe(t.DigestBy))
	for _, note := range t.Notes {
		o.line("%s", safe(note))
	}
}

// asked lists the questions that were put to the server.
func (o *output) asked(r *audit.Result) {
	if r.There == nil {
		o.line("It was judged here, by reading its rows.")
		return
	}
	g := newGrid(">took", ">rows of the answer", "what it answers", "in the engine's own SQL")
	for _, s := range r.There.Statements {
		g.add((time.Duration(s.Milliseconds) * time.Millisecond).String(), document.Grouped(s.Rows), safe(s.Says), safe(s.SQL))
	}
	o.grid(g, "Nothing was asked.")
}

// columnsShown is how many columns are listed where there are more than fit a window: those that something is told of,
// first.
const columnsShown = 11

// columnsToShow picks the columns that are listed, in the order of the file, and names the others.
func (o *output) columnsToShow(r *audit.Result) (shown []*audit.Column, others string) {
	// A dozen may be left out; fewer would take as much room as what says so.
	if all := len(r.Columns); o.all || all <= columnsShown+4 {
		for i := range r.Columns {
			shown = append(shown, &r.Columns[i])
		}
		return shown, ""
	}
	told := map[string]bool{}
	tell := func(columns ...string) {
		for _, c := range columns {
			if len(told) < columnsShown {
				told[c] = true
			}
		}
	}
	for _, f := range slices.SortedStableFunc(slices.Values(r.Findings), graver) {
		tell(f.Columns...)
	}
	for _, l := range r.Leads {
		if l.Column != "" {
			tell(l.Column)
		}
	}
	var names []string
	for i := range r.Columns {
		tell(r.Columns[i].Name)
	}
	for i := range r.Columns {
		if c := &r.Columns[i]; told[c.Name] {
			shown = append(shown, c)
		} else {
			names = append(names, c.Name)
		}
	}
	const named = 120 // signs of names
	list := strings.Join(names, ", ")
	if visibleLength(list) > named {
		list = shorten(list, named)
	}
	return shown, fmt.Sprintf("and %s more; --all shows them: %s", several(int64(len(names)), "column"), list)
}

func (o *output) judgedColumns(r *audit.Result) {
	g := newGrid("column", "type", ">filled", ">missing", ">distinct", ">score", "*mesh", "lowest", "highest", ">mean",
		"most frequent")
	shown, others := o.columnsToShow(r)
	for _, c := range shown {
		g.add(c.Name, string(c.Type), count(c.Filled), count(c.Missing), distinct(c), percent(c.Score),
			o.strip(c.Mesh, 24),
			visible(shorten(c.Lowest, 14)), visible(shorten(c.Highest, 14)), shortNumber(c.Mean), mostFrequent(c))
	}
	o.grid(g, "The file has no columns.")
	if others != "" {
		o.line("%s", safe(others))
	}
	o.legend()
}

func distinct(c *audit.Column) string {
	if c.DistinctError > 0 {
		return fmt.Sprintf("~%s ±%.1f%%", count(c.Distinct), 100*c.DistinctError)
	}
	return count(c.Distinct)
}

func mostFrequent(c *audit.Column) string {
	if len(c.Frequent) == 0 || c.Distinct >= c.Filled {
		return ""
	}
	least := ""
	if c.AtLeast {
		least = "≥"
	}
	return fmt.Sprintf("%s ×%s%s", visible(shorten(c.Frequent[0].Text, 20)), least, count(c.Frequent[0].Rows))
}

func shortNumber(text string) string {
	d, ok := table.ParseDecimal(text)
	if !ok {
		return ""
	}
	return d.Round(2).Shortest()
}

var graveness = map[rulebook.Severity]int{rulebook.Major: 0, rulebook.Minor: 1, rulebook.Note: 2}

// graver orders findings by their severity, then by what they cost.
func graver(a, b audit.Finding) int {
	return cmp.Or(graveness[a.Severity]-graveness[b.Severity], cmp.Compare(b.Rows, a.Rows))
}

func (o *output) findings(r *audit.Result) {
	g := newGrid("severity", ">rows", ">costs", ">wins back", "rule", "what was found")
	gravest := slices.Clone(r.Findings)
	slices.SortStableFunc(gravest, graver)
	for _, f := range gravest {
		found := f.Found
		if len(f.Texts) > 0 && (len(f.Texts) > 1 || f.Texts[0].Text != "") {
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
		g.add(string(f.Severity), count(f.Rows), percent(f.Cost), percent(f.Regained), f.Rule, found)
	}
	o.grid(g, "Nothing was found.")
	o.line("Costs: the points that a finding takes from the score by itself; wins back: the points that it would give if it alone were put right.")
	for _, j := range r.Rules {
		if j.Unjudged != "" {
			o.line("Not judged: %s, since %s.", j.Rule, safe(j.Unjudged))
		}
	}
}
