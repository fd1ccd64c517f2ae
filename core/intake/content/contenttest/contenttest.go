// Package contenttest shows what becomes of files in tests of the formats.
package contenttest

import (
	"encoding/json"
	"io"
	"testing"

	"proudsieve/core/intake/content"
)

// Converted returns the text that a file is turned into, and what is wrong with its lines, as JSON; or the error of its converter.
func Converted(t testing.TB, c content.Converter) (text, flaws string, err error) {
	t.Helper()
	spool, err := content.Convert(t.Context(), c)
	if err != nil {
		return "", "", err
	}
	defer spool.Close()
	in, err := spool.Open(t.Context(), 0)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := io.ReadAll(in)
	if err != nil {
		t.Fatal(err)
	}
	defects, err := spool.Noted(nil).UpTo(1 << 40)
	if err != nil {
		t.Fatal(err)
	}
	noted, err := json.Marshal(defects)
	if err != nil {
		t.Fatal(err)
	}
	return string(raw), string(noted), nil
}
