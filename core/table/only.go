package table

import "context"

// Only is a source with some of its columns, by their places; what is not asked for is not taken apart where the source can
// leave it out.
func Only(source Source, columns []int) Source {
	names := make([]string, len(columns))
	for k, c := range columns {
		names[k] = source.Columns()[c]
	}
	return only{source, columns, names}
}

type only struct {
	Source
	columns []int
	names   []string
}

// Columns implements Source.
func (o only) Columns() []string { return o.names }

// Open implements Source.
func (o only) Open(ctx context.Context) (Parts, error) {
	parts, err := o.Source.Open(ctx)
	if err != nil {
		return nil, err
	}
	return onlyParts{parts, o}, nil
}

type onlyParts struct {
	Parts
	of only
}

// Next implements Parts.
func (p onlyParts) Next() (Part, error) {
	part, err := p.Parts.Next()
	if err != nil {
		return nil, err
	}
	return onlyPart{part, p.of}, nil
}

type onlyPart struct {
	Part
	of only
}

// Batch implements Part.
func (p onlyPart) Batch(shared []*Dictionary) (*Batch, error) {
	all := make([]*Dictionary, len(p.of.Source.Columns()))
	for k, c := range p.of.columns {
		if shared == nil {
			all[c] = NewDictionary()
		} else {
			all[c] = shared[k]
		}
	}
	b, err := p.Part.Batch(all)
	if err != nil {
		return nil, err
	}
	some := make([]Column, len(p.of.columns))
	for k, c := range p.of.columns {
		some[k] = b.Columns[c]
	}
	b.Columns = some
	return b, nil
}
