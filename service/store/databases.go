package store

import (
	"context"
	"fmt"

	"proudsieve/service/records"
)

const databaseColumns = `SELECT d.id, d.name, d.engine, d.host, d.port, d.database, d.login, d.secret, d.tls, d.timeout_minutes, d.audit_minutes, d.row_limit, d.byte_limit,
	p.name AS created_by, d.created_at FROM databases d JOIN people p ON p.id = d.created_by WHERE d.removed_at IS NULL`

// AddDatabase records a database. A name that is taken is ErrConflict.
func AddDatabase(ctx context.Context, q Querier, n *records.NewDatabase, person int64) (*Database, error) {
	id, err := get[int64](ctx, q, "database", `INSERT INTO databases (name, engine, host, port, database, login, secret, tls, timeout_minutes, audit_minutes, row_limit, byte_limit, created_by)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) RETURNING id`,
		n.Name, n.Engine, n.Host, n.Port, n.Database, n.Login, n.Secret, n.TLS, n.TimeoutMinutes, n.AuditMinutes, n.RowLimit, n.ByteLimit, person)
	if err != nil {
		return nil, conflict(err, "there is a database %q already", n.Name)
	}
	return get[Database](ctx, q, "database "+n.Name, databaseColumns+" AND d.id = $1", *id)
}

// Databases lists the databases, by name.
func Databases(ctx context.Context, q Querier) ([]Database, error) {
	return list[Database](ctx, q, databaseColumns+" ORDER BY d.name")
}

// FindDatabase returns a database by its name.
func FindDatabase(ctx context.Context, q Querier, name string) (*Database, error) {
	return get[Database](ctx, q, fmt.Sprintf("database %q", name), databaseColumns+" AND d.name = $1", name)
}

// RemoveDatabase says that nothing more is taken from a database; what was fetched from it again and again ends.
func RemoveDatabase(ctx context.Context, q Querier, id int64) error {
	if _, err := exec(ctx, q, "UPDATE databases SET removed_at = now() WHERE id = $1", id); err != nil {
		return err
	}
	_, err := exec(ctx, q, "UPDATE fetches SET ended_at = now(), next_at = NULL WHERE database_id = $1 AND ended_at IS NULL", id)
	return err
}
