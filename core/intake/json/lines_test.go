package json

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/intake/content"
	"proudsieve/core/intake/content/contenttest"
)

// lineByLine converts lines one after the other.
type lineByLine struct {
	reader
	text string
}

func (l *lineByLine) Convert(ctx context.Context, to *content.Records) error {
	return l.write(ctx, to, func(f func([]byte) error) error {
		for line := range strings.Lines(l.text) {
			if err := f([]byte(line)); err != nil {
				return err
			}
		}
		return nil
	})
}

func converted(t *testing.T, c content.Converter) string {
	t.Helper()
	text, flaws, err := contenttest.Converted(t, c)
	if err != nil {
		t.Fatal(err)
	}
	return text + flaws
}

// linesAtRandom has lines of a few members each, among them ever new ones, broken lines, empty ones and long ones.
func linesAtRandom(r *rand.Rand, broken bool) string {
	var b strings.Builder
	columns := 3
	for range 4000 + r.IntN(12_000) {
		if r.IntN(3000) == 0 {
			columns++
		}
		b.WriteByte('{')
		for i := range 1 + r.IntN(columns) {
			if i > 0 {
				b.WriteByte(',')
			}
			name := r.IntN(columns)
			switch r.IntN(4) {
			case 0:
				fmt.Fprintf(&b, `"c%d":%d`, name, r.IntN(1000))
			case 1:
				fmt.Fprintf(&b, `"c%d":{"x":null,"y":["a,b",2]}`, name)
			case 2:
				fmt.Fprintf(&b, `"c%d":"text, \"%d\" %s"`, name, r.IntN(100), strings.Repeat("ä", r.IntN(20)))
			case 3:
				fmt.Fprintf(&b, `"c%d": true`, name)
			}
		}
		b.WriteByte('}')
		switch r.IntN(2000) {
		case 0:
			b.WriteString("\n  ")
		case 1:
			if broken {
				b.WriteString(" and more")
			}
		case 2:
			fmt.Fprintf(&b, "\n{\"c1\":%q}", strings.Repeat("long ", 1+r.IntN(200_000)))
		}
		b.WriteByte('\n')
	}
	if r.IntN(2) == 0 {
		return strings.TrimSuffix(b.String(), "\n")
	}
	return b.String()
}

func TestLinesInBlocksAreWhatTheyAreOneByOne(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for round := range 12 {
		text := linesAtRandom(r, round%2 == 0)
		one := &lineByLine{reader: reader{index: map[string]int{}}, text: text}
		blocks := &reader{index: map[string]int{}, open: func(context.Context, int64) (io.ReadCloser, error) {
			return io.NopCloser(strings.NewReader(text)), nil
		}}
		if want, got := converted(t, one), converted(t, blocks); want != got || !slices.Equal(one.names, blocks.names) {
			t.Fatalf("round %d: %d bytes become %d, want %d; columns %v, want %v", round, len(text), len(got), len(want), blocks.names, one.names)
		}
	}
}

func TestALineThatIsTooLongIsNamed(t *testing.T) {
	text := strings.Repeat("{\"a\":1}\n", 100_000) + `{"a":"` + strings.Repeat("x", 70<<20) + "\"}\n{\"a\":2}\n"
	_, err := content.Convert(t.Context(), &reader{index: map[string]int{}, open: func(context.Context, int64) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(text)), nil
	}})
	if err == nil || !strings.HasPrefix(err.Error(), "line 100001: ") {
		t.Errorf("%v", err)
	}
}
