package certify

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"
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
	return i < len(signed)-1 && signed[i+1] == '"'
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
	_, payload, err := parse(signed)
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

func TestSeveralPeopleSignAndEachIsNamed(t *testing.T) {
	private, public := keys(t)
	signed, err := Sign(statement(), private)
	if err != nil {
		t.Fatal(err)
	}
	before, err := Digest(signed)
	if err != nil {
		t.Fatal(err)
	}
	both, err := AddSignature(signed, private, "Ines", time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC))
	if err != nil {
		t.Fatal(err)
	}
	o, err := OpenWhole(both, public)
	if err != nil || len(o.Signers) != 2 || o.Signers[0].By != "Jonas" || o.Signers[1].By != "Ines" || o.Signers[1].At != "2026-11-25T09:00:00Z" || o.Digest != before {
		t.Errorf("%+v, %v", o, err)
	}
	// One signature that does not verify spoils the certificate.
	_, other := keys(t)
	forged, _ := NewKey()
	if both, err = AddSignature(signed, forged, "Nobody", time.Now()); err != nil {
		t.Fatal(err)
	}
	for _, key := range [][]byte{public, other} {
		if _, err := OpenWhole(both, key); !errors.Is(err, ErrSignature) {
			t.Errorf("%v", err)
		}
	}
}

func TestACertificateOfAKeyThatWasPutAwayVerifiesByTheSet(t *testing.T) {
	oldPrivate, oldPublic := keys(t)
	newPrivate, newPublic := keys(t)
	before, _ := Sign(statement(), oldPrivate)
	after, _ := Sign(statement(), newPrivate)
	set, err := KeySet(newPublic, oldPublic)
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range []string{before, after} {
		if _, err := Open(one, set); err != nil {
			t.Error(err)
		}
	}
	if _, err := Open(before, newPublic); !errors.Is(err, ErrSignature) {
		t.Errorf("by the new key alone: %v", err)
	}
	if strings.Contains(string(set), `"d"`) {
		t.Error("the set has private keys")
	}
	if _, err := KeySet(oldPrivate); err != nil { // whose private half is left out
		t.Error(err)
	}
}

func TestWhatWasRevokedCountsNoMore(t *testing.T) {
	private, public := keys(t)
	signed, _ := Sign(statement(), private)
	o, err := OpenWhole(signed, public)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	list := func(of ...Revoked) *Revocations {
		t.Helper()
		text, err := SignRevocations(of, now, private)
		if err != nil {
			t.Fatal(err)
		}
		r, err := OpenRevocations(text, public)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	if err := o.Counts(now, list(Revoked{Certificate: "of another"})); err != nil {
		t.Error(err)
	}
	if err := o.Counts(now, list(Revoked{Certificate: o.Digest, By: "Jonas", At: "2026-11-30T00:00:00Z", Reason: "A meter was wrong."})); !errors.Is(err, ErrRevoked) || !strings.Contains(err.Error(), "by Jonas: A meter was wrong.") {
		t.Errorf("%v", err)
	}
	if err := o.Counts(now, list(Revoked{Certificate: o.Digest, ReplacedBy: "abc"})); !errors.Is(err, ErrRevoked) || !strings.Contains(err.Error(), "abc") {
		t.Errorf("%v", err)
	}
	_, other := keys(t)
	text, _ := SignRevocations(nil, now, private)
	if _, err := OpenRevocations(text, other); !errors.Is(err, ErrSignature) {
		t.Errorf("a list of another key: %v", err)
	}
	if _, err := OpenRevocations(signed, public); !errors.Is(err, ErrMalformed) {
		t.Errorf("a certificate is no list: %v", err)
	}
	if _, err := Open(text, public); !errors.Is(err, ErrMalformed) {
		t.Errorf("a list is no certificate: %v", err)
	}
}

func TestACertificateEndsWithItsLastDay(t *testing.T) {
	private, public := keys(t)
	s := statement()
	s.ValidUntil = "2026-12-31"
	signed, _ := Sign(s, private)
	o, err := OpenWhole(signed, public)
	if err != nil {
		t.Fatal(err)
	}
	for day, want := range map[string]error{"2026-12-31": nil, "2027-01-01": ErrEnded} {
		at, _ := time.Parse(time.DateOnly, day)
		if err := o.Counts(at.Add(23*time.Hour), nil); !errors.Is(err, want) {
			t.Errorf("on %s: %v", day, err)
		}
	}
}

func TestTheCertificatesOfTheChainVerifyWithIt(t *testing.T) {
	private, public := keys(t)
	inner, _ := Sign(statement(), private)
	sum := statement().Table.SHA256
	for name, c := range map[string]struct {
		link Link
		want error
	}{
		"its own":          {Link{SHA256: sum, Certificate: inner}, nil},
		"of another table": {Link{SHA256: "of another", Certificate: inner}, ErrTable},
		"of another key": {Link{SHA256: sum, Certificate: func() string {
			other, _ := NewKey()
			signed, _ := Sign(statement(), other)
			return signed
		}()}, ErrSignature},
		"none": {Link{SHA256: "x"}, nil},
	} {
		s := statement()
		s.Chain = []Link{c.link}
		if err := s.OpenChain(public); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
}

func FuzzOpen(f *testing.F) {
	private, err := NewKey()
	if err != nil {
		f.Fatal(err)
	}
	public, _ := PublicKey(private)
	signed, _ := Sign(statement(), private)
	f.Add(signed)
	f.Add("a.b.c")
	f.Add(`{"payload":"","signatures":[]}`)
	want, _ := Digest(signed)
	f.Fuzz(func(t *testing.T, text string) {
		o, err := OpenWhole(text, public)
		if err == nil && o.Digest != want {
			t.Errorf("%q verifies, and nobody signed it", text)
		}
	})
}
