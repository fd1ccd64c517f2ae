package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/service/report"
)

// judgeFlags are what sift takes to look into what it found.
func judgeFlags() []cli.Flag {
	return append(besideFlags(),
		&cli.StringSliceFlag{Name: "before",
			Usage: "an earlier delivery of the same dataset, as 2025.csv, to compare with; may be given several times, the last one first"},
		&cli.StringFlag{Name: "groups",
			Usage: "show the rows that share the values of these columns side by side, as station,day"},
		&cli.StringFlag{Name: "codes", Usage: "show what the texts of a column stand for"},
		&cli.StringFlag{Name: "report", Usage: "also write a page for the owner of the data to this file"},
		personalFlag(),
		&cli.StringFlag{Name: "findings", Usage: "also write every cell that was caught to this file, as CSV"},
		exactFlag())
}

func personalFlag() cli.Flag {
	return &cli.BoolFlag{Name: "personal", Usage: "show personal data in the report, which are masked otherwise"}
}

// besideFlags name the files of other datasets.
func besideFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "beside",
			Usage: "another dataset that the rulebook speaks of, as stations=stations.csv; may be given several times"},
		&cli.StringSliceFlag{Name: "beside-rules",
			Usage: "the rulebook by which another dataset is read, as stations=stations.yaml"},
	}
}

// besides reads the files of other datasets.
func besides(c *cli.Command) (*rulebook.Beside, error) {
	paths, books := map[string]string{}, map[string]string{}
	for flag, into := range map[string]map[string]string{"beside": paths, "beside-rules": books} {
		for _, pair := range c.StringSlice(flag) {
			name, path, ok := strings.Cut(pair, "=")
			if !ok || name == "" || path == "" {
				return nil, fmt.Errorf("--%s is a dataset and a file, as stations=stations.csv, not %q", flag, pair)
			}
			into[name] = path
		}
	}
	out := &rulebook.Beside{Today: time.Now().Unix() / 86_400, Used: map[string]string{}}
	out.Open = func(ctx context.Context, dataset string) (table.Source, *rulebook.Rulebook, error) {
		path, ok := paths[dataset]
		if !ok {
			return nil, nil, fmt.Errorf("the dataset %s is not at hand; name its file with --beside %s=FILE", dataset,
				dataset)
		}
		book, err := readRulebook(books[dataset])
		if err != nil {
			return nil, nil, err
		}
		out.Used[dataset] = path
		read, err := openFile(ctx, path, book, intake.Reading{})
		if err != nil {
			return nil, nil, err
		}
		return read.file, read.book, nil
	}
	return out, nil
}

// earlier audits the earlier deliveries that are named, by the rulebook or, without one, by what is seen of each.
func earlier(ctx context.Context, c *cli.Command, declared *rulebook.Rulebook) ([]rulebook.Past, error) {
	var out []rulebook.Past
	for _, path := range c.StringSlice("before") {
		fail := func(err error) ([]rulebook.Past, error) {
			return nil, fmt.Errorf("%s, the earlier delivery: %w", path, err)
		}
		read, err := openFile(ctx, path, declared, intake.Reading{})
		if err != nil {
			return fail(err)
		}
		result, err := audit.Run(ctx, read.file, read.book, c.Int("workers"))
		if err = errors.Join(err, read.file.Close()); err != nil {
			return fail(err)
		}
		out = append(out, result.Past())
	}
	return out, nil
}

// lookInto looks into what sift found, as its flags say. It reports whether that was all that was asked for.
func (o *output) lookInto(ctx context.Context, c *cli.Command, path string, s *sifted, file *intake.File,
	book *rulebook.Rulebook) (shown bool, err error) {
	t := &relation.Table{Source: file, Book: book, Workers: c.Int("workers")}
	if to := c.String("report"); to != "" {
		examples, err := report.Examples(ctx, file, s.Checkpoints, s.Result)
		if err != nil {
			return false, err
		}
		r := &report.Report{Dataset: book.Dataset, Title: book.Title, FileName: s.File.Name, Digest: s.File.SHA256,
			When: time.Now(), Result: s.Result, Examples: examples, ShowPersonal: c.Bool("personal")}
		if c.String("rules") != "" {
			r.Rulebook = "rulebook " + c.String("rules")
		}
		if err := save(to, func(f *os.File) error { return report.Write(f, r) }); err != nil {
			return false, err
		}
	}
	if to := c.String("findings"); to != "" {
		if err := save(to, func(f *os.File) error {
			return audit.WriteFindings(ctx, f, &audit.Export{Source: file, Book: book, Result: s.Result,
				Rows: (*audit.Finding).AllRows, Workers: t.Workers, Exact: c.Bool("exact")})
		}); err != nil {
			return false, err
		}
	}
	if columns := c.String("groups"); columns != "" {
		shown = true
		if err := o.showGroups(ctx, t, strings.Split(columns, ",")); err != nil {
			return shown, fmt.Errorf("%s: %w", path, err)
		}
	}
	if column := c.String("codes"); column != "" {
		if t.Book, err = audit.Bound(ctx, book, t.Workers); err != nil {
			return true, err
		}
		codes, err := relation.Recognise(ctx, t, column)
		if err != nil {
			return true, fmt.Errorf("%s: %w", path, err)
		}
		return true, show(&session{output: o}, codes, nil, o.codes)
	}
	return shown, nil
}

const groupsShown = 10

// shownGroups is what sift --groups prints for programs.
type shownGroups struct {
	*relation.Groups
	Page map[relation.GroupKind][]relation.Group `json:"page"`
}

func (o *output) showGroups(ctx context.Context, t *relation.Table, columns []string) error {
	found, err := relation.FindGroups(ctx, t, columns)
	if err != nil {
		return err
	}
	pages := map[relation.GroupKind][]relation.Group{}
	for _, kind := range relation.GroupKinds {
		if pages[kind], _, err = found.Page(ctx, t, kind, 0, groupsShown); err != nil {
			return err
		}
	}
	if o.json {
		return o.printJSON(shownGroups{found, pages})
	}
	o.groupCounts(found)
	for _, kind := range relation.GroupKinds {
		o.groupPage(t.Source.Columns(), found.Columns, kind, pages[kind], found.Of[kind].Groups)
	}
	return nil
}

var groupWords = map[relation.GroupKind]string{relation.Equal: "equal in every cell",
	relation.Conflicting: "one key, different cells", relation.Near: "one key once spellings are levelled"}

func (o *output) groupCounts(found *relation.Groups) {
	g := newGrid("groups", ">groups", ">rows", ">surplus", "what the surplus rows sum to")
	for _, kind := range relation.GroupKinds {
		n := found.Of[kind]
		g.add(groupWords[kind], count(n.Groups), count(n.Rows), count(n.Surplus), impact(n.Impact))
	}
	o.grid(g, "")
	o.line("%s of %s rows would be surplus by %s once spellings are levelled.", count(found.SurplusLevelled),
		count(found.Rows), document.Join(found.Columns))
	if found.Lacking > 0 {
		o.line("%s part of it, and %s in no group.", document.Counted(found.Lacking, "row lacks", "rows lack"),
			document.Plural(found.Lacking, "is", "are"))
	}
}

func impact(sums map[string]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		parts = append(parts, name+" "+sums[name])
	}
	return strings.Join(parts, ", ")
}

// groupPage shows groups one below the other: the key, then the columns that differ.
func (o *output) groupPage(names, key []string, kind relation.GroupKind, groups []relation.Group, of int64) {
	for i, group := range groups {
		if i == 0 {
			o.line("")
			o.line("%s", o.styled("1", strings.ToUpper(groupWords[kind][:1])+groupWords[kind][1:]))
		}
		heads := []string{">row", ">line"}
		var at []int
		for c, name := range names {
			if slices.Contains(key, name) || slices.Contains(group.Differs, name) {
				heads, at = append(heads, name), append(at, c)
			}
		}
		g := newGrid(heads...)
		for _, row := range group.Rows {
			cells := []string{count(int64(row.Row)), count(row.Line)}
			for _, c := range at {
				cells = append(cells, visible(shorten(row.Cells[c], 24)))
			}
			g.add(cells...)
		}
		o.grid(g, "")
		if group.Count > len(group.Rows) {
			o.line("and %s more", document.Counted(int64(group.Count-len(group.Rows)), "row", "rows"))
		}
	}
	if of > int64(len(groups)) && len(groups) > 0 {
		o.line("The first %d of %s groups.", len(groups), count(of))
	}
}

func (o *output) codes(c *relation.Codes) {
	if c.List == "" {
		o.line("%s has no code list; its texts are held against each other.", safe(c.Column))
	} else {
		o.line("%s against the code list %s: %s of its codes occur, %s do not.", safe(c.Column), c.List,
			count(int64(len(c.Used))), count(int64(len(c.Absent))))
	}
	o.line("")
	g := newGrid("text", ">rows", "probably means", ">sure", "because")
	for _, t := range c.Texts {
		g.add(visible(shorten(t.Text, 30)), count(t.Rows), meaning(t.Meaning), sure(t.Meaning), t.Meaning.How)
	}
	none := "Every text is a code."
	if c.List == "" {
		none = "No text is another spelling of one."
	}
	o.grid(g, none)
	if len(c.Absent) > 0 {
		o.line("")
		o.line("Codes that do not occur: %s", safe(shorten(strings.Join(c.Absent, ", "), 300)))
	}
}

func meaning(m rulebook.Meaning) string {
	switch m.Kind {
	case rulebook.MeansCode:
		return m.Code
	case rulebook.MeansColumn:
		return fmt.Sprintf("%s, a code of the column %s", m.Code, m.Column)
	case rulebook.MeansOther:
		return fmt.Sprintf("%s, a code of the list %s", m.Code, m.List)
	case rulebook.MeansParent:
		return "what codes are a part of"
	case rulebook.MeansSeveral:
		return document.Join(m.Codes) + ", in one cell"
	}
	return "nothing known"
}

func sure(m rulebook.Meaning) string {
	if m.Sure == 0 {
		return ""
	}
	return fmt.Sprintf("%.0f%%", 100*m.Sure)
}

// comparison shows two audits side by side.
func (o *output) comparison(c *audit.Comparison) {
	o.line("Rows: %s, before %s. Score: %s, before %s.", count(c.Rows.After), count(c.Rows.Before),
		percent(c.Score.After), percent(c.Score.Before))
	o.line("")
	g := newGrid("", "severity", ">rows before", ">rows now", "rule", "what must hold")
	for _, r := range c.Rules {
		g.add(string(r.Turn), string(r.Severity), count(r.Rows.Before), count(r.Rows.After), r.Rule, r.Says)
	}
	o.grid(g, "No rule was broken, then or now.")
	g = newGrid("column", "", ">score before", ">score now", ">missing before", ">missing now", "what it holds")
	for _, col := range c.Columns {
		if col.Turn != audit.TurnSame || col.Missing.Before != col.Missing.After || len(col.Says) > 0 {
			g.add(col.Name, string(col.Turn), percent(col.Score.Before), percent(col.Score.After),
				percent(col.Missing.Before)+"%", percent(col.Missing.After)+"%", visible(strings.Join(col.Says, "; ")))
		}
	}
	o.line("")
	o.grid(g, "No column changed in score, in what is missing, in its type, its mean or its values.")
}
