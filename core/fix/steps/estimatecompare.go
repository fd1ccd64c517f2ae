package steps

import (
	"context"
	"slices"

	"proudsieve/core/fix"
	"proudsieve/core/fix/estimate"
)

// drawsCompared is how many draws of each gap are compared.
const drawsCompared = 20

// compare weighs the methods by the columns that the step names, whichever of them it has chosen.
func (g *gapFilling) compare(ctx context.Context, t *fix.Table) (*estimate.Comparison, error) {
	drawing := *g
	drawing.method = nearPredictions // which takes the most donors
	whole, err := drawing.gather(ctx, t, nil, nil)
	if err != nil {
		return nil, err
	}
	k := estimate.Known{Column: g.column, Coded: !g.cells[g.at].Type.IsNumber(), There: whole.there, Seed: g.seed}
	k.Donors, k.Observed = whole.donors.Donors()
	k.Gaps, k.Of = whole.gaps.Donors()
	time := -1 // the place of the first date among the numbers
	for _, c := range g.by {
		if !isMeasure(g.cells[c].Type) {
			k.Codes = append(k.Codes, t.Names[c])
			continue
		}
		if time < 0 && (slices.Contains(g.order, c) || !g.cells[c].Type.IsNumber()) {
			time = len(k.Numbers)
		}
		k.Numbers = append(k.Numbers, t.Names[c])
	}
	names := estimate.Settings{AlikeIn: append(slices.Clone(k.Numbers), k.Codes...), Group: append([]string{}, k.Codes...), Order: []string{}}
	if time >= 0 {
		names.Order = k.Numbers[time : time+1]
	}
	return estimate.Weigh(k, g.ways(k.Coded, time, names)), nil
}

// ways are the methods that can be weighed.
func (g *gapFilling) ways(coded bool, time int, names estimate.Settings) []estimate.Way {
	var out []estimate.Way
	add := func(name string, draws int, build func(donors []estimate.Donor) (estimate.Method, error)) {
		w := estimate.Way{Choice: estimate.Choice{Name: name, Build: build}, Draws: draws,
			Settings: estimate.Settings{AlikeIn: []string{}, Group: []string{}, Order: []string{}}}
		switch {
		case draws > 1:
			w.AlikeIn = names.AlikeIn
		case name == inTime:
			w.Group, w.Order = names.Group, names.Order
		default:
			w.Group = names.Group
		}
		out = append(out, w)
	}
	if len(g.by) > 0 && !coded {
		add(nearPredictions, drawsCompared, func(donors []estimate.Donor) (estimate.Method, error) {
			return estimate.NewNearPredictions(donors, g.neighbours, drawsCompared, g.seed)
		})
	}
	if len(g.by) > 0 {
		add(nearestRows, drawsCompared, func(donors []estimate.Donor) (estimate.Method, error) {
			some := spread(len(donors), estimate.MostNeighbours)
			sample := make([]estimate.Donor, len(some))
			for i, at := range some {
				sample[i] = donors[at]
			}
			m, err := estimate.NewNearestRows(sample, g.neighbours, g.seed)
			return sampled{m, some}, err
		})
	}
	if coded {
		return out
	}
	for name, centre := range map[string]estimate.Centre{groupMedian: estimate.Median, groupMean: estimate.Mean} {
		add(name, 1, func(donors []estimate.Donor) (estimate.Method, error) { return estimate.NewGroupCentre(donors, centre) })
	}
	if time >= 0 {
		add(inTime, 1, func(donors []estimate.Donor) (estimate.Method, error) {
			timed := slices.Clone(donors)
			for i := range timed {
				timed[i].Record = atTime(timed[i].Record, time)
			}
			m, err := estimate.NewInTime(timed)
			return timely{m, time}, err
		})
	}
	slices.SortStableFunc(out, func(a, b estimate.Way) int {
		return slices.Index(estimateMethods, a.Name) - slices.Index(estimateMethods, b.Name)
	})
	return out
}

// atTime puts the time first among the numbers of a record.
func atTime(r estimate.Record, time int) estimate.Record {
	return estimate.Record{Numbers: []float64{r.Numbers[time]}, Codes: r.Codes}
}

// timely is a method that looks at the time of records alone, and their group.
type timely struct {
	estimate.Method
	time int
}

// Estimate implements estimate.Method.
func (m timely) Estimate(row int64, of estimate.Record, draw int) (estimate.Estimate, bool) {
	return m.Method.Estimate(row, atTime(of, m.time), draw)
}

// spread returns at most so many places of n, spread evenly over them.
func spread(n, most int) []int {
	out := make([]int, min(n, most))
	for i := range out {
		out[i] = i * n / len(out)
	}
	return out
}

// sampled is a method that knows some of the donors, and speaks of them by their places among all.
type sampled struct {
	estimate.Method
	places []int
}

// Estimate implements estimate.Method.
func (m sampled) Estimate(row int64, of estimate.Record, draw int) (estimate.Estimate, bool) {
	e, ok := m.Method.Estimate(row, of, draw)
	if ok {
		e.Donor = m.places[e.Donor]
	}
	return e, ok
}
