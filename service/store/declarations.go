package store

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// The kinds of declarations.
const (
	KindRulebook = "rulebook"
	KindFixPlan  = "fix_plan"
	KindMerge    = "merge"
)

const declarationColumns = `SELECT c.id, c.kind, d.name AS dataset, c.dataset_id, c.name, c.version, c.source, c.digest, p.name AS author, c.created_at, c.earlier
	FROM declarations c JOIN datasets d ON d.id = c.dataset_id JOIN people p ON p.id = c.author_id`

// OutdatedError says that a declaration was saved by somebody since the version that a change
// of it was made from.
type OutdatedError struct {
	From   int          // the version that was seen; 0 for none
	Newest *Declaration // what there is now
}

// Error implements error.
func (e *OutdatedError) Error() string {
	saved := fmt.Sprintf("%s saved version %d at %s", e.Newest.Author, e.Newest.Version, e.Newest.CreatedAt.UTC().
		Format("2006-01-02 15:04 UTC"))
	if e.From == 0 {
		return fmt.Sprintf("%s, and nothing says that this text was made from it; look at that version, and name it when you save", saved)
	}
	return fmt.Sprintf("it was made from version %d, and %s; look at what changed, and save again with that version named", e.From, saved)
}

// Unwrap makes errors.Is(err, ErrConflict) hold.
func (e *OutdatedError) Unwrap() error { return ErrConflict }

// NewDeclaration is what AddDeclaration records.
type NewDeclaration struct {
	Kind      string
	DatasetID int64
	Name      string
	Source    string
	Digest    string // SHA-256 of the source
	From      int    // the version that it was made from; 0 for none
	AuthorID  int64
}

// AddDeclaration records a new version; where a later one than it was made from was saved
// meanwhile, it returns an OutdatedError. The text of the newest version again adds none,
// whatever it was made from.
func AddDeclaration(ctx context.Context, q Querier, n NewDeclaration) (*Declaration, error) {
	// The lock on the dataset's row makes versions follow one another. It leaves the key alone, which an audit that is
	// being recorded holds for sharing: with FOR UPDATE here and the issues of that audit there, each would wait for the other.
	if _, err := exec(ctx, q, "SELECT id FROM datasets WHERE id = $1 FOR NO KEY UPDATE", n.DatasetID); err != nil {
		return nil, err
	}
	newest, err := NewestDeclaration(ctx, q, n.Kind, n.DatasetID, n.Name)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return nil, err
	}
	if newest != nil && newest.Digest == n.Digest {
		return newest, nil
	}
	if newest != nil && newest.Version != n.From {
		return nil, &OutdatedError{n.From, newest}
	}
	if newest == nil {
		n.From = 0 // it was made from one of another name
	}
	if _, err := exec(ctx, q,
		"INSERT INTO declarations (kind, dataset_id, name, version, source, digest, author_id) VALUES ($1, $2, $3, $4, $5, $6, $7)",
		n.Kind, n.DatasetID, n.Name, n.From+1, n.Source, n.Digest, n.AuthorID); err != nil {
		return nil, err
	}
	return NewestDeclaration(ctx, q, n.Kind, n.DatasetID, n.Name)
}

// NewestDeclaration returns the newest version.
func NewestDeclaration(ctx context.Context, q Querier, kind string, dataset int64, name string) (*Declaration, error) {
	return get[Declaration](ctx, q, fmt.Sprintf("%s %q", words[kind], name), declarationColumns+
		" WHERE c.kind = $1 AND c.dataset_id = $2 AND c.name = $3 ORDER BY c.version DESC LIMIT 1", kind, dataset, name)
}

var words = map[string]string{KindRulebook: "rulebook of", KindFixPlan: "fix plan", KindMerge: "merge"}

// DeclarationVersion returns one version.
func DeclarationVersion(ctx context.Context, q Querier, kind string, dataset int64, name string,
	version int) (*Declaration, error) {
	return get[Declaration](ctx, q, fmt.Sprintf("version %d of the %s %q", version, words[kind], name),
		declarationColumns+" WHERE c.kind = $1 AND c.dataset_id = $2 AND c.name = $3 AND c.version = $4", kind, dataset,
		name, version)
}

// FindDeclaration returns a declaration by its id.
func FindDeclaration(ctx context.Context, q Querier, id int64) (*Declaration, error) {
	return get[Declaration](ctx, q, fmt.Sprintf("declaration %d", id), declarationColumns+" WHERE c.id = $1", id)
}

// Declarations lists versions of a kind; dataset 0 means all datasets.
func Declarations(ctx context.Context, q Querier, kind string, dataset int64, c Cursor) (*Page[Declaration], error) {
	return page(ctx, q, c, func(d *Declaration) int64 { return d.ID }, declarationColumns+
		" WHERE c.id < $1 AND c.kind = $3 AND ($4 = 0 OR c.dataset_id = $4)"+seen(ctx, "c.dataset_id")+" ORDER BY c.id DESC LIMIT $2", kind, dataset)
}

// DeclarationAt returns the version of a declaration that was the newest at a time.
func DeclarationAt(ctx context.Context, q Querier, kind string, dataset int64, name string, at time.Time) (*Declaration, error) {
	return get[Declaration](ctx, q, fmt.Sprintf("%s %q at that time", kind, name), declarationColumns+
		" WHERE c.kind = $1 AND c.dataset_id = $2 AND c.name = $3 AND c.created_at <= $4 ORDER BY c.version DESC LIMIT 1", kind, dataset, name, at)
}
