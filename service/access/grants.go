package access

import "slices"

// Grant is what somebody who is confined to datasets may do with one of them, as far as their role allows it as well.
type Grant struct {
	May      Level
	Personal bool // sees the columns with personal data as they are; whoever works with the data does in any case
}

// Level is how far a grant goes.
type Level string

// The levels.
const (
	ToRead    Level = "read"
	ToWork    Level = "work"
	ToCertify Level = "certify"
)

var grantRights = map[Level][]Right{ToRead: {Read}, ToWork: {Read, Discuss, Work}, ToCertify: {Read, Discuss, Certify}}

// LevelOf is how far a role goes with a dataset.
func LevelOf(r Role) Level {
	switch {
	case r.May(Work):
		return ToWork
	case r.May(Certify):
		return ToCertify
	}
	return ToRead
}

// Allows reports whether a grant has a right.
func (g Grant) Allows(right Right) bool { return slices.Contains(grantRights[g.May], right) }

// SeesPersonal reports whether personal data are shown as they are.
func (g Grant) SeesPersonal() bool { return g.Personal || g.May == ToWork }
