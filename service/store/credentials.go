package store

import (
	"context"
	"fmt"

	"proudsieve/service/records"
)

const credentialColumns = `SELECT c.id, c.host, c.header, c.secret, c.certificate, c.authority, p.name AS created_by, c.created_at
	FROM credentials c JOIN people p ON p.id = c.created_by WHERE c.removed_at IS NULL`

// AddCredential records by what the service is let in at a host. A host that has one is ErrConflict.
func AddCredential(ctx context.Context, q Querier, n *records.NewCredential, person int64) (*Credential, error) {
	id, err := get[int64](ctx, q, "credential", "INSERT INTO credentials (host, header, secret, certificate, authority, created_by) VALUES ($1, $2, $3, $4, $5, $6) RETURNING id",
		n.Host, n.Header, n.Secret, n.Certificate, n.Authority, person)
	if err != nil {
		return nil, conflict(err, "there is a credential for %s already; remove it first", n.Host)
	}
	return get[Credential](ctx, q, "credential", credentialColumns+" AND c.id = $1", *id)
}

// Credentials lists the credentials, by host.
func Credentials(ctx context.Context, q Querier) ([]Credential, error) {
	return list[Credential](ctx, q, credentialColumns+" ORDER BY c.host")
}

// FindCredential returns the credential of a host.
func FindCredential(ctx context.Context, q Querier, host string) (*Credential, error) {
	return get[Credential](ctx, q, fmt.Sprintf("credential for %s", host), credentialColumns+" AND c.host = $1", host)
}

// RemoveCredential says that the service comes to a host without a credential.
func RemoveCredential(ctx context.Context, q Querier, id int64) error {
	_, err := exec(ctx, q, "UPDATE credentials SET removed_at = now() WHERE id = $1", id)
	return err
}
