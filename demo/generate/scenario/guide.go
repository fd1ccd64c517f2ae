package scenario

import (
	"fmt"
	"os"
	"strings"

	"proudsieve/core/fix"
	_ "proudsieve/core/fix/steps" // the kinds of steps
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	_ "proudsieve/core/rules" // the kinds of rules
	"proudsieve/durable"
)

// lists are what the guide says as the kinds themselves say it, by what marks the place.
var lists = map[string]func() string{"formats": intake.Guide, "kinds of rules": rulebook.Guide, "kinds of steps": fix.Guide}

// Guide returns a guide with its lists of kinds as they are.
func Guide(guide string) (string, error) {
	for of, list := range lists {
		begin, end := "<!-- "+of+" -->\n", "<!-- end of "+of+" -->\n"
		before, rest, ok := strings.Cut(guide, begin)
		_, after, closed := strings.Cut(rest, end)
		if !ok || !closed {
			return "", fmt.Errorf("the guide has no place for the %s, between %q and %q", of, begin, end)
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
	guide, err := Guide(string(raw))
	if err != nil {
		return err
	}
	return durable.Write(path, 0o644, func(f *os.File) error {
		_, err := f.WriteString(guide)
		return err
	})
}
