package condition

import (
	"slices"

	"proudsieve/core/table"
)

// Memory is what evaluators share: room for results that are of no use once a batch is done,
// and how much each may remember beyond it.
type Memory struct {
	most   int // values of a column
	values rooms[table.Value]
	truths rooms[Truth]
	words  rooms[int64]
}

// NewMemory returns the memory of so many evaluators, which together remember no more than
// some ten megabytes.
func NewMemory(evaluators int) *Memory { return &Memory{most: rememberedValues / max(evaluators, 1)} }

// rooms hand out slices, which are good until the next batch.
type rooms[T any] struct {
	all  [][]T
	used int
}

func (r *rooms[T]) take(n int) []T {
	if r.used == len(r.all) {
		r.all = append(r.all, nil)
	}
	room := &r.all[r.used]
	if r.used++; cap(*room) < n {
		*room = make([]T, n*5/4)
	}
	return (*room)[:n]
}

// step holds the results of an operation for each of a column's values, the first of them
// still valid at the next evaluation.
type step[T any] struct {
	perValue []T
	valid    int
}

type steps[S any] struct {
	all  []*S
	used int
}

func (s *steps[S]) next() *S {
	if s.used == len(s.all) {
		s.all = append(s.all, new(S))
	}
	s.used++
	return s.all[s.used-1]
}

// stepOf returns the next step of a kind, and room of the same kind.
func stepOf[T any](e *evaluation) (*step[T], *rooms[T]) {
	if s, ok := any(&e.values).(*steps[step[T]]); ok {
		return s.next(), any(&e.memory.values).(*rooms[T])
	}
	if s, ok := any(&e.truths).(*steps[step[T]]); ok {
		return s.next(), any(&e.memory.truths).(*rooms[T])
	}
	return any(&e.words).(*steps[step[T]]).next(), any(&e.memory.words).(*rooms[T])
}

// place is where the results of an operation go: those from a value on are to be worked out.
type place[T any] struct {
	vector[T]
	from int
}

// placeFor returns the place for the results of the next step. Where there are more values
// to be worked out than rows, or too many to remember, it is done row by row. What is known of
// values outlives that.
func placeFor[T any](e *evaluation, s shape) place[T] {
	if s.codes == nil {
		return place[T]{vector: vector[T]{of: make([]T, 1)}}
	}
	step, rooms := stepOf[T](e)
	if !s.perRow {
		step.valid = min(step.valid, s.known)
		if from := step.valid; s.values-from <= e.n && s.values <= max(e.memory.most, e.n) {
			step.perValue = slices.Grow(step.perValue[:from], s.values-from)[:s.values]
			step.valid = s.values
			return place[T]{vector[T]{of: step.perValue, codes: s.codes, known: from}, from}
		}
	}
	return place[T]{vector[T]{of: rooms.take(e.n), codes: e.each(), perRow: true}, 0}
}
