package access

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"time"
)

// Link leads somebody without an account to one sheet of questions until it ends.
type Link struct {
	Sheet  int64
	Serial int // of the sheet's links; only those of the newest count
	Ends   time.Time
}

// ErrLink says that a link was not made here, or was changed.
var ErrLink = errors.New("the link is none of ours, or was cut short or changed")

// linkSum is how many bytes of the HMAC a link has.
const linkSum = 16

// Text writes a link, signed by HMAC-SHA256 (RFC 2104) with a secret of the service, truncated to 128 bits; nothing is kept of it.
func (l Link) Text(secret []byte) string {
	said := l.said()
	return base64.RawURLEncoding.EncodeToString(append(said, sign(said, secret)...))
}

func (l Link) said() []byte {
	said := binary.AppendUvarint(nil, uint64(l.Sheet))
	said = binary.AppendUvarint(said, uint64(l.Serial))
	return binary.AppendUvarint(said, uint64(l.Ends.Unix()))
}

func sign(said, secret []byte) []byte {
	// The secret signs other things too; what is signed says what it is.
	h := hmac.New(sha256.New, secret)
	h.Write([]byte("a link to a sheet of questions\x00"))
	h.Write(said)
	return h.Sum(nil)[:linkSum]
}

// ParseLink reads a link that Text wrote with the same secret. Whether it has ended or counts no more is for the caller to see.
func ParseLink(text string, secret []byte) (Link, error) {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || len(raw) <= linkSum || len(raw) > 64 {
		return Link{}, ErrLink
	}
	said, sum := raw[:len(raw)-linkSum], raw[len(raw)-linkSum:]
	if !hmac.Equal(sum, sign(said, secret)) {
		return Link{}, ErrLink
	}
	var parts [3]uint64
	for i := range parts {
		n, size := binary.Uvarint(said)
		if size <= 0 {
			return Link{}, ErrLink
		}
		parts[i], said = n, said[size:]
	}
	return Link{Sheet: int64(parts[0]), Serial: int(parts[1]), Ends: time.Unix(int64(parts[2]), 0)}, nil
}

// NewCode returns a code for people, as K7Q2-9XRD: 40 random bits in letters and digits that are not mistaken for one another.
func NewCode() (string, error) {
	secret, err := NewSecret("")
	if err != nil {
		return "", err
	}
	const letters = "0123456789ABCDEFGHJKMNPQRSTVWXYZ" // Crockford's base 32
	sum := sha256.Sum256([]byte(secret))
	code := make([]byte, 0, 9)
	for i := range 8 {
		if i == 4 {
			code = append(code, '-')
		}
		code = append(code, letters[sum[i]%32])
	}
	return string(code), nil
}
