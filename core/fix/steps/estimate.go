package steps

import (
	"context"
	"fmt"
	"slices"

	"proudsieve/core/fix"
	"proudsieve/core/fix/estimate"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// By what gaps are estimated.
const (
	groupMean       = "group_mean"
	groupMedian     = "group_median"
	inTime          = "in_time"
	nearestRows     = "nearest_rows"
	nearPredictions = "near_predictions"
)

var estimateMethods = []string{nearPredictions, nearestRows, groupMedian, groupMean, inTime}

const (
	neighboursUsual = 5
	neighboursMost  = 1000
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;7,1;01/05/2024\nS2;AV-001;PH;;02/05/2024\nS3;AV-001;PH;7,5;05/05/2024\n",
			Step: "{do: estimate, column: value, method: in_time, group: [station], order: [taken]}"},
		KeepsMarks: true,
		Name:       "estimate", Says: "fills missing cells with estimates, which are marked as such for ever",
		Fields: []fix.Field{
			{Name: "column", Kind: "column", Says: "The column whose gaps are filled", Required: true},
			{Name: "method", Kind: "choice", Choices: estimateMethods, Required: true,
				Says: "How: near_predictions and nearest_rows draw the value of a row that is alike; group_median and group_mean take what stands for the group; in_time goes straight from the value before to the one after"},
			{Name: "alike_in", Kind: "columns", Says: "The columns by whose values rows are alike, for near_predictions and nearest_rows"},
			groupField, orderField,
			{Name: "neighbours", Kind: "number", Says: "Among how many rows that are alike one is drawn; 5 where it is left out"},
			{Name: "draws", Kind: "number", Says: "How many estimates are drawn of each gap, up to 50; the table has the first, and how they differ says how unsure they are; 1 where it is left out"},
			{Name: "seed", Kind: "number", Says: "The number that chance begins with: the same one draws the same again; 1 where it is left out"},
			{Name: "decimals", Kind: "number", Says: "To how many decimals what is worked out is rounded; as many as the values have where it is left out"},
			whereField},
		Declare: declareEstimate,
	})
}

func declareEstimate(i *fix.Item) fix.Action {
	e := estimateGaps{column: i.TextOf("column"), method: i.ChoiceOf("method", "a way to estimate", nil, estimateMethods...), alike: i.TextsOf("alike_in"),
		group: i.TextsOf("group"), order: i.TextsOf("order"), seed: 1, draws: 1, neighbours: neighboursUsual, decimals: -1}
	draws := e.method == nearPredictions || e.method == nearestRows
	goesWith := func(field string, taken bool, with string) {
		if i.Gives(field) && !taken {
			i.Wrong(field, "%q goes with method: %s", field, with)
		}
	}
	const drawing = nearPredictions + " and method: " + nearestRows
	goesWith("alike_in", draws, drawing)
	goesWith("neighbours", draws, drawing)
	goesWith("draws", draws, drawing)
	goesWith("seed", draws, drawing)
	goesWith("decimals", !draws, groupMean+", "+groupMedian+" and "+inTime)
	goesWith("group", !draws, groupMean+", "+groupMedian+" and "+inTime+"; name its columns in \"alike_in\" here")
	goesWith("order", e.method == inTime, inTime)
	switch {
	case draws && len(e.alike) == 0:
		i.Wrong("", "method: %s needs \"alike_in\", the columns by whose values rows are alike", e.method)
	case e.method == inTime && len(e.order) != 1:
		i.Wrong("order", "method: in_time needs in \"order\" the one column that has the time")
	case slices.Contains(e.alike, e.column) || slices.Contains(e.group, e.column) || slices.Contains(e.order, e.column):
		i.Wrong("column", "%q cannot be estimated by its own values", e.column)
	}
	if i.Gives("neighbours") {
		e.neighbours = i.WholeOf("neighbours", 1, neighboursMost)
	}
	if i.Gives("draws") {
		e.draws = i.WholeOf("draws", 1, estimate.MostDraws)
	}
	if i.Gives("seed") {
		e.seed = uint64(i.WholeOf("seed", 0, 1<<31-1))
	}
	if i.Gives("decimals") {
		e.decimals = i.WholeOf("decimals", 0, 12)
	}
	return e
}

type estimateGaps struct {
	column, method       string
	alike, group, order  []string
	seed                 uint64
	draws                int
	neighbours, decimals int // decimals below 0 for as many as the values have
}

// Bind implements fix.Action.
func (e estimateGaps) Bind(b *fix.Binder) *fix.Work {
	g := &gapFilling{estimateGaps: e, at: b.Column("column", e.column), by: b.Columns("alike_in", e.alike)}
	g.group, g.order = b.Columns("group", e.group), b.Columns("order", e.order)
	g.by = slices.Concat(g.by, g.order, g.group)
	if g.at < 0 || slices.Contains(g.by, -1) {
		return nil
	}
	g.cells = b.Cells
	if t := b.Cells[g.at].Type; !t.IsNumber() && e.method != nearestRows {
		b.Wrong("column", "its values are of type %s; method: %s is for numbers, and method: %s for any type", t, e.method, nearestRows)
	}
	for _, c := range g.order {
		if t := b.Cells[c].Type; !isMeasure(t) {
			b.Wrong("order", "its values are of type %s; a time is a date, a datetime or a number", t)
		}
	}
	how := &table.Mark{Column: e.column, Method: e.method, Seed: e.seed, Draws: e.draws}
	if e.method != nearPredictions && e.method != nearestRows {
		how.Seed = 0 // chance has no part in it
	}
	return &fix.Work{Estimates: how, Settle: g.settle, Compare: g.compare, Note: func(counts map[string]int64) string {
		return joined(counting(counts[fix.LeftOpen], "gap stays one, since there is nothing to estimate it by", "gaps stay ones, since there is nothing to estimate them by"),
			counting(counts[untyped], "cell has a text that is no value of its type; it was neither filled nor drawn from", "cells have texts that are no values of their type; they were neither filled nor drawn from"))
	}}
}

// untyped is what texts that are no values of their type are counted as.
const untyped = "no value"

// isMeasure reports whether values of a type have distances.
func isMeasure(t table.Type) bool {
	return t.IsNumber() || t == table.TypeDate || t == table.TypeDateTime
}

// gapFilling is estimateGaps fitted to the columns.
type gapFilling struct {
	estimateGaps
	at           int
	by           []int // the columns of records: alike_in, or the order and the group
	group, order []int
	cells        []*rulebook.Cells
}

// donorsMost is how many donors a method has at most.
func (g *gapFilling) donorsMost() int {
	if g.method == nearestRows {
		return estimate.MostNeighbours
	}
	return estimate.MostDonors
}

// evidence is what a step knows of the whole table before it estimates.
type evidence struct {
	donors, gaps *estimate.Gathering
	there        estimate.Moments
	places       int // decimals of the values, at most
	// records are the rows on their way to be put in order, and members name the group of each value, where the method asks
	// for that.
	records, members []record
}

// gather looks at the whole table; more, unless nil, adds to what is known of each batch, and take is given it in the order
// of the table.
func (g *gapFilling) gather(ctx context.Context, t *fix.Table, more func(*evidence, *fix.Rows), take func(*evidence) error) (*evidence, error) {
	t.Want(append([]int{g.at}, g.by...)...)
	whole := &evidence{donors: estimate.NewGathering(g.seed, g.donorsMost()), gaps: estimate.NewGathering(g.seed, estimate.MostNeighbours)}
	err := fix.Scan(ctx, t, nil, func(rows *fix.Rows) (*evidence, error) {
		part := &evidence{donors: whole.donors.Part(), gaps: whole.gaps.Part()}
		part.add(g, rows)
		if more != nil {
			more(part, rows)
		}
		return part, nil
	}, func(part *evidence) error {
		whole.donors.Join(part.donors)
		whole.gaps.Join(part.gaps)
		whole.there.Join(part.there)
		whole.places = max(whole.places, part.places)
		if take == nil {
			return nil
		}
		return take(part)
	})
	return whole, err
}

func (p *evidence) add(g *gapFilling, rows *fix.Rows) {
	of := g.recorder(rows)
	counts, cells := rows.Counts(g.at), rows.Read(g.at)
	for code, n := range counts {
		if cells[code].Mistyped {
			rows.Count(untyped, n)
		}
	}
	g.visit(rows, func(at int, cell rulebook.Cell) {
		p.places = max(p.places, cell.Value.Number.Places())
		value := numberOf(cell.Value)
		if cell.Value.Kind == table.Number {
			p.there.Add(value)
		}
		if row := int64(rows.Rows[at]); p.donors.Wants(row) {
			p.donors.Add(estimate.Donor{Row: row, Value: value, Text: rows.Text(g.at, at), Record: of(at)})
		}
	}, func(at int) {
		if row := int64(rows.Rows[at]); p.gaps.Wants(row) {
			p.gaps.Add(estimate.Donor{Row: row, Record: of(at)})
		}
	})
}

// visit goes through the rows that are meant: those with a value that was observed, and those with a gap.
func (g *gapFilling) visit(rows *fix.Rows, there func(at int, cell rulebook.Cell), gap func(at int)) {
	cells, estimated := rows.Read(g.at), rows.Estimated(g.at)
	for at, code := range rows.Columns[g.at].Codes {
		switch cell := cells[code]; {
		case !rows.Means(at) || estimated(at):
		case cell.Missing:
			gap(at)
		case !cell.Mistyped:
			there(at, cell)
		}
	}
}

// recorder returns what is known of a row beside the value.
func (g *gapFilling) recorder(rows *fix.Rows) func(at int) estimate.Record {
	read := make([][]rulebook.Cell, len(g.by))
	for i, c := range g.by {
		read[i] = rows.Read(c)
	}
	return func(at int) estimate.Record {
		var r estimate.Record
		for i, c := range g.by {
			code := rows.Columns[c].Codes[at]
			cell := read[i][code]
			switch {
			case isMeasure(g.cells[c].Type):
				r.Numbers = append(r.Numbers, numberOf(cell.Value))
			case cell.Missing || cell.Mistyped:
				r.Codes = append(r.Codes, "")
			default:
				r.Codes = append(r.Codes, cell.Identity(rows.Columns[c].Texts[code]))
			}
		}
		return r
	}
}

// numberOf returns a value as a number: a date in days, a datetime in microseconds; NaN for what has no distance.
func numberOf(v table.Value) float64 {
	switch v.Kind {
	case table.Number:
		return v.Number.Float()
	case table.Date, table.Instant:
		return float64(v.When)
	}
	return notANumber
}

func (g *gapFilling) settle(ctx context.Context, t *fix.Table) (*fix.Work, error) {
	if g.method == nearPredictions || g.method == nearestRows {
		return g.settleDraws(ctx, t)
	}
	return g.settleGroups(ctx, t)
}

// estimated says what the step went by.
func (g *gapFilling) estimated(whole *evidence) *fix.Estimated {
	donors, met := whole.donors.Donors()
	gaps, _ := whole.gaps.Donors()
	e := &fix.Estimated{Column: g.column, Method: g.method, Seed: g.seed, Draws: g.draws, Observed: met, There: whole.there}
	if g.method == nearPredictions || g.method == nearestRows {
		e.Donors = len(donors)
	} else {
		e.Seed = 0
	}
	if whole.there.N > 0 {
		e.Warnings = estimate.Warnings(donors, gaps)
	}
	return e
}

// build makes the method that draws.
func (g *gapFilling) build(donors []estimate.Donor) (estimate.Method, error) {
	if g.method == nearestRows {
		return estimate.NewNearestRows(donors, g.neighbours, g.seed)
	}
	return estimate.NewNearPredictions(donors, g.neighbours, g.draws, g.seed)
}

// settleDraws draws the gaps from donors.
func (g *gapFilling) settleDraws(ctx context.Context, t *fix.Table) (*fix.Work, error) {
	whole, err := g.gather(ctx, t, nil, nil)
	if err != nil {
		return nil, err
	}
	donors, _ := whole.donors.Donors()
	method, err := g.build(donors)
	if err != nil {
		t.Refuse(fmt.Sprintf("%s cannot be estimated by %s: %v", g.column, g.method, err), whole.gapsMet())
		return &fix.Work{Estimated: g.estimated(whole)}, nil
	}
	values := make([]table.Value, len(donors))
	for i, d := range donors {
		values[i] = g.cells[g.at].Read(d.Text).Value
	}
	return &fix.Work{Estimated: g.estimated(whole), Reads: append([]int{g.at}, g.by...), Edit: func(rows *fix.Rows) ([]fix.Edit, error) {
		cells, of := rows.Read(g.at), g.recorder(rows)
		edit := rows.Each(g.at, func(at int) (string, bool) {
			if !cells[rows.Columns[g.at].Codes[at]].Missing {
				return "", true
			}
			e, ok := method.Estimate(int64(rows.Rows[at]), of(at), 0)
			if !ok {
				rows.Count(fix.LeftOpen, 1)
				return "", true
			}
			return donors[e.Donor].Text, false
		})
		edit.Draws = func(at int) []table.Value {
			out := make([]table.Value, g.draws)
			record := of(at)
			for draw := range out {
				e, _ := method.Estimate(int64(rows.Rows[at]), record, draw)
				out[draw] = values[e.Donor]
			}
			return out
		}
		return []fix.Edit{edit}, nil
	}}, nil
}

// gapsMet returns how many gaps there are.
func (p *evidence) gapsMet() int64 {
	_, met := p.gaps.Donors()
	return met
}
