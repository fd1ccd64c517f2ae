package store

import (
	"context"
	"encoding/json"
	"fmt"
)

const certificateColumns = `SELECT c.id, c.table_id, d.name AS dataset, c.statement,
	coalesce((SELECT whole FROM certificate_signatures WHERE certificate_id = c.id ORDER BY id DESC LIMIT 1), c.signature) AS signature, p.name AS created_by, c.created_at,
	coalesce((SELECT json_agg(o.name ORDER BY s.id) FROM certificate_signatures s JOIN people o ON o.id = s.person_id WHERE s.certificate_id = c.id), '[]') AS signers,
	(SELECT reason FROM withdrawals WHERE table_id = c.table_id) AS withdrawn, r.at AS revoked_at, q.name AS revoked_by, r.reason AS revoked, r.replaced_by,
	coalesce(NULLIF(c.statement->>'valid_until', '')::date < (now() AT TIME ZONE 'UTC')::date, false) AS ended
	FROM certificates c JOIN tables t ON t.id = c.table_id JOIN datasets d ON d.id = t.dataset_id JOIN people p ON p.id = c.created_by
	LEFT JOIN revocations r ON r.certificate_id = c.id LEFT JOIN people q ON q.id = r.person_id`

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

// seenCertificates leaves out the certificates of tables that rest on a dataset which somebody may not see.
func seenCertificates(ctx context.Context) string {
	may := seen(ctx, "x.dataset_id")
	if may == "" {
		return ""
	}
	return " AND NOT EXISTS (SELECT FROM (" + fmt.Sprintf(chainOf, "c.table_id") + ") x WHERE NOT (true" + may + "))"
}

// Certificates lists certificates.
func Certificates(ctx context.Context, q Querier, c Cursor) (*Page[Certificate], error) {
	return page(ctx, q, c, func(c *Certificate) int64 { return c.ID }, certificateColumns+
		" WHERE c.id < $1"+seenCertificates(ctx)+" ORDER BY c.id DESC LIMIT $2")
}

// LastCertificate returns the newest certificate of a dataset's tables.
func LastCertificate(ctx context.Context, q Querier, dataset int64) (*Certificate, error) {
	return get[Certificate](ctx, q, "certificate of the dataset", certificateColumns+" WHERE t.dataset_id = $1 ORDER BY c.id DESC LIMIT 1", dataset)
}

// CertificateOf returns the newest certificate of a table that was not revoked.
func CertificateOf(ctx context.Context, q Querier, table int64) (*Certificate, error) {
	return get[Certificate](ctx, q, fmt.Sprintf("certificate of table %d", table), certificateColumns+" WHERE c.table_id = $1 AND r.certificate_id IS NULL ORDER BY c.id DESC LIMIT 1", table)
}

// LockCertificate makes those who sign or revoke a certificate follow one another, until the transaction ends.
func LockCertificate(ctx context.Context, q Querier, id int64) error {
	_, err := get[int64](ctx, q, fmt.Sprintf("certificate %d", id), "SELECT id FROM certificates WHERE id = $1 FOR UPDATE", id)
	return err
}

// AddSignature records that somebody else signed a certificate; whole is it with their signature. ErrConflict where they did before.
func AddSignature(ctx context.Context, q Querier, certificate, person int64, whole string) error {
	_, err := exec(ctx, q, "INSERT INTO certificate_signatures (certificate_id, person_id, whole) VALUES ($1, $2, $3)", certificate, person, whole)
	return conflict(err, "certificate %d was signed by them before", certificate)
}

// Revoke records that a certificate counts no more; replacedBy is the one that stands in for it, nil for none. ErrConflict where it
// was revoked before.
func Revoke(ctx context.Context, q Querier, certificate, person int64, reason string, replacedBy *int64) error {
	_, err := exec(ctx, q, "INSERT INTO revocations (certificate_id, person_id, reason, replaced_by) VALUES ($1, $2, $3, $4)", certificate, person, reason, replacedBy)
	return conflict(err, "certificate %d was revoked before", certificate)
}

// Revoked lists all certificates that count no more, oldest first.
func Revoked(ctx context.Context, q Querier) ([]Certificate, error) {
	return list[Certificate](ctx, q, certificateColumns+" WHERE r.certificate_id IS NOT NULL ORDER BY r.at, c.id")
}

// AddSigningKey records the public half of a key, unless it is there.
func AddSigningKey(ctx context.Context, q Querier, id string, key json.RawMessage) error {
	// By the clock, and not by when the transaction began: the key that is recorded last is the newest.
	_, err := exec(ctx, q, "INSERT INTO signing_keys (id, key, added_at) VALUES ($1, $2, clock_timestamp()) ON CONFLICT DO NOTHING", id, string(key))
	return err
}

// LockSigningKeys makes those who add keys follow one another, until the transaction ends.
func LockSigningKeys(ctx context.Context, q Querier) error {
	_, err := exec(ctx, q, "LOCK TABLE signing_keys IN SHARE ROW EXCLUSIVE MODE")
	return err
}

// SigningKeys lists the public halves of all keys, the newest first.
func SigningKeys(ctx context.Context, q Querier) ([]json.RawMessage, error) {
	return list[json.RawMessage](ctx, q, "SELECT key FROM signing_keys ORDER BY added_at DESC, id")
}

// NewestSigningKey returns the id of the key that counts now.
func NewestSigningKey(ctx context.Context, q Querier) (string, error) {
	id, err := get[string](ctx, q, "signing key", "SELECT id FROM signing_keys ORDER BY added_at DESC, id LIMIT 1")
	if err != nil {
		return "", err
	}
	return *id, nil
}
