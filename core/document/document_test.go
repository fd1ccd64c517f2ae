package document

import (
	"errors"
	"strings"
	"testing"
)

// kit is a sampling kit, declared for the tests.
type kit struct {
	name  string
	parts int
	fine  bool
	tags  []string
	kind  string
	steps []string
}

func read(source string) (*kit, error) {
	root, err := Parse([]byte(source))
	if err != nil {
		return nil, err
	}
	var r Reader
	var out kit
	r.Mapping(root, "a kit",
		Field{Name: "name", Required: true, Read: func(n *Node) { out.name = r.Text(n, "name") }},
		Field{Name: "parts", Read: func(n *Node) { out.parts = r.Whole(n, "parts") }},
		Field{Name: "fine", Read: func(n *Node) { out.fine = r.Truth(n, "fine") }},
		Field{Name: "tags", Read: func(n *Node) { out.tags = r.Texts(n, "tags") }},
		Field{Name: "kind", Read: func(n *Node) { out.kind = r.Choice(n, "a kind", "river", "lake") }},
		Field{Name: "steps", Read: func(n *Node) {
			r.List(n, "steps", func(item *Node) {
				r.Mapping(item, "a step", Field{Name: "do", Required: true, Read: func(n *Node) {
					out.steps = append(out.steps, r.Text(n, "do"))
				}})
			})
		}},
	)
	return &out, r.Err()
}

func TestReadingADeclaration(t *testing.T) {
	out, err := read("name: \"north\"\nparts: 3\nfine: true\ntags: [a, -9, 1.50]\nkind: river\nsteps:\n  - do: rinse\n  - {do: 'label'}\n")
	if err != nil {
		t.Fatal(err)
	}
	if out.name != "north" || out.parts != 3 || !out.fine || strings.Join(out.tags, "|") != "a|-9|1.50" ||
		out.kind != "river" || strings.Join(out.steps, "|") != "rinse|label" {
		t.Errorf("%+v", out)
	}
	if out, err := read("name: x\ntags: alone\nsteps:\n"); err != nil || len(out.tags) != 1 || len(out.steps) != 0 {
		t.Errorf("a single value for a list, nothing for another: %+v, %v", out, err)
	}
}

func TestMistakesHaveTheirPlaces(t *testing.T) {
	for _, c := range []struct{ name, source, want string }{
		{"an unknown name", "name: x\nparst: 3\n", `line 2, column 1: a kit has no "parst"; did you mean "parts"?`},
		{"a name unlike any", "name: x\nqqqqqqqqq: 3\n",
			`line 2, column 1: a kit has no "qqqqqqqqq"; known are name, parts, fine, tags, kind, steps`},
		{"a name twice", "name: x\nname: y\n", "line 2, column 1: this is not YAML"},
		{"a missing name", "parts: 3\n", `line 1, column 1: a kit needs "name"`},
		{"a missing name further in", "name: x\nsteps:\n  - do: a\n  - {}\n", `line 4, column 5: a step needs "do"`},
		{"no number", "name: x\nparts: many\n", `line 2, column 8: parts is a whole number, not "many"`},
		{"a fraction", "name: x\nparts: 1.5\n", `line 2, column 8: parts is a whole number, not "1.5"`},
		{"no truth", "name: x\nfine: perhaps\n", `line 2, column 7: fine is true or false, not "perhaps"`},
		{"no choice", "name: x\nkind: rivr\n", `line 2, column 7: "rivr" is not a kind; did you mean "river"?`},
		{"a list for a text", "name: [x]\n", "line 1, column 7: name is a single value, and this is a list"},
		{"a text for a list", "name: x\nsteps: rinse\n",
			`line 2, column 8: steps is a list (lines starting with "- "), and this is a single value`},
		{"a list for a mapping", "- a\n- b\n",
			"line 1, column 1: a kit is declared by names and values, and this is a list"},
		{"an alias", "name: &x y\n",
			"line 1, column 7: anchors, aliases, tags and merge keys are not used here; write the value out"},
		{"two documents", "name: x\n---\nname: y\n", "a second document starts here"},
		{"nothing", "", "line 1, column 1: the declaration is empty"},
		{"only a comment", "# nothing yet\n", "the declaration is empty"},
		{"not YAML", "name: [x\n", "this is not YAML"},
		{"a tab", "name: x\n\tparts: 3\n", "this is not YAML"},
	} {
		_, err := read(c.source)
		var mistakes Problems
		if !errors.As(err, &mistakes) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.name, err, c.want)
		}
	}
}

func TestEveryMistakeIsReportedAtOnceAndInOrder(t *testing.T) {
	_, err := read("parts: x\nfine: y\nkind: z\nother: 1\n")
	var mistakes Problems
	if !errors.As(err, &mistakes) || len(mistakes) != 5 {
		t.Fatalf("%v", err)
	}
	for i := 1; i < len(mistakes); i++ {
		if mistakes[i].Line < mistakes[i-1].Line {
			t.Errorf("%v comes after %v", mistakes[i], mistakes[i-1])
		}
	}
}

func TestHostileDeclarations(t *testing.T) {
	for name, source := range map[string]string{
		"deeply nested": strings.Repeat("[", 200) + strings.Repeat("]", 200),
		"very large":    "name: " + strings.Repeat("x", sizeLimit),
	} {
		if _, err := Parse([]byte(source)); err == nil {
			t.Errorf("%s: accepted", name)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"a: b", "- a\n- b", "a: {b: [c, d]}", "a: |\n  text\n", "? x", "a: *b", "\x00",
		"a:\n\tb"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, source string) {
		_, err := Parse([]byte(source))
		var mistakes Problems
		if err != nil && !errors.As(err, &mistakes) {
			t.Errorf("%q: the error %v has no place", source, err)
		}
	})
}
