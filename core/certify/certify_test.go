package certify

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"strings"
	"testing"
)

const content = "id,value\n1,2.5\n2,7\n"

func statement() *Statement {
	sum := sha256.Sum256([]byte(content))
	return &Statement{Kind: StatementKind, Dataset: "results", Table: TableFacts{SHA256: hex.EncodeToString(sum[:]),
		Bytes: int64(len(content)), Rows: 2},
		Waivers: []Waiver{{Dataset: "results", Rule: "r", Reason: "It is <meant> that way & stays.", By: "Mara",
			Until: "2027-01-01"}}, CertifiedBy: "Jonas", CertifiedAt: "2026-11-24T10:00:00Z"}
}

func keys(t *testing.T) (private, public []byte) {
	t.Helper()
	private, err := NewKey()
	if err != nil {
		t.Fatal(err)
	}
	public, err = PublicKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return private, public
}

func TestACertificateVerifies(t *testing.T) {
	private, public := keys(t)
	signed, err := Sign(statement(), private)
	if err != nil {
		t.Fatal(err)
	}
	s, err := Verify(strings.NewReader(content), nil, signed+"\n", public)
	if err != nil || s.CertifiedBy != "Jonas" || s.Waivers[0].Reason != "It is <meant> that way & stays." {
		t.Errorf("%+v, %v", s, err)
	}
}

func TestOneChangedByteFails(t *testing.T) {
	private, public := keys(t)
	signed, err := Sign(statement(), private)
	if err != nil {
		t.Fatal(err)
	}
	for i := range content {
		changed := []byte(content)
		changed[i] ^= 1
		if _, err := Verify(strings.NewReader(string(changed)), nil, signed, public); !errors.Is(err, ErrTable) {
			t.Fatalf("byte %d changed: %v", i, err)
		}
	}
	for name, table := range map[string]string{"a byte more": content + "\n", "a byte less": content[1:],
		"nothing": ""} {
		if _, err := Verify(strings.NewReader(table), nil, signed, public); !errors.Is(err, ErrTable) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for i := range signed {
		changed := []byte(signed)
		if changed[i] == '.' {
			continue
		}
		changed[i] = map[bool]byte{true: 'B', false: 'A'}[changed[i] == 'A']
		if _, err := Verify(strings.NewReader(content), nil, string(changed), public); err == nil &&
			!lastOfSegment(signed, i) {
			t.Fatalf("character %d of the certificate changed, and it still verifies", i)
		}
	}
}

// lastOfSegment reports whether character i ends a part of the certificate: base64
// has spare bits there, which stand for nothing.
func lastOfSegment(signed string, i int) bool {
	return i == len(signed)-1 || signed[i+1] == '.'
}

func TestAnotherKeyFails(t *testing.T) {
	private, _ := keys(t)
	_, other := keys(t)
	signed, err := Sign(statement(), private)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Verify(strings.NewReader(content), nil, signed, other); !errors.Is(err, ErrSignature) {
		t.Errorf("%v, want %v", err, ErrSignature)
	}
}

func TestWhatIsNoCertificate(t *testing.T) {
	private, public := keys(t)
	none := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." +
		base64.RawURLEncoding.EncodeToString([]byte("{}")) + "."
	for name, text := range map[string]string{"nothing": "", "a text": "certified!", "two parts": "a.b",
		"an unsigned one": none} {
		if _, err := Verify(strings.NewReader(content), nil, text, public); !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %v, want %v", name, err, ErrMalformed)
		}
	}
	other := statement()
	other.Kind = "something else"
	signed, err := Sign(other, private)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Verify(strings.NewReader(content), nil, signed, public); !errors.Is(err, ErrMalformed) {
		t.Errorf("a statement of another kind: %v", err)
	}
	for _, key := range []string{"", "{}", "not JSON", `{"kty":"oct","k":"AAAA"}x`} {
		if _, err := Verify(strings.NewReader(content), nil, signed, []byte(key)); err == nil {
			t.Errorf("the key %q is accepted", key)
		}
	}
}

func TestTheSignedBytesAreCanonicalAndThePublicKeyIsPublic(t *testing.T) {
	private, public := keys(t)
	signed, err := Sign(statement(), private)
	if err != nil {
		t.Fatal(err)
	}
	payload, err := base64.RawURLEncoding.DecodeString(strings.Split(signed, ".")[1])
	if err != nil {
		t.Fatal(err)
	}
	// RFC 8785: names in order, no spaces, < and & as themselves.
	if !strings.HasPrefix(string(payload),
		`{"accepted":null,"audit":{"pass_mark":"","rules":null,"score":""},"certified_at":"2026-11-24T10:00:00Z","certified_by":"Jonas","dataset":"results"`) ||
		!strings.Contains(string(payload), "<meant> that way & stays") {
		t.Errorf("signed was %s", payload)
	}
	var key map[string]any
	if err := json.Unmarshal(public, &key); err != nil || key["d"] != nil || key["crv"] != "Ed25519" ||
		key["kty"] != "OKP" {
		t.Errorf("public key %s, %v", public, err)
	}
	again, err := Sign(statement(), private)
	if err != nil || again != signed {
		t.Error("the same statement and key give another certificate")
	}
}
