package scenario

import (
	"fmt"
	"os"
	"strings"

	"proudsieve/core/rulebook"
	_ "proudsieve/core/rules" // the kinds of rules
	"proudsieve/durable"
)

// The guide's list of the kinds of rules stands between these.
const (
	kindsBegin = "<!-- kinds of rules -->\n"
	kindsEnd   = "<!-- end of kinds -->\n"
)

// Guide returns a guide with its list of the kinds of rules as they are.
func Guide(guide string) (string, error) {
	before, rest, ok := strings.Cut(guide, kindsBegin)
	_, after, closed := strings.Cut(rest, kindsEnd)
	if !ok || !closed {
		return "", fmt.Errorf("the guide has no place for the kinds of rules, between %q and %q", kindsBegin, kindsEnd)
	}
	return before + kindsBegin + rulebook.Guide() + kindsEnd + after, nil
}

// WriteGuide writes the list into the guide at a path.
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
