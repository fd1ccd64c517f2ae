package merge

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"

	"proudsieve/core/fix"
	_ "proudsieve/core/fix/steps" // change_grain
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/core/scratch"
	"proudsieve/core/table"
)

// Grain makes one row of those of a table that are alike in some columns, or fall into one period, before it takes part. It is
// what a step change_grain does.
type Grain struct {
	Says   string // as it is written
	Group  []string
	Time   string // a column of dates or datetimes; "" for none
	Period string
	Gather []Gathered
}

// Gathered is a column with what becomes of it where rows become one.
type Gathered struct{ Column, How string }

// grainForm says how a grain is written.
const grainForm = "station, day of read_at: mean of level, sum of flow"

// rowsGathered is the column that says how many rows each was made of.
const rowsGathered = "rows_gathered"

var (
	periodOf = regexp.MustCompile(`^(hour|day|week|month|quarter|year) of (.+)$`)
	gatherOf = regexp.MustCompile(`^(sum|mean|count|least|largest|first|last|share_true) of (.+)$`)
	// grainPart is a name between the commas, in quotes where it has signs of its own.
	grainPart = regexp.MustCompile(`^\s*((?:[a-z_]+ of )?)("[^"]+"|[^",:]+?)\s*(?:,|$)`)
)

// ParseGrain reads a grain: what rows have in common, a colon, and what becomes of other columns.
func ParseGrain(text string) (g Grain, err error) {
	wrong := fmt.Errorf("a grain is written as %q: what rows have in common, then what becomes of other columns; not %q", grainForm, text)
	by, gather, ok := cutOutside(text, ':')
	if !ok {
		return g, wrong
	}
	g.Says = text
	each := func(text string, take func(one string) bool) bool {
		for text = strings.TrimSpace(text); text != ""; {
			m := grainPart.FindStringSubmatch(text)
			if m == nil || !take(m[1]+strings.Trim(m[2], `"`)) {
				return false
			}
			text = strings.TrimSpace(text[len(m[0]):])
		}
		return true
	}
	ok = each(by, func(one string) bool {
		if m := periodOf.FindStringSubmatch(one); m != nil && g.Time == "" {
			g.Period, g.Time = m[1], m[2]
			return true
		}
		g.Group = append(g.Group, one)
		return true
	}) && each(gather, func(one string) bool {
		m := gatherOf.FindStringSubmatch(one)
		if m == nil {
			return false
		}
		g.Gather = append(g.Gather, Gathered{m[2], m[1]})
		return true
	})
	if !ok || len(g.Gather) == 0 || len(g.Group) == 0 && g.Time == "" {
		return g, wrong
	}
	return g, nil
}

// cutOutside cuts a text at a sign that stands outside of quotes.
func cutOutside(text string, sign rune) (before, after string, ok bool) {
	quoted := false
	for i, r := range text {
		if r == '"' {
			quoted = !quoted
		}
		if r == sign && !quoted {
			return text[:i], text[i+1:], true
		}
	}
	return text, "", false
}

// step is the grain as a step of a fix plan.
func (g *Grain) step() string {
	quoted := make([]string, len(g.Group))
	for i, c := range g.Group {
		quoted[i] = rulebook.Quoted(c)
	}
	gather := make([]string, len(g.Gather))
	for i, one := range g.Gather {
		gather[i] = rulebook.Quoted(one.Column) + ": " + one.How
	}
	s := "{do: change_grain, reason: The merge changes the grain., group: [" + strings.Join(quoted, ", ") + "]"
	if g.Time != "" {
		s += ", time: " + rulebook.Quoted(g.Time) + ", period: " + g.Period
	}
	return s + ", gather: {" + strings.Join(gather, ", ") + "}, rows_into: " + rowsGathered + "}"
}

// GrainResult says what changing the grain of a table did.
type GrainResult struct {
	Says       string `json:"says"`
	RowsBefore int64  `json:"rows_before"` // of the table
	SumsBefore Sums   `json:"sums_before"` // of the measures that are summed
	Note       string `json:"note,omitempty"`
}

// change returns the table as it takes part, and what became of its rows. The file that it is in is closed with the merge.
func (g *Grain) change(ctx context.Context, in *Input, workers int) (*Input, *GrainResult, *os.File, error) {
	plan, err := fix.Parse([]byte("fix_plan: grain\ndataset: "+in.Book.Dataset+"\nsteps:\n  - "+g.step()+"\n"), in.Book)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the grain of %s: %w", in.label(), err)
	}
	f, err := scratch.File("grain")
	if err != nil {
		return nil, nil, nil, err
	}
	var marks bytes.Buffer
	ledger, err := fix.Run(ctx, fix.Input{Source: in.Source, Book: in.Book}, plan, workers, fix.Outputs{Table: f, Marks: &marks})
	if err == nil {
		err = ledger.Refused()
	}
	if err != nil {
		return nil, nil, f, fmt.Errorf("the grain of %s: %w", in.label(), err)
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return nil, nil, f, err
	}
	reading := intake.Standard()
	reading.Missing = ledger.Reading.Missing
	source, err := intake.Open(ctx, func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(io.NewSectionReader(f, offset, size-offset)), nil
	}, reading)
	if err != nil {
		return nil, nil, f, err
	}
	if marks.Len() > 0 {
		if source.Estimated, err = table.ReadMarks(&marks); err != nil {
			return nil, nil, f, err
		}
	}
	out := *in
	out.Source, out.Book = source, g.book(in.Book, ledger)
	r := &GrainResult{Says: g.Says, RowsBefore: ledger.RowsIn, SumsBefore: Sums{}, Note: ledger.Steps[0].Note}
	for _, m := range out.Book.Measures {
		r.SumsBefore[m] = ledger.SumsIn[m]
	}
	return &out, r, f, nil
}

// book is the rulebook of the table after the change: a mean of whole numbers is none, and sums are kept of what is summed.
func (g *Grain) book(book *rulebook.Rulebook, ledger *fix.Ledger) *rulebook.Rulebook {
	out := *book.ForTable(ledger.Reading)
	out.Columns, out.Rules, out.Measures = nil, nil, nil
	for _, c := range book.Columns {
		if !slices.Contains(ledger.Columns, c.Name) {
			continue
		}
		at := slices.IndexFunc(g.Gather, func(one Gathered) bool { return one.Column == c.Name })
		if at >= 0 {
			switch g.Gather[at].How {
			case "mean", "share_true":
				c.Type = table.TypeDecimal
			case "count":
				c.Type, c.CodeList = table.TypeInteger, ""
			case "sum":
				if slices.Contains(book.Measures, c.Name) {
					out.Measures = append(out.Measures, c.Name)
				}
			}
		}
		out.Columns = append(out.Columns, c)
	}
	out.Columns = append(out.Columns, rulebook.Column{Name: rowsGathered, Type: table.TypeInteger, Weight: 1})
	return &out
}

// changeGrains puts the tables whose grain is changed in the place of those that arrived.
func (m *merger) changeGrains(ctx context.Context, inputs Inputs, workers int) (Inputs, error) {
	out := slices.Clone(inputs)
	for i := range out {
		g, ok := m.plan.Grains[out[i].Dataset]
		if !ok {
			continue
		}
		now, result, file, err := g.change(ctx, &out[i], workers)
		if file != nil {
			m.files = append(m.files, file)
		}
		if err != nil {
			return nil, err
		}
		out[i] = *now
		out[i].grain = result
	}
	return out, nil
}
