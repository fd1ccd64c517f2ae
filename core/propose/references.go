package propose

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Other is another dataset that the columns of a delivery may refer to.
type Other struct {
	Dataset string
	// Open returns its table that counts now, and its rulebook or a draft of one.
	Open func(ctx context.Context) (table.Source, *rulebook.Rulebook, error)
}

const (
	// referenceShare is the part, in tenths, of a column's cells that are keys of another dataset, and of the keys that
	// occur, for a reference and for coverage to be proposed.
	referenceShare = 9
	// referenceKeys is how many different keys a column refers to at the least; fewer agree by chance.
	referenceKeys = 5
	// keysHeld is how many keys another dataset has at the most.
	keysHeld = 1 << 20
	// unknownNamed is how many texts that are no key are named.
	unknownNamed = 4
)

// reference is a column whose values are keys of another dataset, or nearly all of them.
type reference struct {
	column         string
	to             rulebook.Elsewhere
	filled, known  int64
	met, keys      int
	unknown, never []string // some of the texts that are no key, and of the keys that do not occur
}

// ofKeys is the column of another dataset that names its rows.
type ofKeys struct {
	to      rulebook.Elsewhere
	integer bool
	known   map[string]bool
	folded  map[string]bool
}

// keysOf reads the keys of another dataset; nil where no column alone names its rows.
func keysOf(ctx context.Context, o Other, workers int) (*ofKeys, error) {
	source, book, err := o.Open(ctx)
	if err != nil {
		return nil, err
	}
	if c, ok := source.(io.Closer); ok {
		defer func() { _ = c.Close() }()
	}
	name := ""
	for _, d := range book.Rules {
		if d.Kind.Section == "keys" && len(d.Rule.Columns()) == 1 {
			name = d.Rule.Columns()[0]
			break
		}
	}
	if name == "" && !book.Judges() {
		if name, err = foundKey(ctx, source, book, workers); err != nil {
			return nil, err
		}
	}
	at := slices.Index(source.Columns(), name)
	if at < 0 {
		return nil, nil
	}
	k := &ofKeys{to: rulebook.Elsewhere{Dataset: o.Dataset, Columns: []string{name}}, known: map[string]bool{}, folded: map[string]bool{},
		integer: book.Cells(name).Type == table.TypeInteger}
	err = relation.Scan(ctx, &relation.Table{Source: source, Book: book, Workers: workers}, []int{at},
		func() map[string]bool { return map[string]bool{} },
		func(met map[string]bool, r *relation.Readers, b *table.Batch) {
			for row := range b.Rows {
				if cell := r.Cell(b, 0, row); !cell.Missing && len(met) <= keysHeld {
					met[cell.Identity(string([]byte(b.Columns[at].At(row))))] = true
				}
			}
		}, func(met map[string]bool) {
			for text := range met {
				k.known[text], k.folded[table.Fold(text)] = true, true
			}
		})
	if err != nil || len(k.known) < referenceKeys || len(k.known) > keysHeld {
		return nil, err
	}
	return k, nil
}

// foundKey returns the first column that names the rows of a table that nobody declared anything about.
func foundKey(ctx context.Context, source table.Source, book *rulebook.Rulebook, workers int) (string, error) {
	result, err := audit.Run(ctx, source, book, workers)
	if err != nil {
		return "", err
	}
	keys, err := relation.Keys(ctx, &relation.Table{Source: source, Book: result.Book(), Workers: workers}, result.Rows, result.KeyCandidates())
	for _, k := range keys {
		if len(k.Columns) == 1 && k.Surplus+k.Lacking == 0 {
			return k.Columns[0], err
		}
	}
	return "", err
}

// refer finds which columns of the last delivery refer to other datasets. Each column refers to the one that knows most
// of its values, of equals to the one with the fewest keys.
func (e *evidence) refer(ctx context.Context, source table.Source, others []Other, workers int) error {
	type pair struct {
		column int
		keys   *ofKeys
	}
	var pairs []pair
	names := source.Columns()
	for _, o := range others {
		keys, err := keysOf(ctx, o, workers)
		if err != nil {
			return fmt.Errorf("the dataset %s: %w", o.Dataset, err)
		}
		for c, name := range names {
			if keys != nil && e.couldRefer(name, keys) {
				pairs = append(pairs, pair{c, keys})
			}
		}
	}
	if len(pairs) == 0 {
		return nil
	}
	type tally struct {
		filled, known int64
		met           map[string]bool
		unknown       map[string]bool
	}
	at := make([]int, len(pairs))
	for i, p := range pairs {
		at[i] = p.column
	}
	begin := func() []tally {
		out := make([]tally, len(pairs))
		for i := range out {
			out[i].met, out[i].unknown = map[string]bool{}, map[string]bool{}
		}
		return out
	}
	work := func(all []tally, r *relation.Readers, b *table.Batch) {
		for i, p := range pairs {
			for row := range b.Rows {
				cell := r.Cell(b, i, row)
				if cell.Missing {
					continue
				}
				t := &all[i]
				t.filled++
				// The text stands in the bytes of the batch, which do not last.
				switch text := cell.Identity(b.Columns[p.column].At(row)); {
				case !p.keys.known[text]:
					if len(t.unknown) < unknownNamed && !t.unknown[text] {
						t.unknown[string([]byte(text))] = true
					}
				case !t.met[text]:
					t.met[string([]byte(text))] = true
					fallthrough
				default:
					t.known++
				}
			}
		}
	}
	whole := begin()
	err := relation.Scan(ctx, &relation.Table{Source: source, Book: e.Draft, Workers: workers}, at, begin, work, func(part []tally) {
		for i := range whole {
			whole[i].filled += part[i].filled
			whole[i].known += part[i].known
			for text := range part[i].met {
				whole[i].met[text] = true
			}
			for text := range part[i].unknown {
				whole[i].unknown[text] = true
			}
		}
	})
	if err != nil {
		return err
	}
	for i, p := range pairs {
		t := &whole[i]
		if t.known*10 < t.filled*referenceShare || len(t.met) < referenceKeys {
			continue
		}
		one := reference{column: names[p.column], to: p.keys.to, filled: t.filled, known: t.known, met: len(t.met), keys: len(p.keys.known),
			unknown: sortedFirst(t.unknown)}
		never := map[string]bool{}
		for text := range p.keys.known {
			if !t.met[text] {
				never[text] = true
			}
		}
		one.never = sortedFirst(never)
		same := slices.IndexFunc(e.References, func(r reference) bool { return r.column == one.column })
		switch {
		case same < 0:
			e.References = append(e.References, one)
		case e.References[same].known < one.known || e.References[same].known == one.known && e.References[same].keys > one.keys:
			e.References[same] = one
		}
	}
	return nil
}

func sortedFirst(texts map[string]bool) []string {
	var out []string
	for text := range texts {
		out = append(out, text)
	}
	slices.Sort(out)
	return out
}

// couldRefer reports whether a column is worth a look: most of its frequent texts are keys. Whole numbers are anything's
// keys, so that their names must speak for it too.
func (e *evidence) couldRefer(name string, keys *ofKeys) bool {
	c := e.Past[0].Column(name)
	if c == nil || c.Filled == 0 || c.Distinct < referenceKeys || c.Dates != nil || slices.Contains(e.Measures, name) && !keys.integer ||
		c.Type == table.TypeDecimal {
		return false
	}
	if (keys.integer || c.Numbers != nil) && !namedAlike(name, keys.to.Columns[0]) && !namedAlike(name, keys.to.Dataset) {
		return false
	}
	known := 0
	for _, t := range c.Frequent {
		if keys.folded[table.Fold(t.Text)] {
			known++
		}
	}
	return known*2 >= len(c.Frequent)
}

// refers returns the reference of a column; nil where it has none.
func (e *evidence) refers(column string) *reference {
	for i := range e.References {
		if e.References[i].column == column {
			return &e.References[i]
		}
	}
	return nil
}

// references are those that hold or nearly hold.
func (w *proposal) references() {
	for _, r := range w.References {
		evidence := "every value is one"
		if r.known < r.filled {
			evidence = fmt.Sprintf("%d of %d cells hold none: %s", r.filled-r.known, r.filled, firstOf(r.unknown))
		}
		id := rulebook.IDOf(r.column + "_known")
		w.add(sectionReferences, id, Part{Fields: []string{"id: " + id, "columns: [" + rulebook.Quoted(r.column) + "]",
			fmt.Sprintf("to: {dataset: %s, columns: [%s]}", r.to.Dataset, rulebook.List(r.to.Columns))}, Evidence: evidence})
	}
}

// coverage are the tables that nearly every row of another dataset occurs in.
func (w *proposal) coverage() {
	for _, r := range w.References {
		if r.met*10 < r.keys*referenceShare || r.to.Dataset == w.Dataset {
			continue
		}
		evidence := fmt.Sprintf("all %s occur", document.Grouped(int64(r.keys)))
		if r.met < r.keys {
			evidence = fmt.Sprintf("%d of %d do not occur: %s", r.keys-r.met, r.keys, firstOf(r.never))
		}
		id := rulebook.IDOf("covers_" + r.to.Dataset + "_" + r.column)
		w.add(sectionTableRules, id, Part{Fields: []string{"id: " + id, "check: covers", "in: " + rulebook.Quoted(r.column),
			fmt.Sprintf("with: {dataset: %s, columns: [%s]}", r.to.Dataset, rulebook.List(r.to.Columns)), "severity: minor"}, Evidence: evidence})
	}
}

// firstOf names the first of some texts.
func firstOf(texts []string) string {
	out := make([]string, 0, unknownNamed)
	for _, t := range texts[:min(len(texts), unknownNamed)] {
		out = append(out, strconv.Quote(t))
	}
	if len(texts) >= unknownNamed {
		return strings.Join(out, ", ") + ", …"
	}
	return document.Join(out)
}
