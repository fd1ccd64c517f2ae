package access

import (
	"bytes"
	"strings"
	"testing"
)

func TestWhatEachRoleMay(t *testing.T) {
	all := []Right{Read, Discuss, Work, Certify, Administer}
	for role, want := range map[Role]string{Reader: "10000", Steward: "11100", Certifier: "11010",
		Administrator: "11111", "nobody": "00000", "": "00000"} {
		var got strings.Builder
		for _, right := range all {
			if role.May(right) {
				got.WriteByte('1')
			} else {
				got.WriteByte('0')
			}
		}
		if got.String() != want {
			t.Errorf("%q may %s of %v, want %s", role, got.String(), all, want)
		}
	}
}

func TestSecretsDifferAndAreKeptHashed(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		s, err := NewSecret("ps_")
		if err != nil {
			t.Fatal(err)
		}
		if seen[s] || len(s) != 3+43 || !strings.HasPrefix(s, "ps_") {
			t.Fatalf("the secret %q", s)
		}
		seen[s] = true
		if h := Hash(s); len(h) != 32 || bytes.Contains(h, []byte(s)) || !bytes.Equal(h, Hash(s)) {
			t.Fatalf("the hash %x", h)
		}
	}
}
