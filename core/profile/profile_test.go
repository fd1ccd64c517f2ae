package profile

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
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

// column gathers cells into one column, in shards of so many cells each.
type column struct {
	summary Summary
	shard   Shard
}

func (c *column) add(text string, rows int64, missing bool, value table.Value) {
	c.shard.Add(&Cell{Token: table.TokenOf(text), Text: text, Missing: missing, Value: value}, uint32(rows))
}

func (c *column) endShard() {
	c.shard.End()
	c.summary.Take(&c.shard)
	c.shard.Reset()
}

func (c *column) described() Column {
	c.endShard()
	return c.summary.Column(func(t table.Token, text string) (table.Decimal, bool) {
		v := numberOf(t.Text(text))
		return v.Number, v.Kind == table.Number
	})
}

func TestAColumnWorkedOutByHand(t *testing.T) {
	var s column
	for i, c := range []struct {
		text    string
		rows    int64
		missing bool
	}{{"7.5", 2, false}, {"", 3, true}, {"n/a", 1, true}, {"8", 1, false}, {" trace", 1, false}, {"7.5", 1,
		false}, {"0.25", 4, false}} {
		if i == 4 {
			s.endShard()
		}
		s.add(c.text, c.rows, c.missing, numberOf(c.text))
	}
	// In order: 0.25 x 4, 7.5 x 3, 8. The squared distances from the mean add up to
	// 4·13.59765625 + 3·12.69140625 + 16.50390625 = 108.96875; over 7 that is 15.566964...
	deviation, skewness := math.Sqrt(108.96875/7), s.described().Numbers.Skewness
	got := s.described()
	if skewness == nil || math.Abs(*skewness-hand3()) > 1e-12 {
		t.Errorf("the skewness is %v, want %v", skewness, hand3())
	}
	if math.Abs(*got.Numbers.Deviation-deviation) > 1e-14 {
		t.Errorf("the deviation is %v, want %v", *got.Numbers.Deviation, deviation)
	}
	// The interquartile range is 7.25, so that nothing is an outlier; bins of 0.5 are the
	// least round ones of which 24 cover 0.25 to 8.
	wantSpread := &Spread{Count: 8, Deviation: got.Numbers.Deviation, Skewness: got.Numbers.Skewness,
		Quantiles: []Quantile{{0, 0.25}, {0.01, 0.25}, {0.05, 0.25}, {0.25, 0.25}, {0.5, 3.875}, {0.75, 7.5},
			{0.95, 7.825}, {0.99, 7.965}, {1, 8}},
		Histogram: Histogram{From: 0, Width: 0.5, Rows: []int64{4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 3, 1}},
		Outliers:  Outliers{LowFence: -10.625, HighFence: 18.375, Lowest: 0.25, Highest: 8}}
	if !reflect.DeepEqual(got.Numbers, wantSpread) {
		t.Errorf("got  %+v\nwant %+v", got.Numbers, wantSpread)
	}
	want := Column{
		Filled: 9, Missing: 4, MissingMarks: map[string]int64{"": 3, "n/a": 1}, Distinct: 4, Lowest: "0.25",
		Highest:  "8",
		Mistyped: 1, Exceptions: []Frequency{{" trace", 1}}, Numbers: got.Numbers,
		Sum: "31.5", Mean: "3.9375", // 3 x 7.5 + 8 + 4 x 0.25 = 31.5, over 8 numbers
		Spaces: Spaces{Any: 1, Leading: 1}, Shortest: 1, Longest: 6, Shapes: []Frequency{{" a", 1}},
		Frequent: []Frequency{{"0.25", 4}, {"7.5", 3}, {" trace", 1}, {"8", 1}},
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got  %+v\nwant %+v", got, want)
	}
	if s.summary.Sum().Shortest() != "31.5" {
		t.Errorf("the sum is %s", s.summary.Sum())
	}
}

// hand3 is the skewness of 0.25 x 4, 7.5 x 3 and 8 by its definition.
func hand3() float64 {
	numbers, mean := []float64{0.25, 0.25, 0.25, 0.25, 7.5, 7.5, 7.5, 8}, 3.9375
	m2, m3 := 0.0, 0.0
	for _, x := range numbers {
		m2 += (x - mean) * (x - mean) / 8
		m3 += (x - mean) * (x - mean) * (x - mean) / 8
	}
	return m3 / math.Pow(m2, 1.5)
}

func TestAnEmptyColumn(t *testing.T) {
	var s column
	if got := s.described(); got.Filled != 0 || got.Distinct != 0 || got.Mean != "" || got.Lowest != "" ||
		len(got.Frequent) != 0 {
		t.Errorf("%+v", got)
	}
	s.add("", 10, true, table.Value{})
	if got := s.described(); got.Missing != 10 || got.Longest != 0 {
		t.Errorf("%+v", got)
	}
}

func TestLengthsCountCharacters(t *testing.T) {
	var s column
	s.add("µS/cm", 1, false, table.Value{})
	s.add("ä", 1, false, table.Value{})
	if got := s.described(); got.Shortest != 1 || got.Longest != 5 {
		t.Errorf("lengths %d to %d", got.Shortest, got.Longest)
	}
}

func TestDatesHaveExtremes(t *testing.T) {
	var s column
	for _, text := range []string{"2024-05-01", "2023-12-31", "2024-01-15"} {
		v, _ := table.StandardFormat.Parse(table.TypeDate, text)
		s.add(text, 1, false, v)
	}
	if got := s.described(); got.Lowest != "2023-12-31" || got.Highest != "2024-05-01" || got.Sum != "" {
		t.Errorf("%+v", got)
	}
}

func TestDistinctIsExactUpToTheCapAndEstimatedBeyond(t *testing.T) {
	for _, n := range []int{1, 5000, distinctCap, distinctCap + 1, 3 * distinctCap} {
		var s column
		for i := range n {
			if i%20_000 == 0 {
				s.endShard()
			}
			s.add(fmt.Sprintf("value-%d", i), 2, false, table.Value{})
		}
		c := s.described()
		if n <= distinctCap && (c.Distinct != int64(n) || c.DistinctError != 0) {
			t.Errorf("%d distinct values are counted as %d ± %v", n, c.Distinct, c.DistinctError)
		}
		if n > distinctCap {
			if off := math.Abs(float64(c.Distinct)-float64(n)) / float64(n); c.DistinctError == 0 ||
				off > 4*c.DistinctError {
				t.Errorf("%d distinct values are estimated as %d, off by %.4f with a stated error of %v", n, c.Distinct,
					off, c.DistinctError)
			}
		}
		if c.Filled != 2*int64(n) {
			t.Errorf("%d cells are filled, want %d", c.Filled, 2*n)
		}
		if c.AtLeast != (n > distinctCap) {
			t.Errorf("with %d values, frequencies are said to be the least they can be: %v", n, c.AtLeast)
		}
	}
}

func TestFrequentTextsAgreeWithACount(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	var s column
	want := map[string]int64{}
	for range 10_000 {
		text := fmt.Sprint(r.IntN(30) * r.IntN(30))
		want[text]++
		s.add(text, 1, false, numberOf(text))
	}
	got := s.described()
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

func TestATextThatStandsOutIsFoundAmongAllTooManyOthers(t *testing.T) {
	var s column
	r := rand.New(rand.NewPCG(1, 2))
	placeholders := int64(0)
	for batch := range 200 {
		for i := range 2000 {
			s.add(fmt.Sprint("id-", batch*2000+i), 1, false, table.TextValue("x"))
		}
		n := int64(r.IntN(40) + 2)
		s.add("unknown", n, false, table.TextValue("unknown"))
		placeholders += n
		s.endShard()
	}
	c := s.described()
	if len(c.Frequent) != 1 || c.Frequent[0] != (Frequency{"unknown", placeholders}) || !c.AtLeast {
		t.Errorf("frequent: %v, want unknown %d times", c.Frequent, placeholders)
	}
}

func TestShapesOfTexts(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "AV-006": "A-9", "2024-05-01": "9-9-9", "Mill Race": "Aa Aa", "µS/cm": "aA/a", "12 mg": "9 a",
		"ÄÖ": "A", "a\u00a0b": "a·a",
		"<0.05": "<9.9", "x@y.z": "a@a.a",
		"((((((((((((((((((((((((((((((((((((((((((((": "((((((((((((((((((((((((((((((((((((((((…",
	} {
		if got := string(appendShape(nil, text)); got != want {
			t.Errorf("the shape of %q is %q, want %q", text, got, want)
		}
	}
}

func TestStraySpacesAreToldApart(t *testing.T) {
	for text, want := range map[string]Spaces{
		"a b": {}, " a": {Any: 1, Leading: 1}, "a ": {Any: 1, Trailing: 1}, "a  b": {Any: 1, Doubled: 1},
		"a\u00a0b": {Any: 1, Invisible: 1}, "\ufeffa": {Any: 1, Leading: 1, Invisible: 1},
		" a  b\t": {Any: 1, Leading: 1, Trailing: 1, Doubled: 1, Invisible: 1},
	} {
		if got := spacesOf(text, 1); got != want {
			t.Errorf("%q has %+v, want %+v", text, got, want)
		}
	}
}

func TestNumbersOfAllSizesAreSummedExactly(t *testing.T) {
	texts := []string{"0.1", "0.2", "-7.25", "999999999999999999", "-999999999999999999", "0.000000000000000001",
		"123456789012345678901234567890", "-3", "4.5", "0"}
	var n, half Numbers
	want, squares := table.Decimal{}, table.Decimal{}
	for i, text := range texts {
		d, _ := table.ParseDecimal(text)
		to := &n
		if i >= 4 {
			to = &half
		}
		to.Add(d, int64(i)+1)
		want = want.Add(d.Times(int64(i) + 1))
		squares = squares.Add(d.Mul(d).Times(int64(i) + 1))
	}
	n.Merge(&half)
	if got := n.Sum(); got.Cmp(want) != 0 {
		t.Errorf("the sum is %s, want %s", got, want)
	}
	if got := n.squared(); got.Cmp(squares) != 0 {
		t.Errorf("the sum of squares is %s, want %s", got, squares)
	}
	if low, high, ok := n.extremes(); !ok || low.String() != "-999999999999999999" ||
		high.String() != "123456789012345678901234567890" {
		t.Errorf("from %s to %s", low, high)
	}
}

func TestQuantilesOfTooManyNumbersAreWithinTheirError(t *testing.T) {
	var s column
	r := rand.New(rand.NewPCG(5, 6))
	all := make([]float64, 300_000)
	for i := range all {
		text := fmt.Sprintf("%.6f", math.Exp(r.NormFloat64()*2)-1)
		s.add(text, 1, false, numberOf(text))
		all[i] = numberOf(text).Number.Float()
		if i%50_000 == 0 {
			s.endShard()
		}
	}
	slices.Sort(all)
	c := s.described()
	for _, q := range c.Numbers.Quantiles {
		at := q.Share * float64(len(all)-1)
		low, high := all[int(math.Floor(at))], all[int(math.Ceil(at))]
		slack := c.Numbers.QuantileError * max(math.Abs(low), math.Abs(high))
		if q.Number < low-slack || q.Number > high+slack {
			t.Errorf("the quantile at %v is %v, want %v to %v with a stated error of %.5f", q.Share, q.Number, low,
				high, c.Numbers.QuantileError)
		}
	}
	rows := c.Numbers.Histogram.Below + c.Numbers.Histogram.Above
	for _, n := range c.Numbers.Histogram.Rows {
		rows += n
	}
	if rows != int64(len(all)) {
		t.Errorf("the histogram has %d numbers, want %d", rows, len(all))
	}
}

func TestCalendars(t *testing.T) {
	for _, c := range []struct {
		name  string
		dates map[string]int64
		want  string
	}{
		{"days", map[string]int64{"2024-02-28": 2, "2024-03-01": 1},
			"day 1 false [{2024-02-28 2} {2024-02-29 0} {2024-03-01 1}]"},
		{"months, the last cut off", map[string]int64{"2024-01-31": 9, "2024-02-29": 8, "2024-03-31": 9,
			"2024-04-30": 9, "2024-05-04": 2},
			"month 0 true [{2024-01 9} {2024-02 8} {2024-03 9} {2024-04 9} {2024-05 2}]"},
		{"months, the last short but of the same size", map[string]int64{"2024-01-31": 9, "2024-02-29": 8,
			"2024-03-31": 9, "2024-04-30": 9, "2024-05-04": 9},
			"month 0 false [{2024-01 9} {2024-02 8} {2024-03 9} {2024-04 9} {2024-05 9}]"},
		{"years", map[string]int64{"1999-12-31": 1, "2021-01-01": 3}, "year 21 false"},
		{"days before 1970", map[string]int64{"1969-12-31": 1, "1970-01-01": 2, "1969-12-29": 3},
			"day 1 false [{1969-12-29 3} {1969-12-30 0} {1969-12-31 1} {1970-01-01 2}]"},
	} {
		var d days
		for text, rows := range c.dates {
			v, _ := table.StandardFormat.Parse(table.TypeDate, text)
			d.add(v.When, rows)
		}
		got := d.calendar()
		if text := fmt.Sprint(got.Unit, " ", got.Empty, " ", got.LastPartial, " ", got.Periods); !strings.HasPrefix(
			text, c.want) {
			t.Errorf("%s: %s, want %s", c.name, text, c.want)
		}
	}
}

// What is told of a text by one look at its bytes is what is told by a look for each question.
func TestALookAtATextTellsTheSameHoweverItIsAdded(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	letters := []string{"a", "b", "Z", "7", "03", " ", "  ", "-", ".", "\t", "\u00a0", "é", "Ö", "ß", "\u200b", "\x7f", "x y", "Wehr", "::", "\xff"}
	for range 20_000 {
		var text string
		for range 1 + random.IntN(30) {
			text += letters[random.IntN(len(letters))]
		}
		var one, other Shard
		token := table.TokenOf(text)
		one.Add(&Cell{Token: token, Text: text, Value: table.TextValue(text)}, 1)
		other.AddText(token, text)
		one.End()
		other.End()
		if a, b := fmt.Sprint(one.shapes, one.spaces, one.shortest, one.longest, one.lowest, one.filled),
			fmt.Sprint(other.shapes, other.spaces, other.shortest, other.longest, other.lowest, other.filled); a != b {
			t.Fatalf("%q: %s, and by one look %s", text, a, b)
		}
	}
}
