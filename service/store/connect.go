package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
)

const (
	// placePatience is how long a connection is waited for where the database has no place left or is
	// still starting: several nodes, backups and people share its places, and each gives them back soon.
	placePatience = 10 * time.Second
	placePause    = 50 * time.Millisecond
)

// connect opens the database at an address, which must answer.
func connect(ctx context.Context, address string) (*sqlx.DB, error) {
	config, err := pgx.ParseConfig(address)
	if err != nil {
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	db := sqlx.NewDb(sql.OpenDB(patient{stdlib.GetConnector(*config)}), "pgx")
	if err := db.PingContext(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("connecting to the database: %w", err), db.Close())
	}
	return db, nil
}

// patient connects like another connector, and waits for a place where the database has none.
type patient struct{ driver.Connector }

func (p patient) Connect(ctx context.Context) (driver.Conn, error) {
	for end := time.Now().Add(placePatience); ; {
		conn, err := p.Connector.Connect(ctx)
		if err == nil || !full(err) || time.Now().After(end) {
			return conn, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(placePause):
		}
	}
}

// full reports whether a database refused a connection that it may take a moment later: too many
// connections, or not yet started (PostgreSQL, appendix A: 53300 and 57P03).
func full(err error) bool {
	var answer *pgconn.PgError
	return errors.As(err, &answer) && (answer.Code == "53300" || answer.Code == "57P03")
}
