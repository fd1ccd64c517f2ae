package estimate_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"proudsieve/core/fix/estimate"
)

func TestWarningsWhereTheGapsShowWhatTheyDependOn(t *testing.T) {
	from := rand.New(rand.NewPCG(21, 22))
	for name, c := range map[string]struct {
		lost func(season string, value float64) bool
		want []string
	}{
		"random": {func(string, float64) bool { return from.Float64() < 0.3 }, nil},
		"where the value is high, and so is the flow that goes with it": {func(_ string, value float64) bool { return value > 24 && from.Float64() < 0.8 },
			[]string{"standard deviations higher on average"}},
		"where the value is beyond a limit": {func(_ string, value float64) bool { return value > 22 },
			[]string{"standard deviations higher on average", "The values end abruptly at their highest, 21.99"}},
		"where the value is below a limit": {func(_ string, value float64) bool { return value < 22 },
			[]string{"standard deviations lower on average", "The values end abruptly at their lowest, 22.0"}},
	} {
		s := surveyOf(3000, from, c.lost)
		got := estimate.Warnings(s.donors, s.gaps)
		if len(got) != len(c.want) {
			t.Errorf("gaps %s: %v", name, got)
			continue
		}
		for i, want := range c.want {
			if !strings.Contains(got[i], want) {
				t.Errorf("gaps %s: %s, want %s", name, got[i], want)
			}
		}
	}
	few := surveyOf(60, from, func(_ string, value float64) bool { return value > 22 })
	if got := estimate.Warnings(few.donors, few.gaps); got != nil {
		t.Errorf("60 rows say %v", got)
	}
}

// A gap that depends on nothing that is known, and not on the value, shows nothing; one that depends on the season does.
func TestOnWhatGapsDepend(t *testing.T) {
	from := rand.New(rand.NewPCG(5, 15))
	s := surveyOf(4000, from, func(season string, _ float64) bool {
		return from.Float64() < map[string]float64{"spring": 0.1, "summer": 0.6, "autumn": 0.2}[season]
	})
	var there estimate.Moments
	for _, d := range s.donors {
		there.Add(d.Value)
	}
	c := estimate.Weigh(estimate.Known{Column: "load", Numbers: []string{"flow"}, Codes: []string{"season"}, Donors: s.donors, Gaps: s.gaps,
		Observed: int64(len(s.donors)), Of: int64(len(s.gaps)), There: there, Seed: 1}, nil)
	if d := c.Depends[0]; d.Column != "season" || d.Strength < 0.3 || d.Most != "summer" || d.Share < 0.55 || d.Share > 0.65 {
		t.Errorf("%+v", c.Depends)
	}
	if d := c.Depends[1]; d.Column != "flow" || d.Strength > 0.1 {
		t.Errorf("%+v", d)
	}
	if c.Dropping.Rows != int64(len(s.gaps)) || c.Dropping.Bias == nil {
		t.Errorf("%+v", c.Dropping)
	}
}
