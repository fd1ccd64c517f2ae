package certify

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Errors that can be told apart with errors.Is.
var (
	ErrSignature = errors.New("the certificate was not signed with this key, or was changed after it was signed")
	ErrTable     = errors.New("the table is not the one that was certified")
	ErrMarks     = errors.New("the certificate speaks of a table with estimates, and the marks of these are missing or others")
	ErrMalformed = errors.New("this is not a certificate of Proud Sieve")
	ErrRevoked   = errors.New("the certificate was revoked")
	ErrEnded     = errors.New("the certificate counts no more")
)

// Signer is who gave a signature that verifies.
type Signer struct {
	By  string `json:"by"`
	At  string `json:"at"` // RFC 3339
	Key string `json:"key"`
}

// Opened is a certificate whose signatures all verify.
type Opened struct {
	Statement *Statement `json:"statement"`
	Signers   []Signer   `json:"signers"`
	Digest    string     `json:"digest"`
}

// parse reads a certificate, in JSON or in the compact form of earlier versions, without verifying it.
func parse(text string) (*Certificate, []byte, error) {
	text = strings.TrimSpace(text)
	var c Certificate
	if strings.HasPrefix(text, "{") {
		// Names of other letter case, and others than these, would be passed over: what is read is all that there is.
		var spaceless bytes.Buffer
		err := json.Unmarshal([]byte(text), &c)
		if err == nil {
			err = json.Compact(&spaceless, []byte(text))
		}
		if again, e := json.Marshal(c); err == nil && e == nil && !bytes.Equal(again, spaceless.Bytes()) {
			err = errors.New("it has other fields than payload and signatures")
		}
		if err != nil {
			return nil, nil, fmt.Errorf("%w: %v", ErrMalformed, err)
		}
	} else {
		parts := strings.Split(text, ".")
		if len(parts) != 3 {
			return nil, nil, fmt.Errorf("%w: it has %d parts", ErrMalformed, len(parts))
		}
		c = Certificate{Payload: parts[1], Signatures: []Signature{{parts[0], parts[2]}}}
	}
	payload, err := base64.RawURLEncoding.DecodeString(c.Payload)
	if err != nil || len(c.Signatures) == 0 {
		return nil, nil, fmt.Errorf("%w: it has no signed content", ErrMalformed)
	}
	return &c, payload, nil
}

// verified checks every signature against a key or a JWK set, and returns who gave them.
func verified(c *Certificate, keys []byte) ([]Signer, error) {
	known, err := readKeys(keys)
	if err != nil {
		return nil, err
	}
	var signers []Signer
	for _, s := range c.Signatures {
		one, err := jose.ParseSignedCompact(s.Protected+"."+c.Payload+"."+s.Signature, []jose.SignatureAlgorithm{jose.EdDSA})
		if err != nil {
			return nil, fmt.Errorf("%w: %v", ErrMalformed, err)
		}
		header := one.Signatures[0].Protected
		ok := false
		for _, k := range known {
			if _, err := one.Verify(k.Public()); err == nil {
				ok = true
				said := func(name jose.HeaderKey) string { text, _ := header.ExtraHeaders[name].(string); return text }
				signers = append(signers, Signer{By: said(signedBy), At: said(signedAt), Key: k.KeyID})
				break
			}
		}
		if !ok {
			return nil, ErrSignature
		}
	}
	return signers, nil
}

// OpenAny checks the signatures of what SignAny wrote, and reads it into a value; ErrSignature or ErrMalformed where they do not
// hold. Whoever reads it looks whether it is of the right kind.
func OpenAny(signed string, keys []byte, into any) error {
	c, payload, err := parse(signed)
	if err != nil {
		return err
	}
	if _, err := verified(c, keys); err != nil {
		return err
	}
	if err := json.Unmarshal(payload, into); err != nil {
		return ErrMalformed
	}
	return nil
}

// OpenWhole checks all signatures of a certificate against a public key or a JWK set, and returns what it says and who signed.
func OpenWhole(certificate string, keys []byte) (*Opened, error) {
	c, payload, err := parse(certificate)
	if err != nil {
		return nil, err
	}
	signers, err := verified(c, keys)
	if err != nil {
		return nil, err
	}
	var s Statement
	if err := json.Unmarshal(payload, &s); err != nil || s.Kind != StatementKind && s.Kind != earlierStatementKind {
		return nil, ErrMalformed
	}
	if signers[0].By == "" { // of an earlier version
		signers[0].By, signers[0].At = s.CertifiedBy, s.CertifiedAt
	}
	sum := sha256.Sum256(payload)
	return &Opened{Statement: &s, Signers: signers, Digest: hex.EncodeToString(sum[:])}, nil
}

// Open checks the signatures of a certificate and returns its statement.
func Open(certificate string, keys []byte) (*Statement, error) {
	o, err := OpenWhole(certificate, keys)
	if err != nil {
		return nil, err
	}
	return o.Statement, nil
}

// Verify holds a certificate against a public key or a JWK set and the bytes of a table, and against the marks of its estimates,
// nil for none. It returns the statement where all of it holds, else ErrSignature, ErrTable, ErrMarks or ErrMalformed.
func Verify(table, marks io.Reader, certificate string, keys []byte) (*Statement, error) {
	s, err := Open(certificate, keys)
	if err != nil {
		return nil, err
	}
	if there := s.Table.There; there != nil {
		return nil, fmt.Errorf("%w: it speaks of no file, but of %s; a service that reaches the database tells whether that table is still the same", ErrTable, there.Says())
	}
	digest := sha256.New()
	n, err := io.Copy(digest, table)
	if err != nil {
		return nil, err
	}
	if got := hex.EncodeToString(digest.Sum(nil)); got != s.Table.SHA256 {
		return nil, fmt.Errorf("%w: its %d bytes have the SHA-256 %s, and the certificate speaks of %d bytes with %s",
			ErrTable, n, got, s.Table.Bytes, s.Table.SHA256)
	}
	return s, s.holdsMarks(marks)
}

// holdsMarks says whether marks are those that the statement speaks of.
func (s *Statement) holdsMarks(marks io.Reader) error {
	if s.Table.Marks == "" {
		return nil
	}
	if marks == nil {
		return fmt.Errorf("%w: %d cells are estimates, and a file with the SHA-256 %s says which; give that one too", ErrMarks, s.Table.Estimates, s.Table.Marks)
	}
	digest := sha256.New()
	if _, err := io.Copy(digest, marks); err != nil {
		return err
	}
	if got := hex.EncodeToString(digest.Sum(nil)); got != s.Table.Marks {
		return fmt.Errorf("%w: these have the SHA-256 %s, and the certificate speaks of %s", ErrMarks, got, s.Table.Marks)
	}
	return nil
}

// Counts says whether a certificate counts at a time: its last day is not over, and it is not among the revocations, nil for
// none. It is ErrEnded or ErrRevoked where it does not.
func (o *Opened) Counts(at time.Time, r *Revocations) error {
	if r != nil {
		for _, one := range r.Revoked {
			if one.Certificate != o.Digest {
				continue
			}
			if one.ReplacedBy != "" {
				return fmt.Errorf("%w: at %s %s replaced it by the one with the digest %s: %s", ErrRevoked, one.At, one.By, one.ReplacedBy, one.Reason)
			}
			return fmt.Errorf("%w at %s by %s: %s", ErrRevoked, one.At, one.By, one.Reason)
		}
	}
	if end := o.Statement.ValidUntil; end != "" && at.UTC().Format(time.DateOnly) > end {
		return fmt.Errorf("%w: it was valid until %s", ErrEnded, end)
	}
	return nil
}

// OpenChain verifies the certificates that the tables of the chain have of their own, each against the same keys, and that it
// speaks of that table. It says of the first one that does not hold whose it is.
func (s *Statement) OpenChain(keys []byte) error {
	for _, l := range s.Chain {
		if l.Certificate == "" {
			continue
		}
		own, err := Open(l.Certificate, keys)
		if err == nil && own.Table.SHA256 != l.SHA256 {
			err = ErrTable
		}
		if err != nil {
			return fmt.Errorf("the certificate of %s, %s: %w", l.Dataset, l.FileName, err)
		}
	}
	return nil
}
