package rules

import (
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
)

var patterns = []string{"", "HG-[0-9]{5}", "a*", "(a|ab)(c|bcd)", "[^x]+", ".", "a.b", "(?s)a.b", "(?i)abc", "^ab$",
	"a$|b", "^", "(a|b)*abb", "\\d+(\\.\\d+)?", "x{2,4}y?", "[äö]+", "\\pL+", "a|^b", "(a$)b", "\\bab\\b", "(?m)^a$",
	"[a-z]{1,40}[0-9]{1,40}", "a+?b*?", "\\Qa.b", "(?U)a+"}

// wholly reports whether the standard library's longest match from the start is the whole text.
func wholly(source, text string) bool {
	alone := regexp.MustCompile(source)
	alone.Longest()
	at := alone.FindStringIndex(text)
	return at != nil && at[0] == 0 && at[1] == len(text)
}

// Every pattern says of every text what the standard library says.
func TestPatternsMatchLikeTheStandardLibrary(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	letters := []string{"a", "b", "c", "d", "x", "y", "A", "B", "0", "1", "9", ".", "-", "N", "G", "\n", " ", "ä", "é",
		"\xff", "\x00"}
	matched := 0
	for _, source := range patterns {
		p, err := NewPattern(source)
		if err != nil {
			t.Fatal(err)
		}
		for range 3000 {
			var b strings.Builder
			for range r.IntN(7) {
				b.WriteString(letters[r.IntN(len(letters))])
			}
			text := b.String()
			want := wholly(source, text)
			if got := p.MatchString(text); got != want {
				t.Fatalf("%q on %q: %t, want %t", source, text, got, want)
			}
			if got := p.MatchASCII([]byte(text)); strings.IndexFunc(text, func(r rune) bool { return r >= 128 }) < 0 &&
				got != want {
				t.Fatalf("%q on the bytes of %q: %t, want %t", source, text, got, want)
			}
			if want {
				matched++
			}
		}
	}
	if matched < 1000 {
		t.Errorf("only %d texts match; the test says little", matched)
	}
}

func TestWhichPatternsHaveATable(t *testing.T) {
	for source, want := range map[string]bool{"HG-[0-9]{5}": true, "^AV-[0-9]+$": true, "(a|b)*abb": true,
		"\\bab\\b": false, "(?m)^a$": false, "(a|b)*a(a|b){12}": false} {
		p, err := NewPattern(source)
		if err != nil {
			t.Fatal(err)
		}
		if got := p.states != nil; got != want {
			t.Errorf("%q has a table: %t, want %t (%d states)", source, got, want, len(p.states))
		}
	}
	if p, err := NewPattern("x)|(?:y"); err == nil {
		t.Errorf("%v", p)
	}
}

func FuzzPattern(f *testing.F) {
	for _, source := range patterns {
		f.Add(source, "aab")
	}
	f.Fuzz(func(t *testing.T, source, text string) {
		if len(source) > 40 {
			return
		}
		p, err := NewPattern(source)
		if err != nil {
			return
		}
		if want := wholly(source, text); p.MatchString(text) != want {
			t.Errorf("%q on %q: want %t", source, text, want)
		}
	})
}

func TestPatternsForWhichAllDigitsAreAlike(t *testing.T) {
	for source, want := range map[string]bool{
		`R-[0-9]+`: true, `[A-Z]{2}\d{3}`: true, `.*`: true, `abc`: true, ``: true,
		`R-0[0-9]+`: false, `[1-9]\d*`: false, `[^5]*`: false, `\bR\d`: false, // the last one has no table
	} {
		p, err := NewPattern(source)
		if err != nil {
			t.Fatal(err)
		}
		if got := p.DigitsAlike(); got != want {
			t.Errorf("%s: %v, want %v", source, got, want)
		}
	}
}
