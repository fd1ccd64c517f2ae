package document

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
)

// hostile are texts that are made to bring a parser of YAML down.
func hostile(size int) map[string]string {
	repeated := func(piece string) string { return strings.Repeat(piece, size/len(piece)) }
	deeper := &strings.Builder{}
	for i := 0; deeper.Len() < size; i++ {
		deeper.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return map[string]string{
		"brackets":              repeated("["),
		"braces":                repeated("{"),
		"both":                  repeated("[{"),
		"brackets with keys":    repeated("{a: "),
		"keys without a space":  "a: " + repeated("{a:"),
		"lists in a line":       repeated("- "),
		"questions in a line":   repeated("? "),
		"keys in a line":        repeated("a: "),
		"deeper and deeper":     deeper.String(),
		"anchors":               repeated("&a "),
		"tags":                  "a: " + repeated("!a "),
		"aliases":               "a: [&a b, " + repeated("*a, ") + "]",
		"documents":             repeated("---\n"),
		"directives":            repeated("%a b\n"),
		"comments":              repeated("# a\n"),
		"comments after values": repeated("- a # b\n"),
		"empty lines":           "a: |\n" + repeated("\n"),
		"a block without end":   "a: |\n" + repeated("  b\n"),
		"folded":                "a: >\n" + repeated("  b\n\n"),
		"a quote without end":   "a: \"" + repeated("b\n"),
		"escapes":               "a: \"" + repeated(`\x41`) + "\"",
		"many keys":             repeated("a: b\n"),
		"a long line":           "a: " + repeated("b"),
		"a plain text of lines": "a: b\n" + repeated("  b\n"),
		"commas":                "a: [" + repeated(", ") + "]",
		"colons":                repeated(":"),
		"closing":               repeated("]"),
		"closing in a text":     "a: b" + repeated("]"),
		"closing after a list":  "a: []" + repeated("]"),
		"closing by line":       "a: []\n" + repeated("]\n"),
		"closing after quotes":  "a: 'b'" + repeated("}"),
		"quotes after quotes":   "a: " + repeated("'b'"),
		"quoted names":          repeated("'b': c\n"),
		"blocks in blocks":      repeated("- |\n"),
		"blocks in brackets":    "a: [" + repeated("|\n") + "]",
		"dashes in brackets":    "a: [" + repeated("- ") + "]",
		"percent":               "a: " + repeated("%"),
		"at signs":              repeated("@"),
		"backticks":             repeated("`"),
		"backticks within":      "a: b" + repeated("`"),
		"carriage returns":      repeated("\r"),
		"tabs":                  "a:\n" + repeated("\t"),
		"flow over lines":       "a: [\n" + repeated("b,\n") + "]",
		"entries in braces":     "a: {" + repeated("b: c, ") + "}",
		"quotes":                "a: [" + repeated("'b', ") + "]",
		"dashes":                repeated("-"),
		"dashes by line":        repeated("-\n"),
	}
}

func TestAHostileTextTakesLittleTimeAndMemory(t *testing.T) {
	for name, source := range hostile(sizeLimit - 100) {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		started := time.Now()
		_, _ = Parse([]byte(source))
		took := time.Since(started)
		runtime.ReadMemStats(&after)
		if used := (after.TotalAlloc - before.TotalAlloc) >> 20; used > 1500 || took > 20*time.Second {
			t.Errorf("%s: %d MiB allocated, %s", name, used, took)
		} else if testing.Verbose() {
			t.Logf("%s: %d MiB allocated, %s", name, used, took)
		}
	}
}

func TestWhatIsTooDeepOrTooLargeIsRefusedWithItsPlace(t *testing.T) {
	for _, c := range []struct{ name, source, want string }{
		{"brackets", "a: " + strings.Repeat("[", 41), "line 1, column 42: nested too deeply"},
		{"brackets over lines", "a: [\n" + strings.Repeat("[\n", 60), "line 39, column 1: nested too deeply"},
		{"lists in a line", strings.Repeat("- ", 60), "nested too deeply"},
		{"a large text", strings.Repeat("a", sizeLimit+1),
			"line 1, column 1: the declaration is larger than 1048576 bytes"},
		{"a NUL", "a: b\nc: d\x00", "line 2, column 5: a NUL stands here"},
		{"a NUL in quotes", "a: \"b\x00\"", "line 1, column 6: a NUL stands here"},
		{"no UTF-8", "a: b\nc: é\xff", "line 2, column 5: a byte here is no character in UTF-8"},
		{"a quote without end", "a: b\nc: \"d\ne: f\n", "line 2, column 4: this quote is not closed"},
		{"an anchor", "a: &b c", "line 1, column 4: anchors, aliases, tags and merge keys are not used here"},
	} {
		if _, err := Parse([]byte(c.source)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %s", c.name, err, c.want)
		}
	}
}

func TestWhatOnlyLooksDeepIsRead(t *testing.T) {
	for name, source := range map[string]string{
		"brackets in texts":     strings.Repeat("- a [b [c {d\n", 200),
		"brackets in quotes":    "a: '" + strings.Repeat("[", 200) + "'\n",
		"brackets in a block":   "a: |\n  " + strings.Repeat("[", 200) + "\nb: c\n",
		"brackets in a comment": "a: b # " + strings.Repeat("[", 200) + "\n",
		"many lists":            strings.Repeat("- [a, [b], {c: d}]\n", 2000),
		"a pattern":             "a: ^[A-Z]{2}[0-9]{3}$\n",
		"a star within":         "a: b * c & d ! e\n",
		"quotes within":         "a: it's 5\" deep\nb: c\n",
		"a doubled quote":       "a: 'it''s'\nb: c\n",
		"an escaped quote":      "a: \"b\\\"[[\"\nb: c\n",
	} {
		if _, err := Parse([]byte(source)); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	files, err := filepath.Glob("../../demo/*/*.yaml")
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	for _, path := range files {
		source, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if err := bounded(source); err != nil {
			t.Errorf("%s: %v", path, err)
		}
	}
}

func TestChangesTellTheLinesThatDiffer(t *testing.T) {
	got := strings.Join(Changes("a\nb\nc\nd\n", "a\nx\nc\nd\ne\n"), "|")
	if want := "- line 2: b|+ line 2: x|+ line 5: e"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	if got := Changes("a\n", "a\n"); len(got) != 0 {
		t.Errorf("equal texts differ in %v", got)
	}
}
