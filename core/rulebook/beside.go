package rulebook

import (
	"context"

	"proudsieve/core/profile"
	"proudsieve/core/table"
)

// Beside is what a table is judged against besides its own rows.
type Beside struct {
	// Open returns the table of another dataset that counts now, with its rulebook.
	Open func(ctx context.Context, dataset string) (table.Source, *Rulebook, error)
	// Past are the profiles of earlier deliveries, the last one first.
	Past []Past
	// Today is the day of the audit, in days since 1970-01-01.
	Today int64
	// Used says which table of each other dataset was opened; Open writes it.
	Used map[string]string
}

// Past is the profile of an earlier delivery.
type Past struct {
	Rows    int64
	Columns []PastColumn
}

// PastColumn is a column of an earlier delivery.
type PastColumn struct {
	Name string
	Type table.Type
	profile.Column
}

// Column returns a column by its name, or nil.
func (p *Past) Column(name string) *PastColumn {
	for i := range p.Columns {
		if p.Columns[i].Name == name {
			return &p.Columns[i]
		}
	}
	return nil
}
