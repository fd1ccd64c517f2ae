// Package engine reads tables that lie in databases. Each engine is one file, which registers itself; what they have in common, from
// limits to the text that a table becomes, is here.
//
// A session sees all as of one moment, and can write nothing: the server is told so, and what a person wrote is sent as one statement.
package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"time"
)

// Database is how a database is reached.
type Database struct {
	Engine   string // one of Names
	Host     string
	Port     int // 0 for the engine's own
	Name     string
	User     string
	Password string
	// TLS says that the server must prove who it is, by a certificate that this machine trusts.
	TLS     bool
	Timeout time.Duration // of one statement; 0 for DefaultTimeout
}

// DefaultTimeout is how long a statement may take where nothing else is declared.
const DefaultTimeout = 30 * time.Minute

// connectWait is how long a server may take to answer at first.
const connectWait = 15 * time.Second

// Kind is a kind of database.
type Kind struct {
	Name  string // as it is declared
	Title string // as people call it
	Port  int    // where it listens, mostly
	open  func(ctx context.Context, d *Database) (Session, error)
}

// Session is a connection to a database. It is used by one goroutine.
type Session interface {
	// Server says what the server is, with its version.
	Server() string
	// Tables lists the tables and views that can be read, by schema and name.
	Tables(ctx context.Context) ([]Table, error)
	// Read begins to read a table or what a query gives. What was being read before must have been closed.
	Read(ctx context.Context, r Relation) (Rows, error)
	// Describe tells the columns of a relation.
	Describe(ctx context.Context, r Relation) ([]Column, error)
	// Ask puts a question in the engine's own SQL, whose answers are all texts. What was being read before must have been closed.
	Ask(ctx context.Context, statement string) (Rows, error)
	// From is how a statement of Ask names a relation.
	From(r Relation) string
	// Close ends the session.
	Close() error
}

// Table is a table or view of a database.
type Table struct {
	Schema, Name string
	View         bool
	Rows         int64 // as the server estimates them; -1 where it does not say
}

// Relation is what is read: a table, or a query where there is one.
type Relation struct {
	Schema, Table string
	Query         string
}

// String names it.
func (r Relation) String() string {
	if r.Query != "" {
		return "a query"
	}
	return r.Schema + "." + r.Table
}

// Column is a column as the engine declares it.
type Column struct {
	Name string `json:"name"`
	Type string `json:"type"` // in the words of the engine
	// Text says that its values are whatever somebody wrote, and not numbers, dates or truth values that the engine writes.
	Text bool `json:"text,omitempty"`
}

// Rows are the rows of a relation, one after the other.
type Rows interface {
	Columns() []Column
	// Next reads the next row; io.EOF after the last one. Its cells last until the next call. They are texts, a null is nil.
	Next() ([][]byte, error)
	// Snapshot says as of when the rows are, in the words of the engine; empty where it does not say.
	Snapshot() string
	Close() error
}

// Errors that can be told apart with errors.Is. Those of Open and Read carry what the server said.
var (
	ErrKind     = errors.New("this kind of database is not known")
	ErrRefused  = errors.New("the database refused the user or the password")
	ErrReached  = errors.New("the database could not be reached")
	ErrQuery    = errors.New("the database refused the query")
	ErrTimeout  = errors.New("the database took longer than its limit for one statement")
	ErrGone     = errors.New("the connection to the database was lost")
	ErrRelation = errors.New("there is no such table in the database, or its user may not read it")
)

var kinds = map[string]Kind{}

func register(k Kind) { kinds[k.Name] = k }

// Kinds lists the kinds of database, by name.
func Kinds() []Kind {
	var all []Kind
	for _, k := range kinds {
		all = append(all, k)
	}
	slices.SortFunc(all, func(a, b Kind) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// Find returns the kind of a name; ErrKind where there is none.
func Find(name string) (Kind, error) {
	kind, known := kinds[name]
	if !known {
		return Kind{}, fmt.Errorf("%w: %q; use one of %s", ErrKind, name, strings.Join(Names(), ", "))
	}
	return kind, nil
}

// Names lists the names of the kinds.
func Names() []string {
	var names []string
	for _, k := range Kinds() {
		names = append(names, k.Name)
	}
	return names
}

// Open begins a session. It returns ErrKind, ErrRefused, ErrReached, or another error of the server.
func Open(ctx context.Context, d Database) (Session, error) {
	kind, err := Find(d.Engine)
	if err != nil {
		return nil, err
	}
	d.Port, d.Timeout = cmp.Or(d.Port, kind.Port), cmp.Or(d.Timeout, DefaultTimeout)
	return kind.open(ctx, &d)
}

// ofConnection says what an error means that no server told.
func ofConnection(err error) error {
	var network net.Error
	switch {
	case errors.As(err, &network):
		return fmt.Errorf("%w: %s", ErrReached, lastOf(err))
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return ErrGone
	}
	return err
}

// lastOf is what an error says in the end, without how a driver came to it.
func lastOf(err error) string {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err.Error()
		}
		err = inner
	}
}
