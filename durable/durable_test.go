package durable

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestAFileIsWrittenWholeWithItsMode(t *testing.T) {
	path := filepath.Join(t.TempDir(), "secret")
	for _, text := range []string{"first", "second"} {
		if err := WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		raw, err := ReadSecret(path)
		if err != nil || string(raw) != text {
			t.Errorf("%q, %v", raw, err)
		}
	}
	left, err := os.ReadDir(filepath.Dir(path))
	if err != nil || len(left) != 1 {
		t.Errorf("beside it there is %v, %v", left, err)
	}
}

func TestOfTwoWhoCreateAFileTheFirstCounts(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	if err := Create(path, []byte("first"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Create(path, []byte("second"), 0o600); !errors.Is(err, os.ErrExist) {
		t.Errorf("the second one: %v", err)
	}
	if raw, err := os.ReadFile(path); err != nil || string(raw) != "first" {
		t.Errorf("%q, %v", raw, err)
	}
}

func TestASecretThatIsEmptyOrOpenToOthersIsNoSecret(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	for _, c := range []struct {
		content string
		mode    os.FileMode
		want    string
	}{{"", 0o600, "is empty"}, {" \n", 0o600, "is empty"}, {"abc", 0o640, "other users may read"}, {"abc", 0o604,
		"chmod 600"}} {
		if err := WriteFile(path, []byte(c.content), c.mode); err != nil {
			t.Fatal(err)
		}
		if _, err := ReadSecret(path); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q with mode %v: %v, want %s", c.content, c.mode, err, c.want)
		}
	}
}

func TestDirectoriesAreMadeWithThoseAbove(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a", "b", "c")
	for range 2 {
		if err := MakeDirectory(path, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("%v, %v", info, err)
	}
}
