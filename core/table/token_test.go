package table

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// texts are short and long ones, with and without what is awkward.
func texts(r *rand.Rand, n int) []string {
	out := []string{"", " ", "a", "ab", "12345678", "123456789", "123456789012345", "1234567890123456", "µ", "äöü",
		"a b", "\x00", "a\x00", "-1.5", ".5", "5.", "-", "1e5", "+1", strings.Repeat("x", 300)}
	letters := []byte("abcXYZ0189.-, ~!\x7f\x1f\xc3")
	for len(out) < n {
		b := make([]byte, r.IntN(24))
		for i := range b {
			b[i] = letters[r.IntN(len(letters))]
		}
		out = append(out, string(b))
	}
	return out
}

func TestTextsShareATokenOnlyWhereTheyAreEqual(t *testing.T) {
	met := map[Token]string{}
	for _, text := range texts(rand.New(rand.NewPCG(1, 1)), 20_000) {
		token := TokenOf(text)
		if other, ok := met[token]; ok && other != text {
			t.Fatalf("%q and %q share a token", text, other)
		}
		met[token] = text
		if token.Inline() != (len(text) <= InlineLength) {
			t.Errorf("%q is inline: %v", text, token.Inline())
		}
		if token.Inline() {
			var raw [16]byte
			if got := string(token.Bytes(&raw)); got != text || token.Len() != len(text) {
				t.Errorf("the token of %q holds %q", text, got)
			}
		}
		padded := append([]byte("before"+text), make([]byte, TokenSlack)...)
		if at := TokenAt(padded, 6, uint32(6+len(text))); at != token {
			t.Errorf("%q has another token within other bytes", text)
		}
	}
}

func TestShortTextsAreOrderedByTheirBytes(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	all := texts(r, 2000)
	for range 50_000 {
		a, b := all[r.IntN(len(all))], all[r.IntN(len(all))]
		if len(a) > InlineLength || len(b) > InlineLength {
			continue
		}
		if got := TokenOf(a).Before(TokenOf(b)); got != (a < b) {
			t.Errorf("%q before %q: %v", a, b, got)
		}
	}
}

func TestPlainTexts(t *testing.T) {
	for _, text := range texts(rand.New(rand.NewPCG(2, 2)), 20_000) {
		plain := text != "" && len(text) <= InlineLength
		for i := 0; i < len(text); i++ {
			plain = plain && text[i] > ' ' && text[i] <= '~'
		}
		if got := TokenOf(text).Plain(); got != plain {
			t.Errorf("%q is plain: %v, want %v", text, got, plain)
		}
	}
}

func TestNumbersOfTokensAreThoseOfTheirTexts(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	all := texts(r, 5000)
	for range 20_000 {
		all = append(all, fmt.Sprintf("%.*f", r.IntN(5), (r.Float64()-0.5)*1e6), fmt.Sprint(r.Int64N(1e12)),
			fmt.Sprintf("%08d", r.IntN(1e6)))
	}
	read := 0
	for _, text := range all {
		c, scale, ok := TokenOf(text).Number()
		want, number := ParseDecimal(text)
		if !ok {
			continue // it may be a number written in another way
		}
		read++
		if !number || DecimalOf(c, scale).String() != want.String() {
			t.Errorf("%q is read as %d x 10^-%d, want %v", text, c, scale, want)
		}
	}
	if read < 40_000 {
		t.Errorf("only %d numbers were read", read)
	}
}

func TestNumbersThatAreTheirShortestTexts(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 8))
	all := append(texts(r, 100_000), "0", "-0", "00", "0.5", "-0.5", "0.50", "00.5", "1.", ".1", "-.1", "-1", "-", "--1", "1-", "1.2.3", "10", "100.01", "12345678.5", "1234567.89", "12345678",
		"123456789012345", "12345678901234.", "-2345678.9012345", "12345678.", "123456780.0", "1,5", "1 5")
	for range 100_000 {
		b := make([]byte, r.IntN(16))
		for i := range b {
			b[i] = "0123456789.-0055"[r.IntN(16)]
		}
		all = append(all, string(b))
	}
	met := 0
	for _, text := range all {
		token := TokenOf(text)
		_, scale, number := token.Number()
		want := number && token.Shortest(scale) == token
		ok, point := token.ShortestNumber()
		if ok != want || ok && point != strings.Contains(text, ".") {
			t.Fatalf("%q: %v %v, want %v", text, ok, point, want)
		}
		if ok {
			met++
		}
	}
	if met < 1000 {
		t.Errorf("%d of %d are numbers", met, len(all))
	}
}

func TestTheTokenOfANumberIsThatOfItsText(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 2))
	refused := 0
	for range 200_000 {
		units, scale := r.Int64N(1<<(1+r.IntN(62)))*int64(1-2*r.IntN(2)), r.IntN(16)
		got, ok := TokenOfNumber(units, scale)
		text := string(DecimalOf(units, scale).Append(nil))
		if ok && got != TokenOf(text) {
			var raw [16]byte
			t.Fatalf("%d with %d places is %q, want %q", units, scale, got.Bytes(&raw), text)
		}
		if !ok {
			refused++
			if len(text) <= InlineLength-2 && scale < InlineLength-1 {
				t.Fatalf("%q has no token", text)
			}
		}
	}
	if refused == 0 || refused > 150_000 {
		t.Errorf("%d have no token", refused)
	}
}

func TestHashesOfListsDependOnEveryTextAndItsPlace(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	met := map[Hash]string{}
	for range 50_000 {
		list := make([]string, r.IntN(4))
		for i := range list {
			list[i] = fmt.Sprint(r.IntN(30))
		}
		h, text := HashTexts(list...), fmt.Sprintf("%q", list)
		if other, ok := met[h]; ok && other != text {
			t.Fatalf("%s and %s hash alike", text, other)
		}
		met[h] = text
	}
	// Partitions are chosen by the first bits: rows must spread over them.
	parts := map[uint64]int{}
	for i := range 64_000 {
		parts[HashTexts(fmt.Sprintf("R-%09d", i)).Hi>>58]++
	}
	for part := range uint64(64) {
		if n := parts[part]; n < 800 || n > 1200 {
			t.Errorf("%d of 64,000 rows are in partition %d, want about 1,000", n, part)
		}
	}
}

func TestUnitsRoundTowardsTheInside(t *testing.T) {
	for _, c := range []struct {
		text   string
		scale  int
		up     bool
		wanted int64
	}{
		{"1.25", 2, true, 125}, {"1.25", 1, true, 13}, {"1.25", 1, false, 12}, {"1.25", 4, false, 12500},
		{"-1.25", 1, true, -12}, {"-1.25", 1, false, -13},
		{"0", 18, true, 0}, {"1e300", 3, false, 1<<63 - 1}, {"-1e300", 3, true, -1 << 63},
	} {
		d, _ := ParseDecimal(c.text)
		if got := d.Units(c.scale, c.up); got != c.wanted {
			t.Errorf("%s in units of 10^-%d, up %v: %d, want %d", c.text, c.scale, c.up, got, c.wanted)
		}
	}
}

func TestTheShortestTextOfANumber(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	all := []string{"0", "-0", "00", "7", "-7", "07", "70", "0.5", "-0.5", "00.5", ".5", "0.50", "-0.0", "0.0", "0.000",
		"12.5", "12.50", "-12.05", "12.00", "123456789012.5", "12345678901.50", "12345678901.00", "100", "-100.001",
		"-10.0"}
	for range 20_000 {
		all = append(all, fmt.Sprintf("%.*f", r.IntN(5), float64(r.IntN(200_000)-100_000)/1000),
			fmt.Sprintf("%07.*f", r.IntN(3), r.Float64()))
	}
	for _, text := range all {
		token := TokenOf(text)
		coefficient, scale, ok := token.Number()
		if !ok {
			continue
		}
		if want := DecimalOf(coefficient, scale).Shortest(); token.Shortest(scale) != TokenOf(want) {
			t.Errorf("the shortest text of %s is %v, want %s", text, token.Shortest(scale), want)
		}
	}
}

func TestTokensWithTheirDigitsAlike(t *testing.T) {
	digits := strings.NewReplacer("0", "9", "1", "9", "2", "9", "3", "9", "4", "9", "5", "9", "6", "9", "7", "9", "8",
		"9")
	for _, text := range texts(rand.New(rand.NewPCG(8, 8)), 20_000) {
		token := TokenOf(text)
		if !token.Plain() {
			continue
		}
		if got, want := token.DigitsAlike(), TokenOf(digits.Replace(text)); got != want {
			t.Errorf("%q with its digits alike is %v, want %v", text, got, want)
		}
	}
}
