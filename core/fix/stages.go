package fix

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"proudsieve/core/document"
	"proudsieve/core/scratch"
)

// Stages keep what runs had done when a step had looked at the whole table, so that a run of a plan that begins with the same
// steps on the same table goes on from there: whoever changes a late step of a plan does not wait for the early ones again.
// They are kept for a short time, a few at once, in files without a name. The zero value is ready for use, by several
// goroutines at once.
type Stages struct {
	mutex sync.Mutex
	kept  []*stage // the newest last
}

const (
	// stagesKept is how many stages are kept at once, and stageAge for how long.
	stagesKept = 6
	stageAge   = 10 * time.Minute
)

// stage is a run after so many steps, of which those that are pending are not done yet.
type stage struct {
	key     string
	steps   []string // as the text of the plan has them
	since   time.Time
	frame   *Frame
	source  *spool
	pending []int
	run     run
}

// find returns the stage that is the furthest on the way of a plan, held for the caller; nil for none.
func (s *Stages) find(key string, plan []Step) *stage {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.expire()
	var best *stage
	for _, one := range s.kept {
		if one.key == key && len(one.steps) <= len(plan) && (best == nil || len(one.steps) > len(best.steps)) &&
			!slices.ContainsFunc(plan[:len(one.steps)], func(p Step) bool { return p.source == "" }) &&
			slices.EqualFunc(one.steps, plan[:len(one.steps)], func(source string, p Step) bool { return source == p.source }) {
			best = one
		}
	}
	if best == nil {
		return nil
	}
	return best.copied()
}

// keep takes stages over.
func (s *Stages) keep(all []*stage) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for _, one := range all {
		one.since = time.Now()
		s.kept = append(s.kept, one)
	}
	s.expire()
	for len(s.kept) > stagesKept {
		s.kept[0].release()
		s.kept = s.kept[1:]
	}
}

func (s *Stages) expire() {
	s.kept = slices.DeleteFunc(s.kept, func(one *stage) bool {
		old := time.Since(one.since) > stageAge
		if old {
			one.release()
		}
		return old
	})
}

// Len returns how many there are.
func (s *Stages) Len() int {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return len(s.kept)
}

// Close lets go of all of them.
func (s *Stages) Close() {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for _, one := range s.kept {
		one.release()
	}
	s.kept = nil
}

// stageOf keeps what a run has done once the step before so many has looked at the whole table; t is the table that it left.
func stageOf(key string, r *run, t *Table, steps int) *stage {
	s := &stage{key: key, frame: t.Frame, source: t.source.(*spool), pending: t.pending, run: *r}
	for _, step := range r.steps[:steps] {
		s.steps = append(s.steps, step.source)
	}
	return s.copied()
}

// copied returns a stage of its own, whose files are shared.
func (s *stage) copied() *stage {
	out := *s
	out.source.held.Add(1)
	out.pending = slices.Clone(s.pending)
	n := len(s.steps)
	out.run = run{rowsIn: s.run.rowsIn, rows: s.run.rows, unheaded: s.run.unheaded, sumsIn: slices.Clone(s.run.sumsIn), sums: slices.Clone(s.run.sums),
		log: s.run.log.shared(n + 1), drawn: s.run.drawn.shared(n)}
	for i := range s.run.steps[:n] {
		out.run.steps = append(out.run.steps, s.run.steps[i].copied())
	}
	for _, m := range s.run.marks {
		if m.step >= 0 && m.step < n {
			copied := newMarked(m.how, m.step, m.column)
			copied.how.Rows = m.how.Rows.Clone()
			out.run.marks = append(out.run.marks, copied)
		}
	}
	return &out
}

// copied returns a step of its own, which shares with the other what Edit and Drop look at.
func (s *bound) copied() bound {
	out := *s
	out.told = told{counts: maps.Clone(s.told.counts), undecided: slices.Clone(s.told.undecided), open: s.told.open}
	for _, r := range s.told.refused {
		r.Places = slices.Clone(r.Places)
		out.told.refused = append(out.told.refused, r)
	}
	out.sums, out.examples, out.moments = slices.Clone(s.sums), slices.Clone(s.examples), slices.Clone(s.moments)
	if s.kept != nil {
		work := *s.work
		out.work, work.Close = &work, s.kept.share()
	}
	return out
}

// release lets go of the files of a stage.
func (s *stage) release() {
	s.source.close()
	s.run.close()
	for i := range s.run.steps {
		if work := s.run.steps[i].work; work != nil && work.Close != nil {
			work.Close()
		}
	}
}

// goOn makes the table of a run that begins as the stage does, which is used up.
func (s *stage) goOn(r *run) *Table {
	t := &Table{run: r, source: s.source, Frame: s.frame, pending: s.pending, step: -1}
	n := len(s.steps)
	copy(r.steps, s.run.steps)
	r.rowsIn, r.rows, r.unheaded, r.sumsIn, r.sums = s.run.rowsIn, s.run.rows, s.run.unheaded, s.run.sumsIn, s.run.sums
	copy(r.log.held, s.run.log.held)
	copy(r.log.files, s.run.log.files)
	copy(r.log.sizes, s.run.log.sizes)
	copy(r.drawn.held, s.run.drawn.held)
	copy(r.drawn.files, s.run.drawn.files)
	copy(r.drawn.sizes, s.run.drawn.sizes)
	for _, m := range s.run.marks {
		at := slices.IndexFunc(r.marks, func(o *marked) bool { return o.step == m.step })
		r.marks[at] = m
	}
	for i := range r.steps[:n] {
		if work := r.steps[i].work; work != nil && work.Close != nil {
			t.works = append(t.works, work)
		}
	}
	return t
}

// held counts who uses something that is given back once nobody does.
type held struct {
	users atomic.Int32
	free  func()
}

// share returns what one more user calls when it needs the thing no more; called again, it does nothing.
func (h *held) share() func() {
	h.users.Add(1)
	return sync.OnceFunc(func() {
		if h.users.Add(-1) == 0 {
			h.free()
		}
	})
}

// sharedFile is a file without a name that several runs read; one of them, the first, writes it.
type sharedFile struct {
	*os.File
	users atomic.Int32
}

func newSharedFile(what string) (*sharedFile, error) {
	f, err := scratch.File(what)
	if err != nil {
		return nil, err
	}
	s := &sharedFile{File: f}
	s.users.Add(1)
	return s, nil
}

// Close gives the file back once nobody uses it any more.
func (f *sharedFile) Close() error {
	if f.users.Add(-1) > 0 {
		return nil
	}
	return f.File.Close()
}

// shared returns the first sections, to be read by another run as well.
func (s *sections) shared(n int) *sections {
	out := newSections(n)
	for i := range n {
		out.held[i], out.sizes[i], out.files[i] = slices.Clone(s.held[i]), s.sizes[i], s.files[i]
		if s.files[i] != nil {
			s.files[i].users.Add(1)
		}
	}
	return out
}

// sourceOf writes a node of a plan's text in one way, however it was laid out.
func sourceOf(n *document.Node) string {
	var b strings.Builder
	var write func(n *document.Node)
	write = func(n *document.Node) {
		fmt.Fprintf(&b, "%d%q", n.Kind, n.Text)
		for _, item := range n.Items {
			b.WriteString("-")
			write(item)
		}
		for _, e := range n.Entries {
			fmt.Fprintf(&b, "%q:", e.Name)
			write(e.Value)
		}
		b.WriteString(";")
	}
	write(n)
	return b.String()
}
