package certify

import "time"

// Revocations is a list of certificates that count no more, as it stood at a time. It is signed as certificates are.
type Revocations struct {
	Kind     string    `json:"kind"`
	IssuedAt string    `json:"issued_at"` // RFC 3339, UTC
	Revoked  []Revoked `json:"revoked"`
}

// Revoked is a certificate that counts no more.
type Revoked struct {
	Certificate string `json:"certificate"` // its digest
	Table       string `json:"table_sha256"`
	At          string `json:"at"` // RFC 3339
	By          string `json:"by"`
	Reason      string `json:"reason"`
	ReplacedBy  string `json:"replaced_by,omitempty"` // the digest of the certificate that stands in for it
}

const revocationsKind = "proudsieve revocations 1"

// SignRevocations signs the list of what counts no more, as it stands at a time.
func SignRevocations(revoked []Revoked, at time.Time, private []byte) (string, error) {
	if revoked == nil {
		revoked = []Revoked{}
	}
	return SignAny(&Revocations{revocationsKind, at.UTC().Format(time.RFC3339), revoked}, "proudsieve-revocations+jws", private)
}

// OpenRevocations checks the signature of a list and returns it; ErrSignature or ErrMalformed where it does not hold.
func OpenRevocations(list string, keys []byte) (*Revocations, error) {
	var r Revocations
	if err := OpenAny(list, keys, &r); err != nil {
		return nil, err
	}
	if r.Kind != revocationsKind {
		return nil, ErrMalformed
	}
	return &r, nil
}
