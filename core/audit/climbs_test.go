package audit

import (
	"fmt"
	"testing"

	"proudsieve/core/table"
)

func TestClimbsThatDoNotLieApartAreUnsettled(t *testing.T) {
	// Each climb is its lowest and highest key; the n-th one stands in the rows 10n+1 to 10n+10.
	for _, c := range []struct {
		name   string
		climbs [][2]string
		hashed bool
		want   []int // climbs
	}{
		{"none", nil, true, nil},
		{"apart", [][2]string{{"10", "19"}, {"20", "29"}, {"90", "99"}, {"30", "39"}}, false, nil},
		{"apart, beside hashed rows", [][2]string{{"10", "19"}, {"20", "29"}}, true, []int{0, 1}},
		{"two that overlap", [][2]string{{"10", "19"}, {"40", "60"}, {"20", "29"}, {"55", "70"}}, false, []int{1, 3}},
		{"the end of one is the start of another", [][2]string{{"10", "20"}, {"20", "29"}}, false, []int{0, 1}},
		{"one holds others", [][2]string{{"10", "90"}, {"20", "29"}, {"30", "39"}, {"91", "99"}}, false,
			[]int{0, 1, 2}},
		{"the same ones", [][2]string{{"10", "19"}, {"10", "19"}, {"10", "19"}}, false, []int{0, 1, 2}},
		{"shorter texts come first", [][2]string{{"5", "9"}, {"10", "40"}, {"100", "400"}}, false, nil},
	} {
		var k keyed
		for n, keys := range c.climbs {
			k.add(&climb{lowest: rankOf(table.TokenOf(keys[0])), highest: rankOf(table.TokenOf(keys[1])),
				rows: span{uint32(10*n + 1), uint32(10*n + 10)}})
		}
		want := table.NewRowSet()
		for _, n := range c.want {
			want.AddRange(uint64(10*n+1), uint64(10*n+11))
		}
		if got := k.unsettled(c.hashed); !got.Equals(want) {
			t.Errorf("%s: the rows %v are unsettled, want %v", c.name, got, want)
		}
	}
	k := keyed{}
	k.add(&climb{rows: span{1, 10}})
	k.add(&climb{rows: span{11, 14}, over: true})
	k.add(&climb{over: true})
	if got := k.unsettled(false); got.GetCardinality() != 14 {
		t.Errorf("beside a climb that ended, the rows %v are unsettled", got)
	}
}

func TestAClimbTakesABatchWholeOrNotAtAll(t *testing.T) {
	tokens := func(texts ...string) (all []table.Token) {
		for _, text := range texts {
			all = append(all, table.TokenOf(text))
		}
		return all
	}
	codes, rows := []uint32{0, 1, 2}, []uint32{4, 5, 6}
	for _, c := range []struct {
		texts   []string
		lacking []bool
		want    bool
	}{
		{[]string{"b", "c", "d"}, nil, true},
		{[]string{"b", "c", "c"}, nil, false},
		{[]string{"b", "d", "c"}, nil, false},
		{[]string{"a", "b", "c"}, nil, false}, // the one before was an a too
		{[]string{"b", "", "c"}, []bool{false, true, false}, true},
		{[]string{"9", "10", "11"}, nil, false}, // digits come before letters of the same length
		{[]string{"aa", "ab", "aaa"}, nil, true},
		{[]string{"b", "c", "a text that its token does not hold"}, nil, false},
		{[]string{"b", "c", "d e"}, nil, false}, // only plain texts are told apart by their tokens alone
	} {
		before := climb{}
		before.take(tokens("a"), []uint32{0}, []uint32{3}, []bool{false})
		after := before
		if c.lacking == nil {
			c.lacking = make([]bool, 3)
		}
		if got := after.take(tokens(c.texts...), codes, rows, c.lacking); got != c.want {
			t.Errorf("%q: %v, want %v", c.texts, got, c.want)
		}
		wanted := fmt.Sprint(before)
		if c.want {
			before.highest, before.rows.last = rankOf(table.TokenOf(c.texts[2])), 6
			wanted = fmt.Sprint(before)
		}
		if got := fmt.Sprint(after); got != wanted {
			t.Errorf("%q: the climb is %s, want %s", c.texts, got, wanted)
		}
	}
}

func TestRanksOrderByLengthAndThenByBytes(t *testing.T) {
	texts := []string{"a", "b", "~", "00", "10", "1a", "aa", "00000000", "12345678", "12345679", "123456789",
		"223456789", "123456789012345", "123456789012346"}
	for i, a := range texts {
		for k, b := range texts {
			if got := rankOf(table.TokenOf(a)).below(rankOf(table.TokenOf(b))); got != (i < k) {
				t.Errorf("%q below %q: %v", a, b, got)
			}
		}
	}
}
