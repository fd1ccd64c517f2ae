package audit

import (
	"context"
	"slices"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Measured reads a table for its rows and the exact sums of some columns alone: what an audit says of these, in a part of its
// time. Columns that the table does not have are left out.
func Measured(ctx context.Context, source table.Source, book *rulebook.Rulebook, columns []string, workers int) (*Result, error) {
	names := source.Columns()
	v := &measuring{counted: book, width: len(names)}
	for _, m := range columns {
		if at := slices.Index(names, m); at >= 0 {
			v.measures = append(v.measures, measured{name: m, at: at})
		}
	}
	read := &Result{Sums: map[string]string{}}
	if err := table.ScanStretches(ctx, source, workers, v.begin, (*summing).add, (*summing).end, func(s *summing) error {
		read.Rows += s.rows
		for i, sum := range s.sums {
			v.measures[i].sum = v.measures[i].sum.Add(sum)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	for _, m := range v.measures {
		read.Sums[m.name] = m.sum.Shortest()
	}
	return read, nil
}

// measuring is a table that is read so.
type measuring struct {
	counted  *rulebook.Rulebook
	width    int
	measures []measured
}

type measured struct {
	name string
	at   int
	sum  table.Decimal
}

// summing is a stretch of it.
type summing struct {
	of           *measuring
	rows         int64
	dictionaries []*table.Dictionary
	cells        []*rulebook.Cells // by measure
	met          [][]int64         // by measure and code, the rows
	sums         []table.Decimal
}

func (v *measuring) begin() (*summing, []*table.Dictionary) {
	s := &summing{of: v, dictionaries: make([]*table.Dictionary, v.width), met: make([][]int64, len(v.measures)),
		sums: make([]table.Decimal, len(v.measures))}
	for _, m := range v.measures {
		s.dictionaries[m.at] = table.NewDictionary()
		s.cells = append(s.cells, v.counted.Cells(m.name))
	}
	return s, s.dictionaries
}

func (s *summing) add(b *table.Batch) error {
	s.rows += int64(b.Len())
	for i, m := range s.of.measures {
		d := s.dictionaries[m.at]
		if d.Apart {
			for code := range d.Tokens {
				s.sum(i, uint32(code), 1)
			}
			continue
		}
		met := s.met[i]
		met = append(met, make([]int64, len(d.Tokens)-len(met))...)
		for _, code := range b.Columns[m.at].Codes {
			met[code]++
		}
		if s.met[i] = met; table.MostlyNew(len(met), int(s.rows), s.of.width) {
			s.sumMet(i)
			d.Reset()
			d.Apart = true
		}
	}
	return nil
}

func (s *summing) end() error {
	for i := range s.of.measures {
		s.sumMet(i)
	}
	return nil
}

// sumMet adds what was met of a measure since the stretch began.
func (s *summing) sumMet(measure int) {
	for code, rows := range s.met[measure] {
		s.sum(measure, uint32(code), rows)
	}
	s.met[measure] = nil
}

func (s *summing) sum(measure int, code uint32, rows int64) {
	d, cells := s.dictionaries[s.of.measures[measure].at], s.cells[measure]
	if !cells.Type.IsNumber() {
		return
	}
	number := table.Decimal{}
	if _, coefficient, scale, ok := cells.Number(d.Tokens[code]); ok {
		number = table.DecimalOf(coefficient, scale)
	} else if v := cells.Read(d.Text(code)).Value; v.Kind == table.Number {
		number = v.Number
	}
	if rows != 1 {
		number = number.Times(rows)
	}
	s.sums[measure] = s.sums[measure].Add(number)
}
