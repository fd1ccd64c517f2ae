package table

import "context"

// OneIn is a source with one of so many of its parts, the first among them, spread evenly over it; rows keep their numbers.
func OneIn(source Source, parts int) Source { return sampled{source, max(parts, 1)} }

type sampled struct {
	Source
	oneIn int
}

// Open implements Source.
func (s sampled) Open(ctx context.Context) (Parts, error) {
	parts, err := s.Source.Open(ctx)
	if err != nil {
		return nil, err
	}
	return &sampledParts{Parts: parts, oneIn: s.oneIn}, nil
}

type sampledParts struct {
	Parts
	oneIn, seen int
}

// Next implements Parts.
func (p *sampledParts) Next() (Part, error) {
	for {
		part, err := p.Parts.Next()
		if err != nil {
			return nil, err
		}
		p.seen++
		if (p.seen-1)%p.oneIn == 0 {
			return part, nil
		}
	}
}
