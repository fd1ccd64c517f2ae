package records

import (
	"time"
)

// Person is somebody who works with the service.
type Person struct {
	ID         int64      `db:"id" json:"id"`
	Name       string     `db:"name" json:"name"`
	Role       string     `db:"role" json:"role" enum:"reader,steward,certifier,administrator"`
	DisabledAt *time.Time `db:"disabled_at" json:"disabled_at" doc:"Since when none of their tokens lets them in; null where they do"`
	Confined   bool       `db:"confined" json:"confined" doc:"They may see the datasets alone that they have rights for"`
}

// Token is a secret that lets a person in, without the secret.
type Token struct {
	ID        int64      `db:"id" json:"id"`
	Person    string     `db:"person" json:"person"`
	Role      string     `db:"role" json:"role" enum:"reader,steward,certifier,administrator" doc:"Of the person"`
	As        string     `db:"as_role" json:"as" enum:",reader,steward,certifier,administrator" doc:"The role that it lets in as, where that is a lesser one; empty for the person's own"`
	Datasets  string     `db:"datasets" json:"datasets" doc:"The datasets that it is for, by name with commas between them; empty for all that the person sees"`
	Note      string     `db:"note" json:"note"`
	CreatedAt time.Time  `db:"created_at" json:"created_at"`
	ExpiresAt *time.Time `db:"expires_at" json:"expires_at"`
	RevokedAt *time.Time `db:"revoked_at" json:"revoked_at"`
}

// Scope is what a token is for, where that is less than all its person may do.
type Scope struct {
	As       string   `json:"as,omitempty" enum:",reader,steward,certifier,administrator" doc:"The role that it lets in as; left out for one's own"`
	Datasets []string `json:"datasets,omitempty" maxItems:"200" doc:"The datasets that it is for, by name; left out for all that one sees. Goes with a role other than administrator"`
}

// MadePerson is a person with the token by which they come in first.
type MadePerson struct {
	Person
	Secret string `json:"secret" doc:"Their token, shown this once"`
}

// MadeToken is a token with its secret.
type MadeToken struct {
	Token
	Secret string `json:"secret" doc:"Shown this once"`
}
