package audit

import (
	"slices"

	"proudsieve/core/table"
)

// hashKeys hashes the keys of every row, and the rows. A row with a missing part of a
// key is compared with none.
func (s *stretch) hashKeys(b *table.Batch) {
	if cap(s.hashes) < b.Len() {
		s.hashes, s.lacking = make([]table.Hash, b.Len()*5/4), make([]bool, b.Len()*5/4)
	}
	hashes, lacking := s.hashes[:b.Len()], s.lacking[:b.Len()]
	for k := len(s.plan.keys) - 1; k >= 0; k-- { // the first one last, for equal rows
		check := s.plan.checks[s.plan.keys[k]]
		if check.unjudged != "" {
			continue
		}
		clear(lacking)
		for _, c := range check.at {
			if column := &s.columns[c]; column.anyMissing {
				for i, code := range b.Columns[c].Codes {
					lacking[i] = lacking[i] || column.missing[code]
				}
			}
		}
		if climb := &s.climbs[k]; !climb.over {
			c := check.at[0]
			if climb.take(s.columns[c].identities, b.Columns[c].Codes, b.Rows, lacking) {
				continue
			}
			climb.over = true
		}
		clear(hashes)
		for _, c := range check.at {
			identities := s.columns[c].identities
			for i, code := range b.Columns[c].Codes {
				hashes[i] = table.With(hashes[i], identities[code])
			}
		}
		for i, h := range hashes {
			if !lacking[i] {
				s.hashed[k].Add(h, b.Rows[i])
			}
		}
	}
	if s.plan.equalRows < 0 {
		return
	}
	// Equal rows share their key, so that where there is one only rows without it are hashed here.
	via := s.plan.equalVia
	if via < 0 {
		clear(lacking)
	} else if !slices.Contains(lacking, true) {
		return
	}
	clear(hashes)
	for c := range b.Columns {
		tokens := s.dictionaries[c].Tokens
		for i, code := range b.Columns[c].Codes {
			hashes[i] = table.With(hashes[i], tokens[code])
		}
	}
	for i, cells := range b.Surplus {
		hashes[i] = table.WithTexts(hashes[i], cells)
	}
	last := len(s.hashed) - 1
	for i, h := range hashes {
		if via < 0 || lacking[i] {
			s.hashed[last].Add(h, b.Rows[i])
		}
	}
}
