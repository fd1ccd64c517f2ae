package merge

// Heir is a dataset of which a merged table has columns, so that what is declared of these still applies.
type Heir struct {
	Dataset string
	Columns map[string]string // what the merged table calls its columns, by the names that they have in the dataset
	Stacked bool
	// Everywhere says that each row of the merged table is one of this dataset, or found a partner in it.
	Everywhere bool
	// Unique says that the merge leaves one row of each key of the dataset: no other table has it, and none is multiplied.
	Unique bool
}

// Heirs returns the datasets of which the merged table has columns, those that are stacked first. Columns of a table whose grain was
// changed, but for what its rows had in common, are others than those that are declared.
func (a *Accounting) Heirs(plan *Plan) (out []Heir) {
	added, multiplied := false, false
	for _, j := range a.Joins {
		added, multiplied = added || j.Added > 0, multiplied || j.Multiplied > 0
	}
	alone := len(plan.Stack) == 1
	if s := a.Stack.Shared; s != nil {
		alone = alone && (s.Equal.Keys == 0 || s.Equal.Became == OnceOnly) && (s.Contradicting.Keys == 0 || s.Contradicting.Became == NewestWins || s.Contradicting.Became == CellByCell)
	}
	for _, dataset := range plan.Stack {
		h := Heir{Dataset: dataset, Columns: map[string]string{}, Stacked: true, Everywhere: !added, Unique: alone && !added && !multiplied}
		for _, in := range a.Inputs {
			if in.Dataset != dataset {
				continue
			}
			for _, column := range in.Columns {
				now := column
				if other, ok := a.Stack.Renamed[dataset][column]; ok {
					now = other
				}
				if g, changed := plan.Grains[dataset]; changed && !g.keeps(column) {
					continue
				}
				h.Columns[column] = now
				h.Everywhere = h.Everywhere && len(a.Stack.Lacking[now]) == 0
			}
			h.Unique = h.Unique && in.Grain == nil
		}
		out = append(out, h)
	}
	for i, j := range a.Joins {
		h := Heir{Dataset: j.With, Columns: map[string]string{}, Everywhere: j.RowsOut > 0 && j.Unmatched == j.SetAside && !added}
		for _, t := range j.Taken {
			if g, changed := plan.Grains[j.With]; changed && !g.keeps(t.From) {
				continue
			}
			if t.From != "" && i < len(plan.Joins) {
				h.Columns[t.From] = t.Column
			}
		}
		out = append(out, h)
	}
	return out
}

// keeps reports whether a column is still what it was after the change.
func (g *Grain) keeps(column string) bool {
	for _, c := range g.Group {
		if c == column {
			return true
		}
	}
	return false
}
