package relation

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"proudsieve/core/budget"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// GroupKind tells groups of rows apart that share a key.
type GroupKind string

// The kinds of groups.
const (
	Equal       GroupKind = "equal"       // their rows are equal in every cell
	Conflicting GroupKind = "conflicting" // they share the key and differ elsewhere
	// their keys are equal once spaces, case, accents and code spellings are levelled
	Near GroupKind = "near"
)

// GroupKinds lists the kinds in the order in which they are shown.
var GroupKinds = []GroupKind{Equal, Conflicting, Near}

const (
	// groupsListed bounds the groups of a kind that can be paged through, in file order.
	groupsListed = 10_000
	// membersShown bounds the rows that are shown of one group.
	membersShown = 50
	// sharingMost bounds the rows in groups, whose keys are held in memory.
	sharingMost  = 3_000_000
	sharingBytes = 100 // of each of them
	groupsRoom   = 1 << 14
)

// Groups are the rows of a table that share the values of some columns.
type Groups struct {
	Columns []string                  `json:"columns"`
	Rows    int64                     `json:"rows"`    // of the table
	Lacking int64                     `json:"lacking"` // rows that lack a part, and are in no group
	Of      map[GroupKind]GroupsCount `json:"of"`
	// SurplusLevelled is how many surplus rows there would be once the codes and spellings of the
	// key are made consistent.
	SurplusLevelled int64 `json:"surplus_levelled"`

	listed map[GroupKind][][]uint32 // the rows of each group
}

// GroupsCount counts groups of one kind: all rows of a group but one are surplus.
type GroupsCount struct {
	Groups  int64             `json:"groups"`
	Rows    int64             `json:"rows"`
	Surplus int64             `json:"surplus"`
	Impact  map[string]string `json:"impact"` // the sum of each measure over the surplus rows, exact
}

// Group is a group with its rows side by side.
type Group struct {
	Kind    GroupKind `json:"kind"`
	Count   int       `json:"count"` // of its rows, of which not all may be shown
	Differs []string  `json:"differs"`
	Rows    []Row     `json:"rows"`
}

// Row is a row as it stands.
type Row struct {
	Row   uint32   `json:"row"`
	Line  int64    `json:"line"`
	Cells []string `json:"cells"`
}

// keyed is a row by its key as it is, and by all its cells.
type keyed struct {
	key, whole table.Hash
}

// FindGroups finds the rows that share the values of columns. Rows that lack one of them are in no group, and counted.
func FindGroups(ctx context.Context, t *Table, columns []string) (*Groups, error) {
	at, err := t.positions(columns)
	if err != nil {
		return nil, err
	}
	out := &Groups{Columns: columns, Of: map[GroupKind]GroupsCount{}, listed: map[GroupKind][][]uint32{}}
	levelled := table.NewGroups(table.NewRoom(3))
	defer levelled.Close()
	// First the keys as they are when levelled: equal keys are equal then too.
	type part struct {
		rows, lacking int64
		hashed        table.HashedRows
	}
	var failed error
	err = scanWith(ctx, t, at, func() *identities { return t.identities(at, foldedText) }, func() *part { return &part{} },
		func(p *part, d *identities, b *table.Batch) {
			p.rows += int64(b.Len())
			hashes, missing := d.hash(b, at)
			for i, row := range b.Rows {
				if missing[i] {
					p.lacking++
				} else {
					p.hashed.Add(hashes[i], row)
				}
			}
		}, func(p *part) {
			out.Rows += p.rows
			out.Lacking += p.lacking
			failed = errors.Join(failed, levelled.Take(&p.hashed))
		})
	if err := errors.Join(err, failed); err != nil {
		return nil, err
	}
	shared := table.NewRowSet()
	var groups [][]uint32
	var room []uint32 // of the groups to come
	sharing := 0
	if err := levelled.Repeated(t.Workers, func(_ table.Hash, rows []uint32) error {
		if sharing += len(rows); sharing > sharingMost {
			return fmt.Errorf("more than %d rows share their %s with others; name more columns, so that they are fewer",
				sharingMost, document.Join(columns))
		}
		if !budget.Of(ctx).Grow(int64(len(rows)) * sharingBytes) {
			return fmt.Errorf("%w: %d rows share their %s with others", budget.ErrBusy, sharing, document.Join(columns))
		}
		shared.AddMany(rows)
		if len(rows) > cap(room)-len(room) {
			room = make([]uint32, 0, max(groupsRoom, len(rows)))
		}
		room = append(room, rows...)
		groups = append(groups, room[len(room)-len(rows):len(room):len(room)])
		out.SurplusLevelled += int64(len(rows) - 1)
		return nil
	}); err != nil {
		return nil, err
	}
	slices.SortFunc(groups, func(a, b []uint32) int { return cmp.Compare(a[0], b[0]) })
	keys, err := t.keysOf(ctx, at, shared, groups)
	if err != nil {
		return nil, err
	}
	surplus := out.tell(groups, keys)
	return out, out.weigh(ctx, t, surplus)
}

// hashKeys hashes columns of a batch, given what the texts of each are one thing with others by.
func (t *Table) hashKeys(b *table.Batch, at []int, identity func(cells *rulebook.Cells, text string) table.Token) []table.Hash {
	hashes := make([]table.Hash, b.Len())
	for _, c := range at {
		cells, column := t.Book.Cells(t.Source.Columns()[c]), &b.Columns[c]
		tokens := table.TokensRoom(len(column.Texts))
		for code, text := range column.Texts {
			tokens[code] = identity(cells, text)
		}
		table.HashColumn(hashes, tokens, column.Codes)
		table.RecycleTokens(tokens)
	}
	return hashes
}

// keysOf hashes the keys and all cells of the rows in groups as they stand, those of one group after those of another.
func (t *Table) keysOf(ctx context.Context, at []int, rows *table.RowSet, groups [][]uint32) ([]keyed, error) {
	all := make([]int, len(t.Source.Columns()))
	for c := range all {
		all[c] = c
	}
	if rows.IsEmpty() {
		return nil, nil
	}
	// The rows as they will be met, each with its place among the groups.
	places := make([]uint64, 0, rows.GetCardinality())
	for _, group := range groups {
		for _, row := range group {
			places = append(places, uint64(row)<<32|uint64(len(places)))
		}
	}
	slices.Sort(places)
	out, met := make([]keyed, len(places)), 0
	err := table.ScanBatches(ctx, table.Where(t.Source, rows), t.Workers, func(b *table.Batch) ([]keyed, error) {
		keys := t.hashKeys(b, at, func(cells *rulebook.Cells, text string) table.Token {
			token, _ := cells.IdentityToken(text)
			return token
		})
		whole := t.hashKeys(b, all, func(_ *rulebook.Cells, text string) table.Token { return table.TokenOf(text) })
		found := make([]keyed, 0, b.Len())
		for i, row := range b.Rows {
			if rows.Contains(row) {
				found = append(found, keyed{keys[i], whole[i]})
			}
		}
		return found, nil
	}, func(found []keyed) error {
		for _, one := range found {
			out[uint32(places[met])] = one
			met++
		}
		return nil
	})
	return out, err
}

// tell takes groups of levelled keys apart: those of one key, equal or conflicting, and
// where a group has several keys, the group as a near one. keys are those of their rows, one group's after another's. It returns the
// surplus rows of each kind.
func (g *Groups) tell(groups [][]uint32, keys []keyed) map[GroupKind]*table.RowSet {
	surplus := map[GroupKind][]uint32{}
	add := func(kind GroupKind, rows []uint32, more []uint32) {
		c := g.Of[kind]
		c.Groups++
		c.Rows += int64(len(rows))
		c.Surplus += int64(len(more))
		g.Of[kind] = c
		surplus[kind] = append(surplus[kind], more...)
		if len(g.listed[kind]) < groupsListed {
			g.listed[kind] = append(g.listed[kind], rows)
		}
	}
	ofOneKey := func(rows []uint32, of []keyed) {
		kind := Equal
		if slices.ContainsFunc(of[1:], func(one keyed) bool { return one.whole != of[0].whole }) {
			kind = Conflicting
		}
		add(kind, rows, rows[1:])
	}
	for _, rows := range groups {
		of := keys[:len(rows)]
		keys = keys[len(rows):]
		if !slices.ContainsFunc(of[1:], func(one keyed) bool { return one.key != of[0].key }) {
			ofOneKey(rows, of)
			continue
		}
		var more []uint32 // the first row of each further key becomes surplus by levelling
		for i, places := range byKey(of) {
			if i > 0 {
				more = append(more, rows[places[0]])
			}
			if len(places) < 2 {
				continue
			}
			members, theirs := make([]uint32, len(places)), make([]keyed, len(places))
			for k, at := range places {
				members[k], theirs[k] = rows[at], of[at]
			}
			ofOneKey(members, theirs)
		}
		add(Near, rows, more)
	}
	sets := map[GroupKind]*table.RowSet{}
	for _, kind := range GroupKinds {
		slices.Sort(surplus[kind])
		sets[kind] = table.NewRowSet()
		sets[kind].AddMany(surplus[kind])
	}
	return sets
}

// byKey returns the places of the rows of a group that have one key, in the order in which the keys are met.
func byKey(rows []keyed) (apart [][]int) {
	known := map[table.Hash]int{}
	for at := range rows {
		of, ok := known[rows[at].key]
		if !ok {
			of, apart = len(apart), append(apart, nil)
			known[rows[at].key] = of
		}
		apart[of] = append(apart[of], at)
	}
	return apart
}

// weigh sums the measures over the surplus rows.
func (g *Groups) weigh(ctx context.Context, t *Table, surplus map[GroupKind]*table.RowSet) error {
	at, err := t.positions(t.Book.Measures)
	if err != nil {
		at = nil // a measure that the table does not have
	}
	for _, kind := range GroupKinds {
		c := g.Of[kind]
		c.Impact = map[string]string{}
		sums := make([]table.Decimal, len(t.Book.Measures))
		if rows := surplus[kind]; !rows.IsEmpty() && len(at) > 0 {
			if err := table.ScanBatches(ctx, table.Where(table.Only(t.Source, at), rows), t.Workers, func(b *table.Batch) ([]table.Decimal, error) {
				var some []int
				for i, row := range b.Rows {
					if rows.Contains(row) {
						some = append(some, i)
					}
				}
				part := make([]table.Decimal, len(at))
				for m := range at {
					part[m] = t.Book.Cells(t.Book.Measures[m]).Sum(&b.Columns[m], some)
				}
				return part, nil
			}, func(part []table.Decimal) error {
				for m := range sums {
					sums[m] = sums[m].Add(part[m])
				}
				return nil
			}); err != nil {
				return err
			}
		}
		for m := range at {
			c.Impact[t.Book.Measures[m]] = sums[m].Shortest()
		}
		g.Of[kind] = c
	}
	return nil
}

// Page returns some groups of a kind with their rows, in file order, and how many of that kind can be paged through.
func (g *Groups) Page(ctx context.Context, t *Table, kind GroupKind,
	offset, limit int) (groups []Group, of int, err error) {
	groups = []Group{}
	all := g.listed[kind]
	chosen := all[min(offset, len(all)):min(offset+limit, len(all))]
	wanted := table.NewRowSet()
	for _, members := range chosen {
		wanted.AddMany(members[:min(len(members), membersShown)])
	}
	rows, err := t.rowsAt(ctx, wanted)
	if err != nil {
		return nil, 0, err
	}
	names := t.Source.Columns()
	for _, members := range chosen {
		one := Group{Kind: kind, Count: len(members), Differs: []string{}}
		for _, row := range members[:min(len(members), membersShown)] {
			one.Rows = append(one.Rows, rows[row])
		}
		for c, name := range names {
			if slices.ContainsFunc(one.Rows, func(r Row) bool { return r.Cells[c] != one.Rows[0].Cells[c] }) {
				one.Differs = append(one.Differs, name)
			}
		}
		groups = append(groups, one)
	}
	return groups, len(all), nil
}

// rowsAt reads some rows.
func (t *Table) rowsAt(ctx context.Context, wanted *table.RowSet) (map[uint32]Row, error) {
	out := map[uint32]Row{}
	if wanted.IsEmpty() {
		return out, nil
	}
	err := table.ScanBatches(ctx, table.Where(t.Source, wanted), t.Workers, func(b *table.Batch) ([]Row, error) {
		var found []Row
		for i, row := range b.Rows {
			if !wanted.Contains(row) {
				continue
			}
			one := Row{row, b.Lines[i], make([]string, len(b.Columns))}
			for c := range b.Columns {
				one.Cells[c] = b.Columns[c].At(i)
			}
			found = append(found, one)
		}
		return found, nil
	}, func(found []Row) error {
		for _, one := range found {
			out[one.Row] = one
		}
		return nil
	})
	return out, err
}
