package profile

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"testing"

	"proudsieve/core/table"
)

func numberOf(text string) table.Value {
	v, ok := table.StandardFormat.Parse(table.TypeDecimal, text)
	if !ok {
		return table.Value{}
	}
	return v
}

func TestAColumnWorkedOutByHand(t *testing.T) {
	var s Summary
	for _, c := range []struct {
		text    string
		rows    int64
		missing bool
	}{{"7.5", 2, false}, {"", 3, true}, {"n/a", 1, true}, {"8", 1, false}, {" trace", 1, false}, {"7.5", 1, false}, {"0.25", 4, false}} {
		s.Add(c.text, c.rows, c.missing, numberOf(c.text))
	}
	want := Column{
		Filled: 9, Missing: 4, MissingMarks: map[string]int64{"": 3, "n/a": 1}, Distinct: 4, Lowest: "0.25", Highest: "8",
		Numbers: 8, Sum: "31.5", Mean: "3.9375", // 3 x 7.5 + 8 + 4 x 0.25 = 31.5, over 8 numbers
		Spaced: 1, Shortest: 1, Longest: 6,
		Frequent: []Frequency{{"0.25", 4}, {"7.5", 3}, {" trace", 1}, {"8", 1}},
	}
	if got := s.Column(); !reflect.DeepEqual(got, want) {
		t.Errorf("got  %+v\nwant %+v", got, want)
	}
	if s.Sum().Shortest() != "31.5" {
		t.Errorf("the sum is %s", s.Sum())
	}
}

func TestAnEmptyColumn(t *testing.T) {
	var s Summary
	if got := s.Column(); got.Filled != 0 || got.Distinct != 0 || got.Mean != "" || got.Lowest != "" || len(got.Frequent) != 0 {
		t.Errorf("%+v", got)
	}
	s.Add("", 10, true, table.Value{})
	if got := s.Column(); got.Missing != 10 || got.Longest != 0 {
		t.Errorf("%+v", got)
	}
}

func TestLengthsCountCharacters(t *testing.T) {
	var s Summary
	s.Add("µS/cm", 1, false, table.Value{})
	s.Add("ä", 1, false, table.Value{})
	if got := s.Column(); got.Shortest != 1 || got.Longest != 5 {
		t.Errorf("lengths %d to %d", got.Shortest, got.Longest)
	}
}

func TestDatesHaveExtremes(t *testing.T) {
	var s Summary
	for _, text := range []string{"2024-05-01", "2023-12-31", "2024-01-15"} {
		v, _ := table.StandardFormat.Parse(table.TypeDate, text)
		s.Add(text, 1, false, v)
	}
	if got := s.Column(); got.Lowest != "2023-12-31" || got.Highest != "2024-05-01" || got.Sum != "" {
		t.Errorf("%+v", got)
	}
}

func TestDistinctIsExactUpToTheCapAndEstimatedBeyond(t *testing.T) {
	for _, n := range []int{1, 5000, distinctCap, distinctCap + 1, 3 * distinctCap} {
		var s Summary
		for i := range n {
			s.Add(fmt.Sprintf("value-%d", i), 2, false, table.Value{})
		}
		c := s.Column()
		if n <= distinctCap && (c.Distinct != int64(n) || c.DistinctError != 0) {
			t.Errorf("%d distinct values are counted as %d ± %v", n, c.Distinct, c.DistinctError)
		}
		if n > distinctCap {
			if off := math.Abs(float64(c.Distinct)-float64(n)) / float64(n); c.DistinctError == 0 || off > 4*c.DistinctError {
				t.Errorf("%d distinct values are estimated as %d, off by %.4f with a stated error of %v", n, c.Distinct, off, c.DistinctError)
			}
		}
		if c.Filled != 2*int64(n) {
			t.Errorf("%d cells are filled, want %d", c.Filled, 2*n)
		}
		if _, all := s.Counts(); all != (n <= distinctCap) {
			t.Errorf("with %d values, all are said to be counted: %v", n, all)
		}
	}
}

func TestFrequentTextsAgreeWithACount(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	var s Summary
	want := map[string]int64{}
	for range 10_000 {
		text := fmt.Sprint(r.IntN(30) * r.IntN(30))
		want[text]++
		s.Add(text, 1, false, numberOf(text))
	}
	got := s.Column()
	if got.Distinct != int64(len(want)) || len(got.Frequent) != frequentShown {
		t.Errorf("%d distinct, want %d; %d shown", got.Distinct, len(want), len(got.Frequent))
	}
	for i, f := range got.Frequent {
		if want[f.Text] != f.Rows {
			t.Errorf("%q occurs %d times, want %d", f.Text, f.Rows, want[f.Text])
		}
		if i > 0 && f.Rows > got.Frequent[i-1].Rows {
			t.Errorf("%v comes after %v", f, got.Frequent[i-1])
		}
	}
}
