package estimate_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"proudsieve/core/fix/estimate"
)

// survey is a generated table whose truth is known: a measure that depends on another one, a category and chance.
type survey struct {
	donors []estimate.Donor
	gaps   []estimate.Donor // with the value that was taken away
}

var effects = map[string]float64{"spring": 0, "summer": 3, "autumn": -2}

// surveyOf makes rows whose gaps are where lost says.
func surveyOf(rows int, from *rand.Rand, lost func(season string, value float64) bool) (s survey) {
	for row := range rows {
		season := []string{"spring", "summer", "autumn"}[from.IntN(3)]
		flow := 10 + 2*from.NormFloat64()
		value := 1 + 2*flow + effects[season] + 3*from.NormFloat64()
		d := estimate.Donor{Row: int64(row), Value: value, Text: fmt.Sprint(value),
			Record: estimate.Record{Numbers: []float64{flow}, Codes: []string{season}}}
		if lost(season, value) {
			s.gaps = append(s.gaps, d)
		} else {
			s.donors = append(s.donors, d)
		}
	}
	return s
}

// trueMean of surveyOf: 1 + 2*10 and the mean effect of a season.
const trueMean = 21 + 1.0/3

// covers counts the tables whose interval of 95 % holds the true mean.
func covers(t *testing.T, tables int, lost func(from *rand.Rand) func(season string, value float64) bool) (covered int) {
	t.Helper()
	const draws = 20
	for table := range tables {
		from := rand.New(rand.NewPCG(13, uint64(table)))
		s := surveyOf(200, from, lost(from))
		method, err := estimate.NewNearPredictions(s.donors, 5, draws, uint64(table))
		if err != nil {
			t.Fatal(err)
		}
		var there estimate.Moments
		for _, d := range s.donors {
			there.Add(d.Value)
		}
		drawn := make([]estimate.Moments, draws)
		for draw := range draws {
			for _, gap := range s.gaps {
				e, ok := method.Estimate(gap.Row, gap.Record, draw)
				if !ok {
					t.Fatal("near predictions leave no gap")
				}
				drawn[draw].Add(e.Value)
			}
		}
		pooled, err := estimate.PoolMeans(there, drawn)
		if err != nil {
			t.Fatal(err)
		}
		if low, high := pooled.Interval(0.95); low <= trueMean && trueMean <= high {
			covered++
		}
	}
	return covered
}

// The interval of the mean is honest where the gaps are random, or depend on what is known of the row. Where they depend on
// the value itself it is not, and nothing in the rows that are there says so: docs/ warn of it.
func TestTheIntervalOfTheMeanCoversTheTruth(t *testing.T) {
	random := covers(t, 400, func(from *rand.Rand) func(string, float64) bool {
		return func(string, float64) bool { return from.Float64() < 0.3 }
	})
	bySeason := covers(t, 400, func(from *rand.Rand) func(string, float64) bool {
		share := map[string]float64{"spring": 0.1, "summer": 0.6, "autumn": 0.2}
		return func(season string, _ float64) bool { return from.Float64() < share[season] }
	})
	byValue := covers(t, 400, func(from *rand.Rand) func(string, float64) bool {
		return func(_ string, value float64) bool { return value > 24 && from.Float64() < 0.8 }
	})
	t.Logf("of 400 tables the interval covers the truth in %d with random gaps, %d with gaps by season, %d with gaps by value",
		random, bySeason, byValue)
	for name, covered := range map[string]int{"random": random, "by season": bySeason} {
		if share := float64(covered) / 400; share < 0.92 || share > 0.98 {
			t.Errorf("gaps %s: the interval covers the truth in %.1f of 100, want 92 to 98", name, 100*share)
		}
	}
	if byValue > 200 {
		t.Errorf("gaps by the value itself: %d of 400 are covered, though nothing could tell", byValue)
	}
}

// Each draw is what it is whatever was asked for before, and a gap takes over a value that is there.
func TestDrawsAreTheSameInAnyOrder(t *testing.T) {
	s := surveyOf(500, rand.New(rand.NewPCG(1, 2)), func(_ string, value float64) bool { return value > 24 })
	build := map[string]func() (estimate.Method, error){
		"near predictions": func() (estimate.Method, error) { return estimate.NewNearPredictions(s.donors, 5, 3, 7) },
		"nearest rows":     func() (estimate.Method, error) { return estimate.NewNearestRows(s.donors, 5, 7) },
	}
	for name, build := range build {
		t.Run(name, func(t *testing.T) {
			method, err := build()
			if err != nil {
				t.Fatal(err)
			}
			again, err := build()
			if err != nil {
				t.Fatal(err)
			}
			unlike := 0
			var forward []estimate.Estimate
			for _, gap := range s.gaps {
				first, _ := method.Estimate(gap.Row, gap.Record, 0)
				second, _ := method.Estimate(gap.Row, gap.Record, 1)
				if first != second {
					unlike++
				}
				if s.donors[first.Donor].Value != first.Value {
					t.Fatalf("row %d: %v is not the value of donor %d", gap.Row, first.Value, first.Donor)
				}
				forward = append(forward, first)
			}
			if unlike < len(s.gaps)/2 {
				t.Errorf("%d of %d gaps differ between two draws", unlike, len(s.gaps))
			}
			for i, gap := range slices.Backward(s.gaps) {
				if got, _ := again.Estimate(gap.Row, gap.Record, 0); got != forward[i] {
					t.Fatalf("row %d: %v, and %v when asked for last", gap.Row, got, forward[i])
				}
			}
		})
	}
}

// A plain regression in another guise: without chance the value follows from the record, and so do the neighbours.
func TestNearPredictionsFollowTheRegression(t *testing.T) {
	var donors []estimate.Donor
	for i := range 201 {
		x := float64(i)
		donors = append(donors, estimate.Donor{Row: int64(i), Value: 5 - 3*x, Record: estimate.Record{Numbers: []float64{x}}})
	}
	method, err := estimate.NewNearPredictions(donors, 1, 1, 1)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []float64{3, 50, 77.2, 200, 1000} {
		got, _ := method.Estimate(9, estimate.Record{Numbers: []float64{x}}, 0)
		if want := 5 - 3*min(math.Round(x), 200); got.Value != want {
			t.Errorf("at %v: %v, want %v", x, got.Value, want)
		}
	}
}

// Where predictions are equal, every one of those donors is as likely, wherever it stands in the table.
func TestEqualPredictionsAreDrawnAmong(t *testing.T) {
	var donors []estimate.Donor
	for i := range 100 {
		donors = append(donors, estimate.Donor{Row: int64(i), Value: float64(i), Record: estimate.Record{Codes: []string{"one"}}})
	}
	method, err := estimate.NewNearPredictions(donors, 5, 1, 1)
	if err != nil {
		t.Fatal(err)
	}
	times := make([]int, 100)
	for row := range int64(10_000) {
		e, _ := method.Estimate(row, estimate.Record{Codes: []string{"one"}}, 0)
		times[e.Donor]++
	}
	// 100 expected of each; five standard deviations of a binomial count are 50.
	for donor, n := range times {
		if n < 50 || n > 150 {
			t.Errorf("donor %d was drawn %d times of 10,000", donor, n)
		}
	}
}

// Columns that are constant, that repeat others, or that lack values do no harm, and codes of gaps alone are met.
func TestPoorRecordsAreMet(t *testing.T) {
	from := rand.New(rand.NewPCG(3, 4))
	var donors []estimate.Donor
	for i := range 300 {
		x := from.NormFloat64()
		gap := x
		if i%3 == 0 {
			gap = math.NaN()
		}
		donors = append(donors, estimate.Donor{Row: int64(i), Value: 100 * x,
			Record: estimate.Record{Numbers: []float64{x, x, 4, gap}, Codes: []string{"only", fmt.Sprint("rare", i%50)}}})
	}
	method, err := estimate.NewNearPredictions(donors, 3, 2, 1)
	if err != nil {
		t.Fatal(err)
	}
	got, ok := method.Estimate(1, estimate.Record{Numbers: []float64{1, 1, 7, math.Inf(1)}, Codes: []string{"", "never"}}, 1)
	if !ok || math.Abs(got.Value-100) > 30 {
		t.Errorf("%v, want about 100", got.Value)
	}
}

func TestNearestRowsAreThoseOfLeastDistance(t *testing.T) {
	record := func(a, b float64, code string) estimate.Record {
		return estimate.Record{Numbers: []float64{a, b}, Codes: []string{code}}
	}
	// Standard deviations of the donors by hand: of 0, 10, 20 it is 10; of 1, 1, 4 it is the root of 3.
	donors := []estimate.Donor{
		{Row: 0, Value: 1, Record: record(0, 1, "a")},
		{Row: 1, Value: 2, Record: record(10, 1, "b")},
		{Row: 2, Value: 3, Record: record(20, 4, "a")},
	}
	nearest, err := estimate.NewNearestRows(donors, 1, 5)
	if err != nil {
		t.Fatal(err)
	}
	gap := math.NaN()
	for _, c := range []struct {
		of   estimate.Record
		want float64
	}{
		{record(1, 1, "a"), 1},
		{record(9, 1, "b"), 2},
		{record(8, 1, "a"), 1},     // 0.64 from the first, 0.04 + 1 from the second for another code
		{record(gap, gap, "b"), 2}, // only the code is known
		{record(gap, 4, ""), 3},
	} {
		if got, ok := nearest.Estimate(1, c.of, 0); !ok || got.Value != c.want {
			t.Errorf("%v: %v, want %v", c.of, got.Value, c.want)
		}
	}
	if _, ok := nearest.Estimate(1, record(gap, gap, ""), 0); ok {
		t.Error("a row of which nothing is known has a neighbour")
	}
}

// The neighbours of many random rows are those that sorting all of them by their distance would give.
func TestNearestRowsAgainstSorting(t *testing.T) {
	from := rand.New(rand.NewPCG(5, 6))
	s := surveyOf(400, from, func(_ string, value float64) bool { return value > 23 })
	nearest, err := estimate.NewNearestRows(s.donors, 7, 1)
	if err != nil {
		t.Fatal(err)
	}
	var flows []float64
	for _, d := range s.donors {
		flows = append(flows, d.Numbers[0])
	}
	deviation := deviationOf(flows)
	for _, gap := range s.gaps {
		order := slices.Clone(s.donors)
		far := func(d estimate.Donor) float64 {
			off := (d.Numbers[0] - gap.Numbers[0]) / deviation
			if d.Codes[0] != gap.Codes[0] {
				return off*off + 1
			}
			return off * off
		}
		slices.SortFunc(order, func(a, b estimate.Donor) int {
			if far(a) < far(b) {
				return -1
			}
			return 1
		})
		for draw := range 10 {
			e, _ := nearest.Estimate(gap.Row, gap.Record, draw)
			if !slices.ContainsFunc(order[:7], func(d estimate.Donor) bool { return d.Row == s.donors[e.Donor].Row }) {
				t.Fatalf("row %d: donor %d is not among the seven nearest", gap.Row, e.Donor)
			}
		}
	}
}

func deviationOf(values []float64) float64 {
	var sum, squares float64
	for _, v := range values {
		sum += v
	}
	mean := sum / float64(len(values))
	for _, v := range values {
		squares += (v - mean) * (v - mean)
	}
	return math.Sqrt(squares / float64(len(values)-1))
}
