package access

import (
	"encoding/base64"
	"regexp"
	"testing"
	"time"
)

func TestALinkIsReadBackAndNoOtherOne(t *testing.T) {
	secret := []byte("a secret")
	l := Link{Sheet: 12, Serial: 3, Ends: time.Unix(1_800_000_000, 0)}
	text := l.Text(secret)
	if got, err := ParseLink(text, secret); err != nil || got != l {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := ParseLink(text, []byte("another")); err != ErrLink {
		t.Errorf("signed with another secret: %v", err)
	}
	raw, _ := base64.RawURLEncoding.DecodeString(text)
	for i := range raw {
		changed := append([]byte{}, raw...)
		changed[i] ^= 1
		if _, err := ParseLink(base64.RawURLEncoding.EncodeToString(changed), secret); err != ErrLink {
			t.Errorf("byte %d was changed, and it is a link: %v", i, err)
		}
		if _, err := ParseLink(base64.RawURLEncoding.EncodeToString(raw[:i]), secret); err != ErrLink {
			t.Errorf("it was cut after %d bytes, and it is a link: %v", i, err)
		}
	}
	for _, text := range []string{"", "?", "AAAA", text + "AA"} {
		if _, err := ParseLink(text, secret); err != ErrLink {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func FuzzParseLink(f *testing.F) {
	secret := []byte("a secret")
	f.Add(Link{Sheet: 1, Serial: 1, Ends: time.Unix(1, 0)}.Text(secret))
	f.Fuzz(func(t *testing.T, text string) {
		l, err := ParseLink(text, []byte("another secret"))
		if err == nil {
			t.Errorf("%q is a link without the secret: %+v", text, l)
		}
	})
}

func TestCodesAreReadableAndDiffer(t *testing.T) {
	seen := map[string]bool{}
	for range 100 {
		code, err := NewCode()
		if err != nil || !regexp.MustCompile(`^[0-9A-HJKMNP-TV-Z]{4}-[0-9A-HJKMNP-TV-Z]{4}$`).MatchString(code) || seen[code] {
			t.Fatalf("%q, %v", code, err)
		}
		seen[code] = true
	}
}
