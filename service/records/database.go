package records

import "time"

// Database is a database from which tables are taken as deliveries.
type Database struct {
	ID             int64     `db:"id" json:"id"`
	Name           string    `db:"name" json:"name"`
	Engine         string    `db:"engine" json:"engine" doc:"What it is, as postgresql"`
	Host           string    `db:"host" json:"host"`
	Port           int       `db:"port" json:"port"`
	Database       string    `db:"database" json:"database" doc:"The name that the server knows it by"`
	Login          string    `db:"login" json:"login" doc:"As whom it is read"`
	Secret         string    `db:"secret" json:"secret" doc:"The name of the password among the secrets of the nodes; empty for none"`
	TLS            bool      `db:"tls" json:"tls" doc:"The server must prove who it is"`
	TimeoutMinutes int       `db:"timeout_minutes" json:"timeout_minutes" doc:"How long a statement may take"`
	AuditMinutes   int       `db:"audit_minutes" json:"audit_minutes" doc:"How long the questions of one audit may take together, of a table that is judged where it lies; 0 for no end"`
	RowLimit       int64     `db:"row_limit" json:"row_limit" doc:"How many rows may be taken at once; 0 for no limit"`
	ByteLimit      int64     `db:"byte_limit" json:"byte_limit" doc:"How many bytes may be taken at once; 0 for the service's own limit"`
	CreatedBy      string    `db:"created_by" json:"created_by"`
	CreatedAt      time.Time `db:"created_at" json:"created_at"`
}

// NewDatabase declares a database.
type NewDatabase struct {
	Name           string `json:"name" minLength:"1" maxLength:"60" pattern:"^[a-z0-9][a-z0-9_-]*$" doc:"Small letters, digits, - and _"`
	Engine         string `json:"engine" minLength:"1" maxLength:"40"`
	Host           string `json:"host" minLength:"1" maxLength:"253"`
	Port           int    `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"The engine's own where it is left out"`
	Database       string `json:"database" minLength:"1" maxLength:"200" doc:"The name that the server knows it by"`
	Login          string `json:"login" minLength:"1" maxLength:"200" doc:"As whom it is read: somebody who may read what stewards are to see, and do nothing else"`
	Secret         string `json:"secret,omitempty" maxLength:"60" doc:"The name of the password among the secrets of the nodes; left out for none"`
	TLS            bool   `json:"tls,omitempty" doc:"The server must prove who it is"`
	TimeoutMinutes int    `json:"timeout_minutes,omitempty" minimum:"0" maximum:"1440" doc:"How long a statement may take; 30 where it is left out"`
	AuditMinutes   int    `json:"audit_minutes,omitempty" minimum:"0" maximum:"10080" doc:"How long the questions of one audit may take together, of a table that is judged where it lies; no end where it is left out"`
	RowLimit       int64  `json:"row_limit,omitempty" minimum:"0" maximum:"9007199254740991"`
	ByteLimit      int64  `json:"byte_limit,omitempty" minimum:"0" maximum:"9007199254740991"`
}

// Relation is what is taken of a database: a table, or what a query gives.
type Relation struct {
	Database string `db:"database" json:"database,omitempty" maxLength:"60" doc:"By its name; left out for a web address"`
	Schema   string `db:"schema_name" json:"schema,omitempty" maxLength:"200"`
	Table    string `db:"table_name" json:"table,omitempty" maxLength:"200"`
	Query    string `db:"query" json:"query,omitempty" maxLength:"100000" doc:"A SELECT in the words of the engine, instead of a table"`
	InPlace  bool   `db:"in_place" json:"in_place,omitempty" doc:"The table is judged where it lies, and none of its rows are taken"`
}

// DatabaseTable is a table or view that can be taken.
type DatabaseTable struct {
	Schema string `json:"schema"`
	Name   string `json:"name"`
	View   bool   `json:"view"`
	Rows   int64  `json:"rows" doc:"As the server estimates them; -1 where it does not say"`
}

// Engine is a kind of database that can be read.
type Engine struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Port  int    `json:"port" doc:"Where it listens, mostly"`
}
