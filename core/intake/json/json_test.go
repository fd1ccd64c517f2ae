package json

import (
	"slices"
	"strings"
	"testing"
)

func TestRecordsOfJSON(t *testing.T) {
	for _, c := range []struct {
		line  string
		cells string // path=text, in the order met
		wrong string // part of the error
	}{
		{`{}`, "", ""},
		{`{"a":1,"b":"x"}`, "a=1|b=x", ""},
		{` { "a" : 1.50 , "b" : null } `, "a=1.50", ""},
		{`{"a":{"b":{"c":true}},"d":false}`, "a.b.c=true|d=false", ""},
		{`{"a":[1,[2,{"x":"}"}]],"b":2}`, `a=[1,[2,{"x":"}"}]]|b=2`, ""},
		{`{"a":"\"\\\/\b\f\n\r\t"}`, "a=\"\\/\b\f\n\r\t", ""},
		{`{"a":"\u00e9\ud83d\ude00\ud83d"}`, "a=é😀\uFFFD", ""},
		{`{"a":-0.5e+3,"b":0}`, "a=-0.5e+3|b=0", ""},
		{`[1]`, "", "no object"},
		{`{"a":01}`, "", "no value"},
		{`{"a":.5}`, "", "no value"},
		{`{"a":1.}`, "", "no value"},
		{`{"a":tru}`, "", "character 6: this is no value"},
		{`{"a" 1}`, "", "character 6: a colon"},
		{`{"a":1,}`, "", "name in quotes"},
		{`{"a":1 "b":2}`, "", "comma or a closing brace"},
		{`{"a":1`, "", "comma or a closing brace"},
		{`{"a":"x`, "", "not closed"},
		{`{"a":"x\`, "", "not closed"},
		{`{"a":"\x"}`, "", "escape"},
		{`{"a":"\u12g4"}`, "", "four hexadecimal"},
		{"{\"a\":\"\x01\"}", "", "control character"},
		{`{"a":1} x`, "", "something follows"},
		{`{"a":[1 2]}`, "", "closing bracket"},
		{`{"a":[`, "", "not closed"},
		{strings.Repeat(`{"a":`, 70) + "1" + strings.Repeat("}", 70), "", "64 deep"},
		{`{"a":` + strings.Repeat("[", 70) + strings.Repeat("]", 70) + "}", "", "64 deep"},
	} {
		var cells, paths []string
		_, err := parseRecord(c.line, func(path string) (int, error) {
			paths = append(paths, path)
			return len(paths) - 1, nil
		}, func(at int, text string) { cells = append(cells, paths[at]+"="+text) })
		switch {
		case c.wrong == "" && (err != nil || strings.Join(cells, "|") != c.cells):
			t.Errorf("%s: %q, %v; want %q", c.line, cells, err, c.cells)
		case c.wrong != "" && (err == nil || !strings.Contains(err.Error(), c.wrong)):
			t.Errorf("%s: the error is %v, want %q", c.line, err, c.wrong)
		}
	}
}

func TestAMemberGivenTwiceIsNamed(t *testing.T) {
	repeated, err := parseRecord(`{"a":1,"b":{"c":1,"c":2},"a":3}`, func(path string) (int, error) {
		return slices.Index([]string{"a", "b.c"}, path), nil
	}, func(int, string) {})
	if err != nil || !slices.Equal(repeated, []string{"b.c", "a"}) {
		t.Errorf("%v, %v", repeated, err)
	}
}

func parseRecord(raw string, column func(path string) (int, error), put func(at int, text string)) ([]string, error) {
	return (&jsonParser{column: column, put: put}).record(raw)
}
