package demo_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"proudsieve/core/fix"
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
)

var yamlBlock = regexp.MustCompile("(?s)```yaml\n(.*?)```")

func TestTheGuidesExamplesAreGood(t *testing.T) {
	guide, err := os.ReadFile("../docs/rulebooks.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := yamlBlock.FindAllStringSubmatch(string(guide), -1)
	if len(blocks) != 3 {
		t.Fatalf("the guide has %d examples, want 3", len(blocks))
	}
	if _, err := rulebook.Parse([]byte(blocks[0][1])); err != nil {
		t.Errorf("the rulebook: %v", err)
	}
	book, err := rulebook.Parse(read(t, "rulebooks/northgate_results.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	plan := strings.Replace(blocks[1][1], "columns: [crew]", "columns: [laboratory]", 1)
	if _, err := fix.Parse([]byte(plan), book); err != nil {
		t.Errorf("the fix plan: %v", err)
	}
	if _, err := merge.Parse([]byte(blocks[2][1])); err != nil {
		t.Errorf("the merge: %v", err)
	}
}

var linked = regexp.MustCompile(`\]\(([^)#]+)\)`)

func TestWhatTheReadmeLinksToIsThere(t *testing.T) {
	readme, err := os.ReadFile("../README.md")
	if err != nil {
		t.Fatal(err)
	}
	links := linked.FindAllStringSubmatch(string(readme), -1)
	if len(links) < 10 {
		t.Errorf("only %d links were found", len(links))
	}
	for _, link := range links {
		if _, err := os.Stat("../" + link[1]); err != nil {
			t.Errorf("the README links to %s: %v", link[1], err)
		}
	}
}
