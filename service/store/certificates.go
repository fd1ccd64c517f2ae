package store

import (
	"context"
	"encoding/json"
	"fmt"
)

const certificateColumns = `SELECT c.id, c.table_id, d.name AS dataset, c.statement, c.signature, p.name AS created_by, c.created_at, (SELECT reason FROM withdrawals WHERE table_id = c.table_id) AS withdrawn
	FROM certificates c JOIN tables t ON t.id = c.table_id JOIN datasets d ON d.id = t.dataset_id JOIN people p ON p.id = c.created_by`

// AddCertificate records a certificate.
func AddCertificate(ctx context.Context, q Querier, table, audit int64, statement json.RawMessage, signature string,
	person int64) (*Certificate, error) {
	id, err := get[int64](ctx, q, "certificate",
		"INSERT INTO certificates (table_id, audit_id, statement, signature, created_by) VALUES ($1, $2, $3, $4, $5) RETURNING id",
		table, audit, string(statement), signature, person)
	if err != nil {
		return nil, err
	}
	return FindCertificate(ctx, q, *id)
}

// FindCertificate returns a certificate by its id.
func FindCertificate(ctx context.Context, q Querier, id int64) (*Certificate, error) {
	return get[Certificate](ctx, q, fmt.Sprintf("certificate %d", id), certificateColumns+" WHERE c.id = $1", id)
}

// Certificates lists certificates.
func Certificates(ctx context.Context, q Querier, c Cursor) (*Page[Certificate], error) {
	return page(ctx, q, c, func(c *Certificate) int64 { return c.ID }, certificateColumns+
		" WHERE c.id < $1 ORDER BY c.id DESC LIMIT $2")
}

// LastCertificate returns the newest certificate of a dataset's tables.
func LastCertificate(ctx context.Context, q Querier, dataset int64) (*Certificate, error) {
	return get[Certificate](ctx, q, "certificate of the dataset", certificateColumns+" WHERE t.dataset_id = $1 ORDER BY c.id DESC LIMIT 1", dataset)
}
