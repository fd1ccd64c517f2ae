package estimate_test

import (
	"errors"
	"math"
	"math/rand/v2"
	"reflect"
	"testing"

	"proudsieve/core/fix/estimate"
)

// Which donors are kept depends on seed and rows, not on who met them in what order.
func TestDonorsAreTheSameForAnyWorkers(t *testing.T) {
	gather := func(rows []int64, seed uint64) *estimate.Gathering {
		g := estimate.NewGathering(seed, 50)
		for _, row := range rows {
			if g.Wants(row) {
				g.Add(estimate.Donor{Row: row, Value: float64(row)})
			}
		}
		return g
	}
	rows := make([]int64, 5000)
	for i := range rows {
		rows[i] = int64(i)
	}
	one, met := gather(rows, 9).Donors()
	if len(one) != 50 || met != 5000 {
		t.Fatalf("%d donors of %d rows, want 50 of 5,000", len(one), met)
	}
	rand.New(rand.NewPCG(1, 1)).Shuffle(len(rows), func(i, j int) { rows[i], rows[j] = rows[j], rows[i] })
	first := gather(rows[:3700], 9)
	first.Join(gather(rows[3700:], 9))
	two, met := first.Donors()
	if !reflect.DeepEqual(one, two) || met != 5000 {
		t.Error("two workers keep other donors than one")
	}
	if other, _ := gather(rows, 10).Donors(); reflect.DeepEqual(one, other) {
		t.Error("another seed keeps the same donors")
	}
	// Each tenth of the table is as likely: 5,000 donors of 50,000 rows, 500 from each tenth, five deviations of 106.
	g := estimate.NewGathering(1, 5000)
	for row := range int64(50_000) {
		if g.Wants(row) {
			g.Add(estimate.Donor{Row: row})
		}
	}
	donors, _ := g.Donors()
	var tenths [10]int
	for _, d := range donors {
		tenths[d.Row/5000]++
	}
	for i, n := range tenths {
		if n < 394 || n > 606 {
			t.Errorf("%d donors are of tenth %d", n, i+1)
		}
	}
}

// By hand: three draws of 10, 12 and 11 with variances of 1, 1.2 and 0.8, of 100 rows. The mean is 11, within 1, between 1;
// total 1 + 4/3; the share lost 4/7; degrees of freedom 2/(4/7)² = 6.125 and 100/102 × 99 × 3/7 = 41.5966, together 5.33888.
func TestRubinsRulesByHand(t *testing.T) {
	p, err := estimate.Pool([]float64{10, 12, 11}, []float64{1, 1.2, 0.8}, 99)
	if err != nil {
		t.Fatal(err)
	}
	want := estimate.Pooled{Value: 11, Error: math.Sqrt(7.0 / 3), Freedom: 5.33888, Lost: 4.0 / 7}
	for i, pair := range [][2]float64{
		{p.Value, want.Value}, {p.Error, want.Error}, {p.Freedom, want.Freedom}, {p.Lost, want.Lost}} {
		if math.Abs(pair[0]-pair[1]) > 1e-4 {
			t.Errorf("number %d: %v, want %v", i, pair[0], pair[1])
		}
	}
	// Tables of Student's distribution: 2.571 at 5 and 2.447 at 6 degrees of freedom, two-sided, 95 %.
	low, high := p.Interval(0.95)
	if half := (high - low) / 2 / p.Error; half < 2.447 || half > 2.571 || math.Abs((low+high)/2-11) > 1e-9 {
		t.Errorf("the interval is %v to %v", low, high)
	}
	if _, err := estimate.Pool([]float64{10}, []float64{1}, 99); err == nil {
		t.Error("one draw says how unsure it is")
	}
	if same, _ := estimate.Pool([]float64{4, 4}, []float64{1, 1}, 9); same.Freedom != 9 || same.Lost != 0 {
		t.Errorf("draws that agree lose nothing: %+v", same)
	}
}

func TestGroupsAndTime(t *testing.T) {
	at := func(time, value float64, group string) estimate.Donor {
		return estimate.Donor{Value: value, Record: estimate.Record{Numbers: []float64{time}, Codes: []string{group}}}
	}
	donors := []estimate.Donor{at(0, 10, "a"), at(10, 20, "a"), at(10, 30, "a"), at(20, 5, "a"), at(0, 1, "b"), at(4, 2, "b")}
	of := func(time float64, group string) estimate.Record {
		return estimate.Record{Numbers: []float64{time}, Codes: []string{group}}
	}
	build := func(m estimate.Method, err error) estimate.Method {
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	mean := build(estimate.NewGroupCentre(donors, estimate.Mean))
	median := build(estimate.NewGroupCentre(donors, estimate.Median))
	inTime := build(estimate.NewInTime(donors))
	for _, c := range []struct {
		method estimate.Method
		of     estimate.Record
		want   float64
		ok     bool
	}{
		{mean, of(0, "a"), 65.0 / 4, true},
		{median, of(0, "a"), 15, true}, // between 10 and 20
		{median, of(0, "b"), 1.5, true},
		{mean, of(0, "c"), 0, false},
		{inTime, of(5, "a"), 17.5, true}, // half way from 10 to the mean of 20 and 30
		{inTime, of(10, "a"), 25, true},
		{inTime, of(12, "a"), 21, true},
		{inTime, of(1, "b"), 1.25, true},
		{inTime, of(-1, "a"), 0, false},
		{inTime, of(21, "a"), 0, false},
		{inTime, of(math.NaN(), "a"), 0, false},
		{inTime, of(0, "c"), 0, false},
	} {
		got, ok := c.method.Estimate(0, c.of, 0)
		if ok != c.ok || ok && (got.Value != c.want || got.Donor != -1) {
			t.Errorf("%T %v: %v %v, want %v %v", c.method, c.of, got, ok, c.want, c.ok)
		}
	}
}

// What narrows a column is told by the comparison, as is what keeps it.
func TestMethodsAreComparedOnWhatWasHidden(t *testing.T) {
	s := surveyOf(4000, rand.New(rand.NewPCG(7, 8)), func(string, float64) bool { return false })
	choices := []estimate.Choice{
		{"mean", func(d []estimate.Donor) (estimate.Method, error) { return estimate.NewGroupCentre(d, estimate.Mean) }},
		{"near predictions", func(d []estimate.Donor) (estimate.Method, error) { return estimate.NewNearPredictions(d, 5, 1, 1) }},
		{"none", func(d []estimate.Donor) (estimate.Method, error) { return estimate.NewNearPredictions(d[:3], 5, 1, 1) }},
	}
	trials := estimate.Compare(s.donors, choices, 1)
	if !reflect.DeepEqual(trials, estimate.Compare(s.donors, choices, 1)) {
		t.Error("the same seed hides other values")
	}
	mean, near, none := trials[0], trials[1], trials[2]
	if mean.Hidden != 400 || mean.Filled != 400 || near.Filled != 400 {
		t.Fatalf("%+v", trials)
	}
	// By how the table is made: a season's mean is off by the root of 4×4 + 9 = 5; a draw by the root of 2×9 = 4.24.
	if math.Abs(mean.Error-5) > 0.5 || math.Abs(near.Error-4.24) > 0.5 {
		t.Errorf("errors of %.2f and %.2f, want about 5 and 4.24", mean.Error, near.Error)
	}
	if math.Abs(near.Spread-1) > 0.01 || mean.Spread > 0.97 {
		t.Errorf("spreads of %.3f and %.3f: a mean narrows the column, a draw keeps it", mean.Spread, near.Spread)
	}
	lost := func(trial estimate.Trial) float64 { return trial.Kept[0].True - trial.Kept[0].Estimated }
	if math.Abs(lost(near)) > 0.01 || lost(mean) < 0.02 {
		t.Errorf("correlations fall by %.3f and %.3f: a mean weakens them, a draw keeps them", lost(mean), lost(near))
	}
	if !errors.Is(none.Trouble, estimate.ErrTooFew) {
		t.Errorf("a method that cannot be built says %v", none.Trouble)
	}
}
