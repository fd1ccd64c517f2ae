package scenario

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"proudsieve/core/fix"
	_ "proudsieve/core/fix/steps" // the kinds of steps
	"proudsieve/core/intake"
	"proudsieve/core/leads"
	"proudsieve/core/rulebook"
	_ "proudsieve/core/rules" // the kinds of rules
	"proudsieve/durable"
)

// pages are the guides with what each says as the kinds themselves say it, by what marks the place.
var pages = map[string]map[string]func() string{
	"rulebooks.md": {"formats": intake.Guide, "kinds of rules": rulebook.Guide},
	"fix-plans.md": {"kinds of steps": fix.Guide, "examples": stepExamples},
	"leads.md":     {"kinds of leads": leads.Guide},
}

// Pages lists the guides.
func Pages() []string { return slices.Sorted(maps.Keys(pages)) }

// Guide returns the text of a guide with its lists of kinds as they are.
func Guide(page, guide string) (string, error) {
	for of, list := range pages[page] {
		begin, end := "<!-- "+of+" -->\n", "<!-- end of "+of+" -->\n"
		before, rest, ok := strings.Cut(guide, begin)
		_, after, closed := strings.Cut(rest, end)
		if !ok || !closed {
			return "", fmt.Errorf("%s has no place for the %s, between %q and %q", page, of, begin, end)
		}
		guide = before + begin + list() + end + after
	}
	return guide, nil
}

// WriteGuide writes the lists into the guide at a path.
func WriteGuide(path string) error {
	raw, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	guide, err := Guide(filepath.Base(path), string(raw))
	if err != nil {
		return err
	}
	return durable.Write(path, 0o644, func(f *os.File) error {
		_, err := f.WriteString(guide)
		return err
	})
}
