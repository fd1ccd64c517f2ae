package store

import (
	"context"
	"fmt"
	"time"
)

// The kinds of declarations.
const (
	KindRulebook = "rulebook"
	KindFixPlan  = "fix_plan"
	KindMerge    = "merge"
)

// Declaration is one version of a rulebook, fix plan or merge.
type Declaration struct {
	ID        int64     `db:"id" json:"id"`
	Kind      string    `db:"kind" json:"kind" enum:"rulebook,fix_plan,merge"`
	Dataset   string    `db:"dataset" json:"dataset"`
	DatasetID int64     `db:"dataset_id" json:"-"`
	Name      string    `db:"name" json:"name"`
	Version   int       `db:"version" json:"version"`
	Source    string    `db:"source" json:"source" doc:"The text as it was declared, YAML"`
	Digest    string    `db:"digest" json:"digest" doc:"SHA-256 of the text"`
	Author    string    `db:"author" json:"author"`
	CreatedAt time.Time `db:"created_at" json:"created_at"`
}

const declarationColumns = `SELECT c.id, c.kind, d.name AS dataset, c.dataset_id, c.name, c.version, c.source, c.digest, p.name AS author, c.created_at
	FROM declarations c JOIN datasets d ON d.id = c.dataset_id JOIN people p ON p.id = c.author_id`

// AddDeclaration records a new version; the text of the newest version again adds none.
func AddDeclaration(ctx context.Context, q Querier, kind string, dataset int64, name, source, digest string, author int64) (*Declaration, error) {
	// The lock on the dataset's row makes versions follow one another.
	if _, err := q.ExecContext(ctx, "SELECT id FROM datasets WHERE id = $1 FOR UPDATE", dataset); err != nil {
		return nil, err
	}
	_, err := q.ExecContext(ctx, `WITH newest AS (
			SELECT version, digest FROM declarations WHERE kind = $1 AND dataset_id = $2 AND name = $3 ORDER BY version DESC LIMIT 1)
		INSERT INTO declarations (kind, dataset_id, name, version, source, digest, author_id)
		SELECT $1, $2, $3, COALESCE((SELECT version FROM newest), 0) + 1, $4, $5, $6
		WHERE NOT EXISTS (SELECT FROM newest WHERE digest = $5)`, kind, dataset, name, source, digest, author)
	if err != nil {
		return nil, err
	}
	return NewestDeclaration(ctx, q, kind, dataset, name)
}

// NewestDeclaration returns the newest version.
func NewestDeclaration(ctx context.Context, q Querier, kind string, dataset int64, name string) (*Declaration, error) {
	return get[Declaration](ctx, q, fmt.Sprintf("%s %q", words[kind], name), declarationColumns+" WHERE c.kind = $1 AND c.dataset_id = $2 AND c.name = $3 ORDER BY c.version DESC LIMIT 1", kind, dataset, name)
}

var words = map[string]string{KindRulebook: "rulebook of", KindFixPlan: "fix plan", KindMerge: "merge"}

// DeclarationVersion returns one version.
func DeclarationVersion(ctx context.Context, q Querier, kind string, dataset int64, name string, version int) (*Declaration, error) {
	return get[Declaration](ctx, q, fmt.Sprintf("version %d of the %s %q", version, words[kind], name), declarationColumns+" WHERE c.kind = $1 AND c.dataset_id = $2 AND c.name = $3 AND c.version = $4", kind, dataset, name, version)
}

// FindDeclaration returns a declaration by its id.
func FindDeclaration(ctx context.Context, q Querier, id int64) (*Declaration, error) {
	return get[Declaration](ctx, q, fmt.Sprintf("declaration %d", id), declarationColumns+" WHERE c.id = $1", id)
}

// Declarations lists versions of a kind; dataset 0 means all datasets.
func Declarations(ctx context.Context, q Querier, kind string, dataset int64, c Cursor) (*Page[Declaration], error) {
	return page(ctx, q, c, func(d *Declaration) int64 { return d.ID }, declarationColumns+" WHERE c.id < $1 AND c.kind = $3 AND ($4 = 0 OR c.dataset_id = $4) ORDER BY c.id DESC LIMIT $2", kind, dataset)
}
