package table

import (
	"math/big"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
)

func decimal(t *testing.T, s string) Decimal {
	t.Helper()
	d, ok := ParseDecimal(s)
	if !ok {
		t.Fatalf("%q is not read as a decimal", s)
	}
	return d
}

func TestParseDecimal(t *testing.T) {
	for _, c := range []struct{ text, want, shortest string }{
		{"0", "0", "0"},
		{"-0", "0", "0"},
		{"7", "7", "7"},
		{"+7", "7", "7"},
		{"-7", "-7", "-7"},
		{"007", "7", "7"},
		{"7.10", "7.10", "7.1"},
		{"7.00", "7.00", "7"},
		{".5", "0.5", "0.5"},
		{"5.", "5", "5"},
		{"-0.05", "-0.05", "-0.05"},
		{"1e3", "1000", "1000"},
		{"1.5e3", "1500", "1500"},
		{"15e-3", "0.015", "0.015"},
		{"-2E2", "-200", "-200"},
		{"999999999999999999", "999999999999999999", "999999999999999999"},
		{"9999999999999999999999", "9999999999999999999999", "9999999999999999999999"},
		{"0.0000000000000000000001", "0.0000000000000000000001", "0.0000000000000000000001"},
		{"12345678901234567890.123456789012345678901", "12345678901234567890.123456789012345678901",
			"12345678901234567890.123456789012345678901"},
	} {
		d := decimal(t, c.text)
		if d.String() != c.want || d.Shortest() != c.shortest {
			t.Errorf("%q is written %q and shortest %q, want %q and %q", c.text, d, d.Shortest(), c.want, c.shortest)
		}
	}
}

func TestWhatIsNoDecimal(t *testing.T) {
	for _, text := range []string{"", " ", "-", "+", ".", "-.", "1.2.3", "1,5", "1 000", " 7", "7 ", "abc", "1e", "e5",
		"0x10", "NaN", "Infinity", "-Inf", "٣", "1_000",
		"1e99999999999", "1e-99999999999", "1e1001", strings.Repeat("9", 2000)} {
		if d, ok := ParseDecimal(text); ok {
			t.Errorf("%q is read as the decimal %s", text, d)
		}
	}
}

func rational(t *testing.T, d Decimal) *big.Rat {
	t.Helper()
	r, ok := new(big.Rat).SetString(d.String())
	if !ok {
		t.Fatalf("%q is no number", d)
	}
	return r
}

// randomDecimal makes numbers of all sizes, many of them at the edges of the machine word.
func randomDecimal(r *rand.Rand) string {
	digits := 1 + r.IntN(24)
	var b strings.Builder
	if r.IntN(2) == 0 {
		b.WriteByte('-')
	}
	point := r.IntN(digits + 1)
	for i := range digits {
		if i == point && i > 0 {
			b.WriteByte('.')
		}
		if r.IntN(3) == 0 {
			b.WriteByte('9')
		} else {
			b.WriteByte(byte('0' + r.IntN(10)))
		}
	}
	return b.String()
}

func TestArithmeticAgreesWithRationalNumbers(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 20_000 {
		a, b := decimal(t, randomDecimal(r)), decimal(t, randomDecimal(r))
		x, y := rational(t, a), rational(t, b)
		if got, want := rational(t, a.Add(b)), new(big.Rat).Add(x, y); got.Cmp(want) != 0 {
			t.Fatalf("%s + %s = %s, want %s", a, b, a.Add(b), want.FloatString(30))
		}
		if got, want := rational(t, a.Sub(b)), new(big.Rat).Sub(x, y); got.Cmp(want) != 0 {
			t.Fatalf("%s - %s = %s, want %s", a, b, a.Sub(b), want.FloatString(30))
		}
		if got, want := rational(t, a.Mul(b)), new(big.Rat).Mul(x, y); got.Cmp(want) != 0 {
			t.Fatalf("%s x %s = %s, want %s", a, b, a.Mul(b), want.FloatString(30))
		}
		if got, want := a.Cmp(b), x.Cmp(y); got != want {
			t.Fatalf("%s compared with %s is %d, want %d", a, b, got, want)
		}
		if got, want := a.Sign(), x.Sign(); got != want {
			t.Fatalf("the sign of %s is %d, want %d", a, got, want)
		}
		if got, want := a.IsWhole(), x.IsInt(); got != want {
			t.Fatalf("%s is whole: %v, want %v", a, got, want)
		}
	}
}

func TestATenthAndTwoTenthsAreThreeTenths(t *testing.T) {
	if got := decimal(t, "0.1").Add(decimal(t, "0.2")); got.Cmp(decimal(t, "0.3")) != 0 {
		t.Errorf("0.1 + 0.2 = %s", got)
	}
	var sum Decimal
	for range 1_000_000 {
		sum = sum.Add(decimal(t, "0.01"))
	}
	if sum.Shortest() != "10000" {
		t.Errorf("a million hundredths are %s", sum)
	}
}

func TestDivision(t *testing.T) {
	// The right-hand sides are PostgreSQL 15's: SELECT 1::numeric / 3, and so on.
	for _, c := range []struct{ a, b, want string }{
		{"1", "3", "0.33333333333333333333"},
		{"2", "3", "0.66666666666666666667"},
		{"10", "4", "2.5000000000000000"},
		{"5", "2", "2.5000000000000000"},
		{"-7", "9", "-0.77777777777777777778"},
		{"1", "7000", "0.00014285714285714286"},
		{"123456789", "0.001", "123456789000.000000000000"},
		{"22", "7", "3.1428571428571429"},
		{"0", "5", "0.00000000000000000000"},
	} {
		q, ok := decimal(t, c.a).Div(decimal(t, c.b))
		if !ok || q.Cmp(decimal(t, c.want)) != 0 {
			t.Errorf("%s / %s = %s, want %s", c.a, c.b, q, c.want)
		}
	}
	if _, ok := decimal(t, "1").Div(decimal(t, "0.00")); ok {
		t.Error("a division by zero has a value")
	}
}

func TestRound(t *testing.T) {
	for _, c := range []struct {
		text  string
		scale int
		want  string
	}{{"1.005", 2, "1.01"}, {"-1.005", 2, "-1.01"}, {"2.5", 0, "3"}, {"209.7003", 2, "209.70"}, {"7", 2, "7.00"}} {
		if got := decimal(t, c.text).Round(c.scale).String(); got != c.want {
			t.Errorf("%s rounded to %d digits is %s, want %s", c.text, c.scale, got, c.want)
		}
	}
}

func TestTimesAndNegAtTheEdgeOfTheWord(t *testing.T) {
	big18 := decimal(t, "999999999999999999")
	if got := big18.Times(1_000_000).String(); got != "999999999999999999000000" {
		t.Errorf("times a million is %s", got)
	}
	if got := big18.Neg().Neg(); got.Cmp(big18) != 0 {
		t.Errorf("twice negated is %s", got)
	}
	if got := big18.Add(big18).Add(big18).String(); got != "2999999999999999997" {
		t.Errorf("three times is %s", got)
	}
}

func FuzzParseDecimal(f *testing.F) {
	for _, s := range []string{"1", "-1.5", "1e5", "1e-5", ".", "00.10", "9999999999999999999"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		d, ok := ParseDecimal(s)
		if !ok {
			return
		}
		again, ok := ParseDecimal(d.String())
		if !ok || again.Cmp(d) != 0 {
			t.Errorf("%q is read as %s, which is read as %s", s, d, again)
		}
	})
}

func TestWholePartsAndRests(t *testing.T) {
	parse := func(s string) Decimal { return decimal(t, s) }
	for _, c := range []struct{ a, floor, ceil, abs, tens string }{
		{"0.01", "0", "1", "0.01", "0"}, {"-0.01", "-1", "0", "0.01", "0"}, {"2.5", "2", "3", "2.5", "0"},
		{"-2.5", "-3", "-2", "2.5", "0"}, {"7", "7", "7", "7", "10"}, {"0", "0", "0", "0", "0"},
		{"-155", "-155", "-155", "155", "-160"}, {"0.000000000000000000000000001", "0", "1",
			"0.000000000000000000000000001", "0"}, {"99999999999999999999.5", "99999999999999999999",
			"100000000000000000000", "99999999999999999999.5", "100000000000000000000"},
	} {
		a := parse(c.a)
		for what, got := range map[string][2]string{"floor": {a.Floor().Shortest(), c.floor},
			"ceil": {a.Ceil().Shortest(), c.ceil}, "abs": {a.Abs().Shortest(), c.abs},
			"round to tens": {a.Round(-1).Shortest(), c.tens}} {
			if got[0] != got[1] {
				t.Errorf("%s of %s is %s, want %s", what, c.a, got[0], got[1])
			}
		}
	}
	for _, c := range []struct{ a, b, want string }{{"7", "3", "1"}, {"-7", "3", "-1"}, {"7", "-3", "1"},
		{"2.5", "0.4", "0.1"}, {"99999999999999999999.5", "2", "1.5"}, {"1", "99999999999999999999.5", "1"}} {
		if got, ok := parse(c.a).Mod(parse(c.b)); !ok || got.Shortest() != c.want {
			t.Errorf("%s mod %s is %s, want %s", c.a, c.b, got.Shortest(), c.want)
		}
	}
	if _, ok := parse("1").Mod(parse("0")); ok {
		t.Error("a rest modulo 0")
	}
}

// A number with an exponent is read the quick way where it fits a machine word, and must be what the slow way makes of it.
func TestExponentsAreReadAlikeInAWordAndBeyond(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	for range 20_000 {
		text := strconv.FormatInt(random.Int64N(1_000_000_000)>>random.IntN(30), 10)
		if at := random.IntN(len(text) + 1); at < len(text) {
			text = text[:at] + "." + text[at:]
		}
		if random.IntN(3) == 0 {
			text = "-" + text
		}
		text += "e" + []string{"", "+", "-"}[random.IntN(3)] + strconv.Itoa(random.IntN(25))
		got, ok := ParseDecimal(text)
		want, wantOK := parseWide(text)
		if ok != wantOK || ok && (got.Cmp(want) != 0 || got.String() != want.String() || (got.wide == nil) != (want.wide == nil)) {
			t.Fatalf("%s is %v (%v), want %v (%v)", text, got, ok, want, wantOK)
		}
	}
}

// What is divided as machine words is what is divided in any size.
func TestQuotientsOfWords(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 8))
	words := 0
	for range 300_000 {
		a := DecimalOf(r.Int64N(powersOfTen[1+r.IntN(18)])-r.Int64N(powersOfTen[1+r.IntN(17)]), r.IntN(10))
		b := DecimalOf(r.Int64N(powersOfTen[1+r.IntN(18)])-r.Int64N(powersOfTen[1+r.IntN(17)]), r.IntN(10))
		if r.IntN(4) == 0 {
			b = DecimalOf(powersOfTen[r.IntN(5)]*int64(1+r.IntN(9)), r.IntN(3))
		}
		if b.Sign() == 0 {
			continue
		}
		got, ok := divideWords(a, b)
		if !ok {
			continue
		}
		words++
		if want, _ := divideWide(a, b); got.String() != want.String() {
			t.Fatalf("%s / %s is %s, want %s", a, b, got, want)
		}
	}
	if words < 50_000 {
		t.Errorf("only %d quotients were words", words)
	}
}

// Held against exact fractions.
func TestDivToRoundsOnce(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for range 20_000 {
		a := DecimalOf(r.Int64N(2_000_001)-1_000_000, r.IntN(5)).Mul(DecimalOf(1+r.Int64N(1_000_000), r.IntN(3)))
		b, scale := DecimalOf(r.Int64N(2001)-1000, r.IntN(4)), r.IntN(6)
		got, ok := a.DivTo(b, scale)
		if ok != (b.Sign() != 0) {
			t.Fatalf("%s / %s: %v", a, b, ok)
		}
		if !ok {
			continue
		}
		x, _ := new(big.Rat).SetString(a.String())
		y, _ := new(big.Rat).SetString(b.String())
		if want := x.Quo(x, y).FloatString(scale); got.String() != want && (got.Sign() != 0 || strings.Trim(want, "-0.") != "") {
			t.Fatalf("%s / %s to %d decimals: %s, want %s", a, b, scale, got, want)
		}
	}
}

func TestNumbersOfFewDigitsAreReadAlikeInAWordAndBeyond(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 3))
	words := 0
	for range 50_000 {
		text := []string{"", "", "-", "+"}[random.IntN(4)]
		for range random.IntN(22) {
			text += "00123456789"[random.IntN(11):][:1]
		}
		if random.IntN(3) > 0 {
			at := random.IntN(len(text) + 1)
			text = text[:at] + "." + text[at:]
		}
		if random.IntN(20) == 0 {
			at := random.IntN(len(text) + 1)
			text = text[:at] + []string{" ", ".", "-", "e", "e5", "x", ":", "/"}[random.IntN(8)] + text[at:]
		}
		c, scale, ok := ParseWord(text)
		want, number := parseWide(text)
		if !ok {
			if digits := strings.Trim(text, "+-."); number && len(digits) <= mostWordDigits && !strings.Contains(text, "e") {
				t.Fatalf("%q is not read", text)
			}
			continue
		}
		words++
		if !number || DecimalOf(c, scale).String() != want.String() {
			t.Fatalf("%q is read as %s, want %s (%v)", text, DecimalOf(c, scale), want, number)
		}
	}
	if words < 10_000 {
		t.Errorf("only %d of them were numbers of few digits", words)
	}
}
