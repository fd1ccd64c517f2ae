package delimited

import (
	"context"
	"errors"
	"io"
	"runtime"
	"slices"
	"sort"

	"proudsieve/core/guard"
	"proudsieve/core/table"
)

// Picked is one row taken out of a file.
type Picked struct {
	Row     uint32
	Line    int64
	Cells   []string
	Surplus []string // cells beyond the header's
}

// Pick reads single rows, given in ascending order. checkpoints, which may be empty, are
// those of an earlier reading of the same bytes and save reading from the start.
// Rows that the file does not have are left out.
func (t *Text) Pick(ctx context.Context, checkpoints []Checkpoint, rows []uint32) ([]Picked, error) {
	runs := min(runtime.GOMAXPROCS(0), len(rows)/scatteredRows)
	if runs < 2 || len(checkpoints) == 0 || rows[len(rows)-1]-rows[0] < scatteredOver {
		return t.pick(ctx, checkpoints, rows)
	}
	// Rows far from one another stand in many parts, which are looked into side by side.
	picked := make([][]Picked, runs)
	var group guard.Group
	for i := range runs {
		group.Go(func() (err error) {
			picked[i], err = t.pick(ctx, checkpoints, rows[len(rows)*i/runs:len(rows)*(i+1)/runs])
			return err
		})
	}
	err := group.Wait()
	return slices.Concat(picked...), err
}

// Places returns where the parts of a text begin that can be read from any place on.
func (t *Text) Places(ctx context.Context) ([]Checkpoint, error) {
	p, err := t.OpenAt(ctx, t.Body)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	var all []Checkpoint
	for {
		next, err := p.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		one := next.(*part)
		all = append(all, one.first)
		one.release()
	}
}

const (
	scatteredRows = 8
	scatteredOver = 50_000
)

func (t *Text) pick(ctx context.Context, checkpoints []Checkpoint, rows []uint32) ([]Picked, error) {
	out := make([]Picked, 0, len(rows))
	var p table.Parts
	defer func() {
		if p != nil {
			_ = p.Close()
		}
	}()
	first := uint32(1) // of the part that p hands out next
	for len(rows) > 0 {
		from, ok := checkpointFor(checkpoints, rows[0])
		if p == nil || ok && from.Row > first {
			if p != nil {
				_ = p.Close()
			}
			if !ok {
				from = t.Body
			}
			var err error
			if p, err = t.OpenAt(ctx, from); err != nil {
				return nil, err
			}
		}
		part, err := p.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		start, n := part.Span()
		first = start + uint32(n)
		if n == 0 || rows[0] >= first {
			continue
		}
		held := part.(interface {
			pick(i int) Picked
			release()
		})
		for len(rows) > 0 && rows[0] < first {
			out = append(out, held.pick(int(rows[0]-start)))
			rows = rows[1:]
		}
		held.release()
	}
	return out, nil
}

// pick takes one record apart, and leaves the others.
func (p *part) pick(i int) Picked {
	p.decode()
	r, width := p.records[i], len(p.text.Names)
	raw := p.data.bytes()[r.start : r.start+r.length]
	one := Picked{Row: p.first.Row + uint32(i), Line: r.line, Cells: make([]string, width)}
	for c, found := range p.text.scanner().appendCells(nil, raw, r.form) {
		text, _ := p.text.encode(string(found.content(raw)))
		if c < width {
			one.Cells[c] = text
		} else {
			one.Surplus = append(one.Surplus, text)
		}
	}
	return one
}

// checkpointFor returns the last checkpoint at or before a row, if reading can resume there.
func checkpointFor(checkpoints []Checkpoint, row uint32) (Checkpoint, bool) {
	at := sort.Search(len(checkpoints), func(i int) bool { return checkpoints[i].Row > row }) - 1
	if at < 0 || checkpoints[at].Offset < 0 {
		return Checkpoint{}, false
	}
	return checkpoints[at], true
}
