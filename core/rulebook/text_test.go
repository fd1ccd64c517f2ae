package rulebook_test

import (
	"slices"
	"strings"
	"testing"

	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
)

func TestTextsAreQuotedWhereYAMLWouldReadThemOtherwise(t *testing.T) {
	for text, want := range map[string]string{
		"flow": "flow", "a-b": "a-b", "fließt": "fließt", "_x1": "_x1",
		"": `""`, "yes": `"yes"`, "No": `"No"`, "~": `"~"`, "null": `"null"`, "12": `"12"`, "-x": `"-x"`, "a b": `"a b"`,
		"a: b": `"a: b"`, "#1": `"#1"`, `say "so"`: `"say \"so\""`, "a\nb": `"a\nb"`,
	} {
		if got := rulebook.Quoted(text); got != want {
			t.Errorf("%q is written %s, want %s", text, got, want)
		}
	}
	if got := rulebook.List([]string{"a", "yes", "b c"}); got != `a, "yes", "b c"` {
		t.Errorf("a list is %s", got)
	}
}

// Whatever a text is, it comes back from what is written of it.
func FuzzQuoted(f *testing.F) {
	for _, text := range []string{"a", "yes", "1e3", "a: b # c", "\u2028", "é", "'", "{", "\ufeffx"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.ToValidUTF8(text, "") != text {
			t.Skip("texts of a rulebook are UTF-8")
		}
		root, err := document.Parse([]byte("x: [" + rulebook.List([]string{text, "end"}) + "]\n"))
		if err != nil {
			t.Skip(err) // what YAML allows nowhere, as a NUL
		}
		if items := root.Entries[0].Value.Items; len(items) != 2 || items[0].Text != text || items[1].Text != "end" {
			t.Errorf("%q comes back as %+v", text, items)
		}
	})
}

// A reading that is written and read again is the same.
func TestAReadingIsWrittenAsItIsRead(t *testing.T) {
	for name, r := range map[string]intake.Reading{
		"the defaults": intake.Reading{}.WithDefaults(),
		"everything else": {Format: "xlsx", Entry: "a b.csv", Sheet: "Results: May", Encoding: "utf-16le",
			Delimiter: "\t", Quote: "none", HeaderLine: 3, ClosingLines: 2, DecimalMark: ",", GroupingMark: ".",
			Missing: []string{"n/a", "-999", "yes"}, Dates: []string{"dd/MM/yyyy",
				"dd/MM/yyyy HH:mm"}},
		"no header": {Encoding: "windows-1252", Delimiter: ";", Quote: "'", HeaderLine: -1},
	} {
		var w rulebook.Text
		w.Line("dataset: d")
		w.Reading(r)
		w.Line("columns: [{name: a}]")
		book, err := rulebook.Parse([]byte(w.String()))
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, w.String())
			continue
		}
		got, want := book.Reading, r.WithDefaults()
		if got.Format != want.Format || got.Entry != want.Entry || got.Sheet != want.Sheet ||
			got.Encoding != want.Encoding || got.Delimiter != want.Delimiter || got.Quote != want.Quote ||
			got.HeaderLine != want.HeaderLine || got.ClosingLines != want.ClosingLines ||
			got.DecimalMark != want.DecimalMark || got.GroupingMark != want.GroupingMark ||
			!slices.Equal(got.Missing, want.Missing) || !slices.Equal(got.Dates, want.Dates) {
			t.Errorf("%s: %+v\nwant %+v", name, got, want)
		}
	}
}

func TestAnIDIsMadeOfAnyName(t *testing.T) {
	for name, want := range map[string]string{"sample": "sample", "Sample ID": "sample_id", "  Größe (m) ": "gr__e__m",
		"%": "column", strings.Repeat("x", 80): strings.Repeat("x", 50)} {
		if got := rulebook.IDOf(name); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}
