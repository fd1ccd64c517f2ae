package rulebook

import (
	"math/rand/v2"
	"testing"

	"github.com/agnivade/levenshtein"
)

// Without swapped neighbours the distance is that of Levenshtein; with them never more.
func TestDistances(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"", "", 0}, {"a", "", 1}, {"keld", "kled", 1}, {"keld", "kelds", 1}, {"highgarth", "hgihgarht", 2}, {"größe",
		"grosse", 3}, {"abc", "xyz", 3}} {
		if got := Distance(c.a, c.b, 5); got != c.want {
			t.Errorf("%s and %s are %d apart, want %d", c.a, c.b, got, c.want)
		}
	}
	r := rand.New(rand.NewPCG(4, 4))
	text := func() string {
		b := make([]byte, r.IntN(8))
		for i := range b {
			b[i] = "abcd"[r.IntN(4)]
		}
		return string(b)
	}
	swapped := 0
	for range 20_000 {
		a, b := text(), text()
		plain, got := levenshtein.ComputeDistance(a, b), Distance(a, b, 10)
		switch {
		case got > plain || got < (plain+1)/2:
			t.Fatalf("%s and %s are %d apart, by Levenshtein %d", a, b, got, plain)
		case got < plain:
			swapped++
		}
		if most := r.IntN(4); Distance(a, b, most) != min(got, most+1) {
			t.Fatalf("%s and %s, up to %d: %d", a, b, most, Distance(a, b, most))
		}
		if Distance(b, a, 10) != got {
			t.Fatalf("%s and %s are not as far apart as the other way round", a, b)
		}
	}
	if swapped == 0 {
		t.Error("no neighbours were swapped")
	}
}

func TestWhatIsTooShortToBeASlip(t *testing.T) {
	for length, want := range map[int]int{1: 0, 3: 0, 4: 1, 7: 1, 8: 2, 40: 2} {
		if got := slips(length); got != want {
			t.Errorf("%d slips in %d characters, want %d", got, length, want)
		}
	}
	for label, want := range map[string]string{"Brondon Ford": "bf", "Alder": "", "Über der Weir": "üdw", "": ""} {
		if got := initials(label); got != want {
			t.Errorf("the initials of %q are %q, want %q", label, got, want)
		}
	}
}
