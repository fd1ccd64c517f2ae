package table

import (
	"slices"
	"strings"
	"testing"
	"unicode"
)

func TestSpacesAreWhatUnicodeCallsSoAndWhatLooksLikeNothing(t *testing.T) {
	nothing := []rune{'\u200b', '\u200c', '\u200d', '\u2060', '\ufeff', '\u00ad'}
	for r := rune(0); r <= unicode.MaxRune; r++ {
		if want := unicode.IsSpace(r) || slices.Contains(nothing, r); IsSpace(r) != want {
			t.Fatalf("IsSpace(%U) is %v", r, IsSpace(r))
		}
	}
}

func TestTrimLeavesSinglePlainSpacesInside(t *testing.T) {
	for text, want := range map[string]string{"": "", " ": "", "Äsche": "Äsche", "Mühle\u00a0am Wehr": "Mühle am Wehr",
		"\u200bWehr": "Wehr", "die  Öhrde ": "die Öhrde", "a\u00adb": "a b", "a\x01b": "a\x01b", "Ö": "Ö", "\xff": "\xff", "weir\u0085": "weir"} {
		if got := Trim(text); got != want {
			t.Errorf("Trim(%q) is %q, want %q", text, got, want)
		}
		if fields := strings.Join(strings.FieldsFunc(text, IsSpace), " "); fields != want {
			t.Errorf("%q has the words %q, want %q", text, fields, want)
		}
	}
}
