package profile

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// told writes what a look tells.
func (l *looked) told() string {
	if l.wide {
		return "wide"
	}
	return fmt.Sprintf("%q %v %v", l.shape[:min(l.count, shapeLimit)], l.count > shapeLimit, l.odd != 0)
}

// The instructions for many bytes at once are held against the code for any processor.
func TestTextsAreLookedAtAlikeWithAndWithoutVectors(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 32))
	pieces := []string{"a", "Z", "7", " ", "  ", "-", ".", "\t", "\x7f", "0123456789", "word", "WORD", "Word-", "{", "`", "@", "[", "/", ":", "\x00", "é",
		strings.Repeat("x", 31), strings.Repeat("9a", 40)}
	for range 100_000 {
		var b strings.Builder
		for range 1 + r.IntN(14) {
			b.WriteString(pieces[r.IntN(len(pieces)-r.IntN(3))])
		}
		text := b.String()
		var one, other looked
		lookASCII(text, &one)
		lookWords(text, &other)
		if one.told() != other.told() {
			t.Fatalf("%q: %s, and by words %s", text, one.told(), other.told())
		}
	}
}

func FuzzLook(f *testing.F) {
	f.Add("AV-006 at the weir, 2024-05-01")
	f.Fuzz(func(t *testing.T, text string) {
		if text == "" {
			return
		}
		var one, other looked
		lookASCII(text, &one)
		lookWords(text, &other)
		if one.told() != other.told() {
			t.Fatalf("%q: %s, and by words %s", text, one.told(), other.told())
		}
	})
}
