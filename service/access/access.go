// Package access says who may do what, and makes the secrets by which callers are known.
package access

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"slices"
)

// Role is what a person is to the service.
type Role string

// The roles.
const (
	Reader        Role = "reader"
	Steward       Role = "steward"
	Certifier     Role = "certifier"
	Administrator Role = "administrator"
)

// Right is something that a role allows.
type Right string

// The rights.
const (
	Read       Right = "read"
	Discuss    Right = "discuss" // issues: comment, assign, ask, waive
	Work       Right = "work"    // deliveries, rulebooks, audits, fix plans, merges
	Certify    Right = "certify"
	Administer Right = "administer" // people and tokens
)

var rights = map[Role][]Right{
	Reader:        {Read},
	Steward:       {Read, Discuss, Work},
	Certifier:     {Read, Discuss, Certify},
	Administrator: {Read, Discuss, Work, Certify, Administer},
}

// May reports whether the role has a right.
func (r Role) May(right Right) bool { return slices.Contains(rights[r], right) }

// Within reports whether a role allows nothing that another does not.
func (r Role) Within(other Role) bool {
	return !slices.ContainsFunc(rights[r], func(right Right) bool { return !other.May(right) })
}

// Narrowed is what a role comes to for who comes in as another: that one, where it allows no more, and else a reader. The empty
// role changes nothing.
func (r Role) Narrowed(to Role) Role {
	switch {
	case to == "":
		return r
	case to.Within(r):
		return to
	}
	return Reader
}

// Roles lists the roles in the order in which they are shown.
var Roles = []Role{Reader, Steward, Certifier, Administrator}

// NewSecret returns a random text of 256 bits, with a prefix that tells what it is for.
func NewSecret(prefix string) (string, error) {
	raw := make([]byte, 32)
	if _, err := rand.Read(raw); err != nil {
		return "", err
	}
	return prefix + base64.RawURLEncoding.EncodeToString(raw), nil
}

// Hash is what is kept of a secret.
func Hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}
