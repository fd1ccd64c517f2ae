package store

import (
	"context"
	"fmt"
	"time"

	"proudsieve/service/access"
)

// AddPerson makes a person. A name that is taken is ErrConflict.
func AddPerson(ctx context.Context, q Querier, name string, role access.Role) (*Person, error) {
	added, err := list[int64](ctx, q,
		"INSERT INTO people (name, role) VALUES ($1, $2) ON CONFLICT (name) DO NOTHING RETURNING id", name, role)
	if err != nil {
		return nil, err
	}
	if len(added) == 0 {
		return nil, fmt.Errorf("%w: there is a person %q already", ErrConflict, name)
	}
	return FindPerson(ctx, q, name)
}

// Disable keeps a person out, or lets them in again, and ends their sessions.
func Disable(ctx context.Context, q Querier, person int64, disabled bool) error {
	if _, err := exec(ctx, q,
		"UPDATE people SET disabled_at = CASE WHEN $2 THEN coalesce(disabled_at, now()) END WHERE id = $1", person,
		disabled); err != nil {
		return err
	}
	_, err := exec(ctx, q, "DELETE FROM sessions WHERE token_id IN (SELECT id FROM tokens WHERE person_id = $1)",
		person)
	return err
}

// RevokeTokens ends all tokens of a person, and their sessions.
func RevokeTokens(ctx context.Context, q Querier, person int64) error {
	if _, err := exec(ctx, q, "DELETE FROM sessions WHERE token_id IN (SELECT id FROM tokens WHERE person_id = $1)",
		person); err != nil {
		return err
	}
	_, err := exec(ctx, q, "UPDATE tokens SET revoked_at = now() WHERE person_id = $1 AND revoked_at IS NULL", person)
	return err
}

// Administrators counts those who may administer and are not kept out.
func Administrators(ctx context.Context, q Querier) (int64, error) {
	n, err := get[int64](ctx, q, "count",
		"SELECT count(*) FROM people WHERE role = 'administrator' AND disabled_at IS NULL")
	if err != nil {
		return 0, err
	}
	return *n, nil
}

// FindPerson returns the person of a name.
func FindPerson(ctx context.Context, q Querier, name string) (*Person, error) {
	return get[Person](ctx, q, fmt.Sprintf("person %q", name),
		"SELECT id, name, role, disabled_at, confined FROM people WHERE name = $1", name)
}

// FindSubject returns the person whom a provider of identities calls so.
func FindSubject(ctx context.Context, q Querier, subject string) (*Person, error) {
	return get[Person](ctx, q, "somebody of this subject", "SELECT id, name, role, disabled_at, confined FROM people WHERE subject = $1", subject)
}

// LinkSubject says what a provider of identities calls a person. A subject that is somebody else's is ErrConflict.
func LinkSubject(ctx context.Context, q Querier, person int64, subject string) error {
	_, err := exec(ctx, q, "UPDATE people SET subject = $2 WHERE id = $1", person, subject)
	return conflict(err, "somebody else is known to the provider so")
}

// SetRole gives a person another role.
func SetRole(ctx context.Context, q Querier, person int64, role access.Role) error {
	_, err := exec(ctx, q, "UPDATE people SET role = $2 WHERE id = $1", person, role)
	return err
}

// People lists everybody by name.
func People(ctx context.Context, q Querier) ([]Person, error) {
	return list[Person](ctx, q, "SELECT id, name, role, disabled_at, confined FROM people ORDER BY name")
}

// NewToken is a token that is to be recorded.
type NewToken struct {
	PersonID int64
	Hash     []byte
	Note     string
	Expires  *time.Time  // nil for without end
	As       access.Role // empty for the person's own
	Datasets []int64     // empty for all that the person sees
}

// AddToken records a token and returns its id.
func AddToken(ctx context.Context, q Querier, n *NewToken) (int64, error) {
	id, err := get[int64](ctx, q, "token", "INSERT INTO tokens (person_id, hash, note, expires_at, role) VALUES ($1, $2, $3, $4, $5) RETURNING id",
		n.PersonID, n.Hash, n.Note, n.Expires, n.As)
	if err != nil {
		return 0, err
	}
	for _, dataset := range n.Datasets {
		if _, err := exec(ctx, q, "INSERT INTO token_datasets (token_id, dataset_id) VALUES ($1, $2) ON CONFLICT DO NOTHING", *id, dataset); err != nil {
			return 0, err
		}
	}
	return *id, nil
}

const tokenColumns = `SELECT t.id, p.name AS person, p.role, t.role AS as_role, t.note, t.created_at, t.expires_at, t.revoked_at,
	coalesce((SELECT string_agg(d.name, ', ' ORDER BY d.name) FROM token_datasets x JOIN datasets d ON d.id = x.dataset_id WHERE x.token_id = t.id), '') AS datasets
	FROM tokens t JOIN people p ON p.id = t.person_id`

// Tokens lists tokens; person 0 means everybody's.
func Tokens(ctx context.Context, q Querier, person int64, c Cursor) (*Page[Token], error) {
	return page(ctx, q, c, func(t *Token) int64 { return t.ID }, tokenColumns+
		" WHERE t.id < $1 AND ($3 = 0 OR t.person_id = $3) ORDER BY t.id DESC LIMIT $2", person)
}

// FindToken returns a token by its id.
func FindToken(ctx context.Context, q Querier, id int64) (*Token, error) {
	return get[Token](ctx, q, fmt.Sprintf("token %d", id), tokenColumns+" WHERE t.id = $1", id)
}

// RevokeToken ends a token and its sessions.
func RevokeToken(ctx context.Context, q Querier, id int64) error {
	if _, err := FindToken(ctx, q, id); err != nil {
		return err
	}
	if _, err := exec(ctx, q, "DELETE FROM sessions WHERE token_id = $1", id); err != nil {
		return err
	}
	_, err := exec(ctx, q, "UPDATE tokens SET revoked_at = now() WHERE id = $1 AND revoked_at IS NULL", id)
	return err
}

// Caller is a person with the token they came in by. Role and Grants are what the token lets them do.
type Caller struct {
	Person
	TokenID int64                  `db:"token_id"`
	As      access.Role            `db:"as_role"`
	Scoped  bool                   `db:"scoped"` // the token is for less than all that its person may do
	Grants  map[int64]access.Grant `db:"-"`      // by dataset, of somebody who is confined to datasets
}

const (
	valid         = "p.disabled_at IS NULL AND t.revoked_at IS NULL AND (t.expires_at IS NULL OR t.expires_at > now())"
	callerColumns = `SELECT p.id, p.name, p.role, p.confined, t.id AS token_id, t.role AS as_role,
		t.role <> '' OR EXISTS (SELECT FROM token_datasets WHERE token_id = t.id) AS scoped`
)

// granted finds a caller, with what they, and their token, are confined to.
func granted(ctx context.Context, q Querier, what, query string, hash []byte) (*Caller, error) {
	c, err := get[Caller](ctx, q, what, query, hash)
	if err != nil {
		return nil, err
	}
	if err := c.grants(ctx, q); err != nil || !c.Scoped {
		return c, err
	}
	return c, c.scope(ctx, q)
}

// scope narrows a caller to what their token is for.
func (c *Caller) scope(ctx context.Context, q Querier) error {
	c.Role = string(access.Role(c.Role).Narrowed(c.As))
	datasets, err := list[int64](ctx, q, "SELECT dataset_id FROM token_datasets WHERE token_id = $1", c.TokenID)
	if err != nil || len(datasets) == 0 {
		return err
	}
	grants := map[int64]access.Grant{}
	for _, id := range datasets {
		if !c.Confined {
			grants[id] = access.Grant{May: access.LevelOf(access.Role(c.Role)), Personal: true}
		} else if grant, has := c.Grants[id]; has {
			grants[id] = grant
		}
	}
	c.Confined, c.Grants = true, grants
	return nil
}

// CallerByToken returns who holds a token that is in force.
func CallerByToken(ctx context.Context, q Querier, hash []byte) (*Caller, error) {
	return granted(ctx, q, "such token", callerColumns+" FROM tokens t JOIN people p ON p.id = t.person_id WHERE t.hash = $1 AND "+valid, hash)
}

// CallerBySession returns who holds a session whose token is in force.
func CallerBySession(ctx context.Context, q Querier, hash []byte) (*Caller, error) {
	return granted(ctx, q, "such session", callerColumns+` FROM sessions s JOIN tokens t ON t.id = s.token_id
		JOIN people p ON p.id = t.person_id WHERE s.hash = $1 AND s.expires_at > now() AND `+valid, hash)
}

// AddSession records a session.
func AddSession(ctx context.Context, q Querier, hash []byte, token int64, expires time.Time) error {
	_, err := exec(ctx, q, "INSERT INTO sessions (hash, token_id, expires_at) VALUES ($1, $2, $3)", hash, token,
		expires)
	return err
}

// EndSession forgets a session.
func EndSession(ctx context.Context, q Querier, hash []byte) error {
	_, err := exec(ctx, q, "DELETE FROM sessions WHERE hash = $1 OR expires_at < now()", hash)
	return err
}
