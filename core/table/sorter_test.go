package table

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
)

// Records come out as a stable sort in memory has them, whether they fit or not.
func TestRecordsAreSortedInMemoryAndOnDisk(t *testing.T) {
	was := SortedBytes
	defer func() { SortedBytes = was }()
	for _, SortedBytes = range []int{1 << 20, 2_000} {
		r := rand.New(rand.NewPCG(1, 2))
		var s Sorter
		type pair struct{ key, value string }
		var want []pair
		for i := range 3_000 {
			p := pair{fmt.Sprint(r.IntN(200)), fmt.Sprint(i)}
			want = append(want, p)
			if err := s.Add([]byte(p.key), []byte(p.value)); err != nil {
				t.Fatal(err)
			}
		}
		slices.SortStableFunc(want, func(a, b pair) int { return bytes.Compare([]byte(a.key), []byte(b.key)) })
		var got []pair
		if err := s.Each(context.Background(), func(key, value []byte) error {
			got = append(got, pair{string(key), string(value)})
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(got, want) {
			t.Errorf("with %d bytes the order is another", SortedBytes)
		}
		s.Close()
	}
}

func TestRowValuesAreFoundByTheirRows(t *testing.T) {
	var v RowValues
	defer v.Close()
	for i := 5_000; i > 0; i-- {
		if i%3 == 0 {
			if err := v.Add(uint32(i), []byte(fmt.Sprint("of ", i))); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := v.Settle(context.Background()); err != nil {
		t.Fatal(err)
	}
	for _, c := range [][2]uint32{{1, 2}, {1, 3}, {3, 3}, {998, 1_004}, {4_998, 9_000}, {5_000, 6_000}} {
		var got, want []string
		for row := c[0]; row <= min(c[1], 5_000); row++ {
			if row%3 == 0 {
				want = append(want, fmt.Sprintf("%d: of %d", row, row))
			}
		}
		if err := v.Between(c[0], c[1], func(row uint32, value []byte) error {
			got = append(got, fmt.Sprintf("%d: %s", row, value))
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(got, want) {
			t.Errorf("%v: %v, want %v", c, got, want)
		}
	}
}

// The bytes of keys are ordered as the values are.
func TestOrderedKeys(t *testing.T) {
	number := func(s string) Value {
		d, ok := ParseDecimal(s)
		if !ok {
			t.Fatal(s)
		}
		return NumberValue(d)
	}
	for _, ascending := range [][]Value{
		{number("-100000000000000000000000.5"), number("-1000"), number("-12"), number("-2.50"), number("-2.4"), number("-0.001"), number("0"), number("0.0009"),
			number("0.001"), number("0.1"), number("0.12"), number("1"), number("9.99"), number("10"), number("100"), number("12345678901234567890123")},
		{TextValue(""), TextValue("a"), TextValue("a\x00"), TextValue("a\x00b"), TextValue("ab"), TextValue("b")},
		{DateValue(-1), InstantValue(-5), DateValue(0), InstantValue(1), DateValue(1)},
		{BooleanValue(false), BooleanValue(true)},
	} {
		for i, a := range ascending {
			for j, b := range ascending {
				for _, descending := range []bool{false, true} {
					got := bytes.Compare(AppendOrdered(nil, a, "", descending), AppendOrdered(nil, b, "", descending))
					want := Compare(a, b)
					if descending {
						want = -want
					}
					if got != want {
						t.Errorf("%v and %v (%d, %d), descending %v: %d, want %d", a.Standard(), b.Standard(), i, j, descending, got, want)
					}
				}
			}
			for _, descending := range []bool{false, true} {
				value, wrong, none := AppendOrdered(nil, a, "", descending), AppendOrdered(nil, MistypedValue(), "x", descending), AppendOrdered(nil, Value{}, "", descending)
				if bytes.Compare(value, wrong) >= 0 || bytes.Compare(wrong, none) >= 0 {
					t.Errorf("what is no value does not come last")
				}
			}
		}
	}
	if one, two := AppendOrdered(nil, number("1.50"), "", false), AppendOrdered(nil, number("1.5"), "", false); !bytes.Equal(one, two) {
		t.Error("equal numbers have different keys")
	}
}

// What a format writes it reads as the same value.
func TestValuesAreWrittenAsTheyAreRead(t *testing.T) {
	seven, _ := ParseDecimal("-1234.50")
	for _, c := range []struct {
		format Format
		of     Type
		value  Value
		want   string
		ok     bool
	}{
		{Format{}, TypeDecimal, NumberValue(seven), "-1234.50", true},
		{Format{DecimalMark: ','}, TypeDecimal, NumberValue(seven), "-1234,50", true},
		{Format{Dates: MustDatePatterns("d.M.yy")}, TypeDate, DateValue(19_874), "31.5.24", true},
		{Format{Dates: MustDatePatterns("d.M.yy")}, TypeDate, DateValue(-40_000), "1860-06-26", false},
		{Format{Dates: MustDatePatterns("dd MMM yyyy")}, TypeDate, DateValue(19_874), "31 May 2024", true},
		{Format{Dates: MustDatePatterns(DayNumber)}, TypeDate, DateValue(19_874), "45443", true},
		{Format{DateTimes: MustDatePatterns("yyyyMMdd'T'HH:mm:ss.SSSX")}, TypeDateTime, InstantValue(1_500_000), "19700101T00:00:01.500Z", true},
		{Format{DateTimes: MustDatePatterns("dd/MM/yyyy HH:mm")}, TypeDateTime, InstantValue(1_000_000), "1970-01-01 00:00:01", false},
		{Format{TrueWords: []string{"Y"}, FalseWords: []string{"N"}}, TypeBoolean, BooleanValue(true), "Y", true},
		{Format{}, TypeDate, Value{}, "", true},
	} {
		if got, ok := c.format.Write(c.of, c.value); got != c.want || ok != c.ok {
			t.Errorf("%q, %v; want %q, %v", got, ok, c.want, c.ok)
		}
	}
}
