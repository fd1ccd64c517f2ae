package demo_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"proudsieve/core/fix"
	_ "proudsieve/core/fix/steps" // the kinds of steps
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/demo/generate/scenario"
)

var yamlBlock = regexp.MustCompile("(?s)```yaml\n(.*?)```")

func TestTheGuidesExamplesAreGood(t *testing.T) {
	guide, err := os.ReadFile("../docs/rulebooks.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := yamlBlock.FindAllStringSubmatch(string(guide), -1)
	if len(blocks) != 6 {
		t.Fatalf("the guide has %d examples, want 6", len(blocks))
	}
	parts := "dataset: d\ncolumns: [{name: station}, {name: region}, {name: parameter}, {name: year}, {name: month}, {name: day, type: date}, {name: sampled, type: date}, {name: value, type: decimal}, " +
		"{name: load, type: decimal}, {name: concentration, type: decimal}, {name: flow, type: decimal}, {name: visits, type: decimal}]\n"
	for _, part := range blocks[1:5] {
		parts += part[1]
	}
	if _, err := rulebook.Parse([]byte(parts)); err != nil {
		t.Errorf("the parts of a rulebook: %v", err)
	}
	if _, err := rulebook.Parse([]byte(blocks[0][1])); err != nil {
		t.Errorf("the rulebook: %v", err)
	}
	book, err := rulebook.Parse(read(t, "rulebooks/highgarth_results.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	plan := strings.Replace(blocks[5][1], "columns: [crew]", "columns: [laboratory]", 1)
	if _, err := fix.Parse([]byte(plan), book); err != nil {
		t.Errorf("the fix plan: %v", err)
	}
	page, err := os.ReadFile("../docs/merges.md")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := merge.Parse([]byte(yamlBlock.FindStringSubmatch(string(page))[1])); err != nil {
		t.Errorf("the merge: %v", err)
	}
}

func TestTheGuideListsEveryKindOfRuleAndStepAndEveryFormat(t *testing.T) {
	for _, page := range scenario.Pages() {
		raw, err := os.ReadFile("../docs/" + page)
		if err != nil {
			t.Fatal(err)
		}
		if wanted, err := scenario.Guide(page, string(raw)); err != nil || wanted != string(raw) {
			t.Errorf("the lists of %s are not as the kinds say; run make demo-files: %v", page, err)
		}
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
