package certify

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/gowebpki/jcs"
)

// NewKey makes a signing key as a private JSON Web Key (RFC 7517).
func NewKey() ([]byte, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return json.Marshal(jose.JSONWebKey{Key: private, KeyID: keyID(private.Public().(ed25519.PublicKey)),
		Algorithm: string(jose.EdDSA), Use: "sig"})
}

func keyID(public ed25519.PublicKey) string {
	sum := sha256.Sum256(public)
	return hex.EncodeToString(sum[:8])
}

var errKey = errors.New("the key is not a JSON Web Key (RFC 7517) of kind OKP with curve Ed25519, nor a set of such keys")

func readKey(key []byte) (jose.JSONWebKey, error) {
	var k jose.JSONWebKey
	if err := json.Unmarshal(key, &k); err != nil || !k.Valid() {
		return k, errKey
	}
	return k, nil
}

// readKeys reads one public key, or a JWK set.
func readKeys(keys []byte) ([]jose.JSONWebKey, error) {
	var set jose.JSONWebKeySet
	if err := json.Unmarshal(keys, &set); err == nil && len(set.Keys) > 0 {
		for _, k := range set.Keys {
			if !k.Valid() {
				return nil, errKey
			}
		}
		return set.Keys, nil
	}
	k, err := readKey(keys)
	return []jose.JSONWebKey{k}, err
}

// PublicKey returns the public half of a private JSON Web Key.
func PublicKey(private []byte) ([]byte, error) {
	k, err := readKey(private)
	if err != nil {
		return nil, err
	}
	return json.Marshal(k.Public())
}

// KeyID returns the id by which certificates name a key, private or public.
func KeyID(key []byte) (string, error) {
	k, err := readKey(key)
	return k.KeyID, err
}

// KeySet makes a JWK set of public keys, so that certificates of a key that was put away still verify.
func KeySet(public ...[]byte) ([]byte, error) {
	var set jose.JSONWebKeySet
	for _, one := range public {
		k, err := readKey(one)
		if err != nil {
			return nil, err
		}
		set.Keys = append(set.Keys, k.Public())
	}
	return json.Marshal(set)
}

// Certificate is a JSON Web Signature in its general JSON serialization.
type Certificate struct {
	Payload    string      `json:"payload"`
	Signatures []Signature `json:"signatures"`
}

// Signature is one of a certificate.
type Signature struct {
	Protected string `json:"protected"`
	Signature string `json:"signature"`
}

// The protected fields by which a signature names who gave it, and when.
const (
	signedBy = "signed_by"
	signedAt = "signed_at"
)

// canonical writes a value as canonical JSON (RFC 8785).
func canonical(v any) ([]byte, error) {
	plain, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return jcs.Transform(plain)
}

// Sign returns the certificate for a statement, with one signature, in the name of who certifies it.
func Sign(s *Statement, private []byte) (string, error) {
	payload, err := canonical(s)
	if err != nil {
		return "", err
	}
	c := &Certificate{Payload: base64.RawURLEncoding.EncodeToString(payload)}
	return c.add(payload, private, "proudsieve+jws", s.CertifiedBy, s.CertifiedAt)
}

// SignAny signs a value as canonical JSON, in the form that certificates have; kind is the type of it.
func SignAny(v any, kind string, private []byte) (string, error) {
	payload, err := canonical(v)
	if err != nil {
		return "", err
	}
	c := &Certificate{Payload: base64.RawURLEncoding.EncodeToString(payload)}
	return c.add(payload, private, kind, "", "")
}

// AddSignature returns a certificate with one more signature, of somebody else, at a time.
func AddSignature(certificate string, private []byte, by string, at time.Time) (string, error) {
	c, payload, err := parse(certificate)
	if err != nil {
		return "", err
	}
	return c.add(payload, private, "proudsieve+jws", by, at.UTC().Format(time.RFC3339))
}

func (c *Certificate) add(payload, private []byte, kind, by, at string) (string, error) {
	k, err := readKey(private)
	if err != nil {
		return "", err
	}
	options := (&jose.SignerOptions{}).WithType(jose.ContentType(kind))
	if by != "" {
		options = options.WithHeader(signedBy, by).WithHeader(signedAt, at)
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: k}, options)
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(payload)
	if err != nil {
		return "", err
	}
	var flat struct {
		Signature
		Payload string `json:"payload"`
	}
	if err := json.Unmarshal([]byte(signed.FullSerialize()), &flat); err != nil {
		return "", err
	}
	c.Signatures = append(c.Signatures, flat.Signature)
	raw, err := json.Marshal(c)
	return string(raw), err
}

// Digest is what a certificate is known by: the SHA-256 of what is signed, in hexadecimal. More signatures do not change it.
func Digest(certificate string) (string, error) {
	_, payload, err := parse(certificate)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(payload)
	return hex.EncodeToString(sum[:]), nil
}
