package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/intake/detect"
	"proudsieve/core/leads"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

const firstRows = 10

func lookCommand() *cli.Command {
	return &cli.Command{
		Name: "look", Usage: "show how a file is read, and why, and its first rows", ArgsUsage: "FILE",
		Description: "Every finding about the file stands with what it rests on and how sure it is. Each can be set with an option,\nor in the reading of a rulebook. With --rows and --json the rows are printed as they are read, one JSON object a line:\nthe text of every cell as it stands, and null where a value is missing.",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "rows", Usage: "how many of the first rows are shown: a number, or all",
				Value: strconv.Itoa(firstRows)},
			&cli.StringFlag{Name: "rules", Usage: "the rulebook whose reading is used"},
			jsonFlag(),
		}, readingFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, "FILE")
			if err != nil {
				return err
			}
			rows := int64(-1)
			if word := c.String("rows"); word != "all" {
				if rows, err = strconv.ParseInt(word, 10, 64); err != nil || rows < 0 {
					return fmt.Errorf("--rows is a number of rows, or all, not %q", word)
				}
			}
			l, err := lookAt(ctx, c, args[0])
			if err != nil {
				return err
			}
			o := outputOf(c)
			if o.json && c.IsSet("rows") {
				return l.printRows(ctx, o.out, rows)
			}
			if o.json {
				return o.printJSON(l)
			}
			return o.looked(ctx, l, rows)
		},
	}
}

// looked is what look prints for programs.
type looked struct {
	File      siftedFile        `json:"file"`
	Detection *detect.Detection `json:"detection"`
	Records   int64             `json:"records"` // Rows + SetAside
	Rows      int64             `json:"rows"`
	SetAside  int64             `json:"set_aside"`
	Columns   []lookedColumn    `json:"columns"`
	Defects   []table.Defect    `json:"defects"` // the first of them
	Count     int64             `json:"defect_count"`

	source *intake.File
	book   *rulebook.Rulebook
}

type lookedColumn struct {
	Name string     `json:"name"`
	Type table.Type `json:"type"`
}

const defectsLooked = 1000

func lookAt(ctx context.Context, c *cli.Command, path string) (*looked, error) {
	size, err := sizeOf(path)
	if err != nil {
		return nil, err
	}
	fixed, err := readingOf(c)
	if err != nil {
		return nil, err
	}
	book, err := readRulebook(c.String("rules"))
	if err != nil {
		return nil, err
	}
	if book != nil {
		fixed = book.Reading
	}
	open := content.AtPath(path)
	drafted, d, err := draft(ctx, path, open, fixed)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if book == nil {
		book = drafted
	}
	l := &looked{File: siftedFile{Name: filepath.Base(path), Bytes: size}, Detection: d, Defects: []table.Defect{},
		book: book}
	l.source = d.File
	for _, name := range l.source.Columns() {
		l.Columns = append(l.Columns, lookedColumn{name, book.Cells(name).Type})
	}
	work := func(b *table.Batch) (*table.Batch, error) {
		return &table.Batch{Rows: b.Rows, SetAside: b.SetAside, Defects: b.Defects}, nil
	}
	err = table.Scan(ctx, l.source, runtime.NumCPU(), work, func(b *table.Batch) error {
		l.Rows += int64(b.Len())
		l.SetAside += b.SetAside
		l.Count += int64(len(b.Defects))
		l.Defects = append(l.Defects, b.Defects[:min(len(b.Defects), defectsLooked-len(l.Defects))]...)
		return nil
	})
	l.Records = l.Rows + l.SetAside
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return l, nil
}

func (o *output) looked(ctx context.Context, l *looked, rows int64) error {
	o.line("%s  %s bytes", o.styled("1", safe(l.File.Name)), count(l.File.Bytes))
	o.records(l.Records, l.Rows, l.SetAside, len(l.Columns))
	o.line("")
	g := newGrid("read as", "", "how sure", "because")
	for _, e := range l.Detection.Evidence {
		g.add(e.Aspect, visible(e.Found), string(e.Confidence), e.Because)
	}
	o.grid(g, "")
	if l.Count > 0 {
		o.line("")
		o.defects(l.Defects, l.Count)
	}
	if rows == 0 || l.Rows == 0 {
		return nil
	}
	o.line("")
	shown, err := l.first(ctx, rows)
	if err != nil {
		return err
	}
	return o.rows(l, shown)
}

// rows shows rows as a table where that fits a terminal, else each as a list.
func (o *output) rows(l *looked, shown []delimited.Picked) error {
	const most = 12
	heads := []string{">row"}
	for i, c := range l.Columns[:min(len(l.Columns), most)] {
		if t := l.Columns[i].Type; t.IsNumber() {
			heads = append(heads, ">"+c.Name)
		} else {
			heads = append(heads, c.Name)
		}
	}
	g := newGrid(heads...)
	for _, row := range shown {
		cells := []string{count(int64(row.Row))}
		for c := range heads[1:] {
			text := visible(shorten(row.Cells[c], 24))
			if row.Cells[c] == "" {
				text = ""
			}
			cells = append(cells, text)
		}
		g.add(cells...)
	}
	o.grid(g, "")
	if n := len(l.Columns) - most; n > 0 {
		o.line("and %d more columns: %s", n, safe(names(l.Columns[most:])))
	}
	return nil
}

func names(columns []lookedColumn) string {
	const most = 30
	words := make([]string, 0, most)
	for _, c := range columns[:min(len(columns), most)] {
		words = append(words, c.Name)
	}
	if len(columns) > most {
		words = append(words, "…")
	}
	return strings.Join(words, ", ")
}

// first returns the first rows.
func (l *looked) first(ctx context.Context, rows int64) ([]delimited.Picked, error) {
	if rows < 0 || rows > l.Rows {
		rows = l.Rows
	}
	rows = min(rows, 1000)
	wanted := make([]uint32, rows)
	for i := range wanted {
		wanted[i] = uint32(i) + 1
	}
	return l.source.Pick(ctx, nil, wanted)
}

// printRows writes rows as JSON Lines, in the order of the columns.
func (l *looked) printRows(ctx context.Context, to io.Writer, rows int64) error {
	out := bufio.NewWriterSize(to, 1<<16)
	enough := errors.New("enough")
	columns := l.source.Columns()
	keys := make([][]byte, len(columns))
	cells := make([]*rulebook.Cells, len(columns))
	for i, name := range columns {
		keys[i], cells[i] = jsonString(name), l.book.Cells(name)
	}
	work := func(b *table.Batch) ([]byte, error) { return rowsAsJSON(b, keys, cells, rows), nil }
	err := table.Scan(ctx, l.source, runtime.NumCPU(), work, func(lines []byte) error {
		if _, err := out.Write(lines); err != nil {
			return err
		}
		if rows >= 0 && len(lines) == 0 {
			return enough
		}
		return nil
	})
	if errors.Is(err, enough) {
		err = nil
	}
	return errors.Join(err, out.Flush())
}

// rowsAsJSON writes the rows of a batch up to a number of the last row; -1 means all.
func rowsAsJSON(b *table.Batch, keys [][]byte, cells []*rulebook.Cells, last int64) []byte {
	values := make([][][]byte, len(b.Columns))
	for c := range b.Columns {
		values[c] = make([][]byte, len(b.Columns[c].Texts))
		for code, text := range b.Columns[c].Texts {
			if cells[c].Read(text).Missing {
				values[c][code] = []byte("null")
			} else {
				values[c][code] = jsonString(text)
			}
		}
	}
	var out []byte
	for i, row := range b.Rows {
		if last >= 0 && int64(row) > last {
			break
		}
		for c := range b.Columns {
			out = append(out, map[bool]string{true: "{", false: ","}[c == 0]...)
			out = append(append(append(out, keys[c]...), ':'), values[c][b.Columns[c].Codes[i]]...)
		}
		if more := b.Surplus[i]; len(more) > 0 {
			out = append(out, `,"cells beyond the columns":[`...)
			for k, text := range more {
				if k > 0 {
					out = append(out, ',')
				}
				out = append(out, jsonString(text)...)
			}
			out = append(out, ']')
		}
		out = append(out, "}\n"...)
	}
	return out
}

func jsonString(text string) []byte {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(text); err != nil {
		return []byte("null")
	}
	return []byte(strings.TrimSuffix(b.String(), "\n"))
}

// records says how the records of a file add up.
func (o *output) records(records, rows, setAside int64, columns int) {
	o.line("%s: %s and %s set aside, in %s.", several(records, "record"), several(rows, "row"),
		several(setAside, "line"), several(int64(columns), "column"))
}

func several(n int64, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return count(n) + " " + word + "s"
}

const defectsShown = 6

func (o *output) defects(defects []table.Defect, n int64) {
	shown := defects[:min(len(defects), defectsShown)]
	first := ""
	if int64(len(shown)) < n {
		first = fmt.Sprintf(" The first %d:", len(shown))
	}
	o.line("%s in the bytes; their rows are kept.%s", document.Counted(n, "defect", "defects"), first)
	g := newGrid(">line", "kind", "column", "detail")
	for _, d := range shown {
		g.add(count(d.Line), string(d.Kind), d.Column, d.Detail)
	}
	o.grid(g, "")
}

// readingFlags are the options that set what is otherwise worked out.
func readingFlags() []cli.Flag {
	return append(unpackingFlags(), []cli.Flag{
		&cli.StringFlag{Category: "Reading", Name: "format",
			Usage: strings.Join(intake.Formats(), ", ")},
		&cli.StringFlag{Category: "Reading", Name: "entry", Usage: "the file of an archive"},
		&cli.StringFlag{Category: "Reading", Name: "sheet", Usage: "the sheet of a workbook"},
		&cli.StringFlag{Category: "Reading", Name: "encoding", Usage: strings.Join(intake.Encodings, ", ")},
		&cli.StringFlag{Category: "Reading", Name: "delimiter", Usage: `one character, or tab`},
		&cli.StringFlag{Category: "Reading", Name: "quote", Usage: "one character, or none"},
		&cli.IntFlag{Category: "Reading", Name: "header-line", Usage: "the line with the names; -1 for none"},
		&cli.StringSliceFlag{Category: "Reading", Name: "closing-lines",
			Usage: "a text with which records at the end begin that are no rows; may be repeated"},
		&cli.StringFlag{Category: "Reading", Name: "decimal-mark", Usage: ". or ,"},
		&cli.StringFlag{Category: "Reading", Name: "grouping-mark", Usage: "the character between thousands"},
		&cli.StringSliceFlag{Category: "Reading", Name: "missing",
			Usage: "a text that stands for a missing value; may be repeated"},
		&cli.StringSliceFlag{Category: "Reading", Name: "dates",
			Usage: "a date pattern, as dd/MM/yyyy; may be repeated"},
	}...)
}

func readingOf(c *cli.Command) (intake.Reading, error) {
	if err := setUnpacking(c); err != nil {
		return intake.Reading{}, err
	}
	r := intake.Reading{Format: c.String("format"), Entry: c.String("entry"), Sheet: c.String("sheet"),
		Encoding:  c.String("encoding"),
		Delimiter: c.String("delimiter"), Quote: c.String("quote"), HeaderLine: c.Int("header-line"),
		Closing:     c.StringSlice("closing-lines"),
		DecimalMark: c.String("decimal-mark"), GroupingMark: c.String("grouping-mark"),
		Missing: c.StringSlice("missing"), Dates: c.StringSlice("dates")}
	if r.Delimiter == "tab" {
		r.Delimiter = "\t"
	}
	if wrong := r.WithDefaults().Check(); len(wrong) > 0 {
		return r, fmt.Errorf("--%s: %s", strings.ReplaceAll(wrong[0].Field, "_", "-"), wrong[0].Message)
	}
	return r, nil
}

// profiledColumns compares the columns, a line each.
func (o *output) profiledColumns(r *audit.Result) {
	g := newGrid("column", "what it is", "type", ">missing", "*where", ">distinct", "*picture", "from", "to", ">mean",
		"most frequent")
	shown, others := o.columnsToShow(r)
	for _, c := range shown {
		missing := ""
		if c.Missing > 0 {
			missing = percent(100*float64(c.Missing)/float64(max(r.Rows, 1))) + "%"
		}
		g.add(shorten(c.Name, 28), string(c.Role), string(c.Type), missing, o.gaps(c, r.Rows), distinct(c),
			o.picture(c), visible(shorten(c.Lowest, 14)), visible(shorten(c.Highest, 14)), shortNumber(c.Mean),
			mostFrequent(c))
	}
	o.grid(g, "The file has no columns.")
	if others != "" {
		o.line("%s", safe(others))
	}
	o.line("%s  where: from the first row to the last, □ holds missing values   picture: how numbers and dates lie, or how often the most frequent values occur", o.styled("2", ""))
}

const (
	gapsWidth    = 16
	pictureWidth = 20
)

// gaps shows where in the file a column misses.
func (o *output) gaps(c *audit.Column, rows int64) string {
	if len(c.Gaps) == 0 {
		return ""
	}
	return o.strip(audit.Mesh{Cells: audit.MeshCells(rows),
		Caught: map[rulebook.Dimension][]uint32{rulebook.Completeness: c.Gaps}}, gapsWidth)
}

// picture draws how the values of a column lie.
func (o *output) picture(c *audit.Column) string {
	var heights []int64
	switch {
	case c.Numbers != nil:
		heights = c.Numbers.Histogram.Rows
	case c.Dates != nil:
		for _, p := range c.Dates.Periods {
			heights = append(heights, p.Rows)
		}
	default:
		for _, f := range c.Frequent {
			heights = append(heights, f.Rows)
		}
	}
	return blocks(heights, pictureWidth)
}

// blocks draws heights as a row of at most width blocks, the highest one full. What is
// not nothing is always to be seen.
func blocks(heights []int64, width int) string {
	if len(heights) > width {
		joined := make([]int64, width)
		for i, h := range heights {
			joined[i*width/len(heights)] += h
		}
		heights = joined
	}
	most := int64(0)
	for _, h := range heights {
		most = max(most, h)
	}
	if most == 0 {
		return ""
	}
	var b strings.Builder
	for _, h := range heights {
		if h == 0 {
			b.WriteByte(' ')
			continue
		}
		b.WriteRune([]rune("▁▂▃▄▅▆▇█")[min(h*8/most, 7)])
	}
	return b.String()
}

// leadsShown is how many lines tell leads, those that may cost most first.
const leadsShown = 10

func (o *output) leads(r *audit.Result) {
	if len(r.Leads) == 0 {
		return
	}
	o.line("")
	o.line("%s", o.styled("1", "What looks odd, though no rule asked; what may cost most first"))
	var says []string
	for _, g := range leads.Gather(r.Leads) {
		for i, one := range g.Says {
			if len(g.Says) == len(g.Leads) {
				one += firstOf(g.Leads[i].FirstRows)
			}
			says = append(says, one)
		}
	}
	most := leadsShown
	if o.all {
		most = len(says)
	}
	for _, one := range says[:min(len(says), most)] {
		o.line("  %s", safe(one))
	}
	if n := len(says) - most; n > 0 {
		o.line("  and %d more; --all shows them", n)
	}
}

// firstOf names some rows.
func firstOf(rows []uint32) string {
	if len(rows) == 0 {
		return ""
	}
	texts := make([]string, 0, 3)
	for _, r := range rows[:min(len(rows), 3)] {
		texts = append(texts, count(int64(r)))
	}
	more := ""
	if len(rows) > 3 {
		more = "; …"
	}
	return " (row " + strings.Join(texts, "; ") + more + ")"
}

func (o *output) patterns(r *audit.Result) {
	complete, others := int64(0), 0
	for _, p := range r.MissingTogether {
		if len(p.Missing) == 0 {
			complete = p.Rows
		} else {
			others++
		}
	}
	if others == 0 {
		return
	}
	o.line("")
	o.line("%s", o.styled("1", "What misses together"))
	o.line("  %s of %s rows are complete.", count(complete), count(r.Rows))
	shown := 0
	for _, p := range r.MissingTogether {
		if len(p.Missing) == 0 || shown == patternsShown && !o.all {
			continue
		}
		shown++
		o.line("  %s %s.", document.Counted(p.Rows, "row lacks", "rows lack"), safe(strings.Join(p.Missing, ", ")))
	}
	atLeast := ""
	if r.MoreTogether {
		atLeast = "at least "
	}
	if more := others - shown; more > 0 {
		o.line("  and %s%d more sets of columns; --all shows them", atLeast, more)
	} else if r.MoreTogether {
		o.line("  and more sets of columns, of fewer rows each")
	}
}

// patternsShown is how many sets of columns that miss together are told.
const patternsShown = 3

func (o *output) between(b *between) {
	o.line("")
	o.line("%s", o.styled("1", "What could be a key"))
	for _, k := range b.Keys {
		says := "names every row"
		if k.Surplus+k.Lacking > 0 {
			says = fmt.Sprintf("names nearly every row: %s surplus, %s without a part of it", count(k.Surplus),
				count(k.Lacking))
		}
		o.line("  %s %s.", safe(strings.Join(k.Columns, " and ")), says)
	}
	if len(b.Keys) == 0 {
		o.line("  No set of up to three columns names the rows.")
	}
	o.line("")
	o.line("%s", o.styled("1", "Correlations"))
	g := newGrid("column", "with", ">linear", ">of ranks", ">pairs of numbers", "")
	for _, p := range strongest(b.Correlations, 12) {
		caution := ""
		if p.trending {
			caution = fmt.Sprintf("both merely run along %s; apart from that %s", alongOf(b.Correlations), signed(p.apart))
		}
		g.add(p.first, p.second, signed(p.pearson), signed(p.spearman), count(p.pairs), caution)
	}
	o.grid(g, "  Fewer than two columns hold numbers.")
}
